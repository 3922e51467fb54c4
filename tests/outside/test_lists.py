"""Lists of digests, held against the public tools that write and check them: GNU coreutils, and xxhsum of xxHash."""

from __future__ import annotations

import os
import subprocess
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.errors import MediaError
from diadoche.core.offload.lists import read_list
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import offload
from diadoche.core.offload.plan import PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Watch

NAMES = ["A.MOV", "dir/B.MOV", "with space ", "back\\slash", "new\nline", "ümlaut", os.fsdecode(b"\xffbad")]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    root = tmp_path / "elsewhere"
    (root / "dir").mkdir(parents=True)
    for number, name in enumerate(NAMES):
        (root / name).write_bytes(os.urandom(1000 + number))
    return root


def tool(words: list[str], folder: Path) -> bytes:
    return subprocess.run(words, cwd=folder, capture_output=True, check=True).stdout


# source: GNU coreutils manual, "md5sum invocation"; xxhsum(1)
@pytest.mark.parametrize(
    ("words", "name"),
    [
        (["md5sum"], "list.md5"),
        (["md5sum", "--binary"], "MD5SUMS"),
        (["md5sum", "--tag"], "list.md5"),
        (["sha1sum"], "list.sha1"),
        (["sha256sum"], "SHA256SUMS"),
        (["sha256sum", "--tag"], "list.sha256"),
        (["xxhsum", "-H64"], "list.xxh64"),
        (["xxhsum", "-H128"], "list.xxh128"),
        (["xxhsum", "-H128", "--tag"], "list.xxhash"),
        (["xxhsum", "-H3"], "list.xxh3"),
    ],
)
def test_a_list_that_a_public_tool_wrote_verifies(folder: Path, words: list[str], name: str) -> None:
    # xxhsum does not escape names, so it cannot list one with a line break.
    names = [each for each in NAMES if words[0] != "xxhsum" or ("\n" not in each and "\\" not in each)]
    for each in set(NAMES) - set(names):
        (folder / each).unlink()
    (folder / name).write_bytes(tool([*words, *names], folder))
    verdict = verify(folder, Watch())
    assert (verdict.ok, verdict.changed, verdict.missing, verdict.extra) == (len(names), (), (), ())
    assert verify(folder / name, Watch()).clean
    (folder / "A.MOV").write_bytes(b"changed")
    (folder / "dir/B.MOV").unlink()
    verdict = verify(folder, Watch())
    assert (verdict.changed, verdict.missing) == (("A.MOV",), ("dir/B.MOV",))


def test_our_side_list_is_checked_by_sha256sum(folder: Path, tmp_path: Path) -> None:
    plan = plan_offload(
        list_tree(folder), NamingValues("S", date(2026, 6, 14), "C"), (tmp_path / "a",),
        PlanOptions(digests=("xxh128", "sha256")),
    )  # fmt: skip
    result = offload(plan, Watch(), version="test", now=lambda: datetime.now(UTC))
    root = Path(result.copies[0].root)
    assert result.copies[0].status == "proven"
    lists = [path for path in root.rglob("*") if path.is_file() and "sha256" in path.name.lower()]
    assert len(lists) == 1
    checked = subprocess.run(
        ["sha256sum", "--check", "--strict", "--quiet", str(lists[0])], cwd=root, capture_output=True, check=False
    )
    assert checked.returncode == 0, checked.stderr
    (root / "A.MOV").write_bytes(b"changed")
    checked = subprocess.run(["sha256sum", "--check", str(lists[0])], cwd=root, capture_output=True, check=False)
    assert checked.returncode == 1
    assert b"A.MOV: FAILED" in checked.stdout


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (b"", "empty"),
        (b"# only a remark\n", "empty"),
        (b"this is a letter\n", "line 1"),
        (b"d41d8cd98f00b204e9800998ecf8427e  a\nnonsense\n", "line 2"),
        (b"abc  too short\n", "line 1"),
        (b"BLAKE2b (a) = " + b"0" * 128 + b"\n", "line 1"),
    ],
)
def test_what_is_no_list_is_named(tmp_path: Path, text: bytes, why: str) -> None:
    (tmp_path / "x.md5").write_bytes(text)
    with pytest.raises(MediaError, match=why):
        read_list(tmp_path / "x.md5")


def test_a_list_that_points_outside_is_not_followed(tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    secret.write_bytes(b"x")
    folder = tmp_path / "folder"
    folder.mkdir()
    (folder / "in").write_bytes(b"")
    (folder / "l.md5").write_text(
        f"9dd4e461268c8034f5c8564e155c67a6  ../secret\n9dd4e461268c8034f5c8564e155c67a6  {secret}\n"
        "d41d8cd98f00b204e9800998ecf8427e  ./in\n"
    )
    verdict = verify(folder, Watch())
    assert verdict.ok == 1
    assert len(verdict.problems) == 2
    assert not verdict.clean
