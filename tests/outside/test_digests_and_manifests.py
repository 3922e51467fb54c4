"""Digests against published vectors and public tools; manifests against the reference implementation of ASC MHL."""

from __future__ import annotations

import os
import subprocess
import sys
from datetime import UTC, date, datetime
from pathlib import Path

import pytest

from diadoche.core.cards.tree import list_tree
from diadoche.core.offload.digests import DIGESTS, digest_bytes
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import offload
from diadoche.core.offload.plan import PlanOptions, plan_offload
from diadoche.core.offload.verify import verify
from diadoche.core.watch import Watch

REFERENCE = Path(sys.executable).with_name("ascmhl")


@pytest.mark.parametrize(
    ("name", "data", "wanted"),
    [
        # RFC 1321, appendix A.5.
        ("md5", b"", "d41d8cd98f00b204e9800998ecf8427e"),
        ("md5", b"message digest", "f96b697d7cb7938d525a2f31aaf161d0"),
        # FIPS 180-4 example values for SHA-1, one block.
        ("sha1", b"abc", "a9993e364706816aba3e25717850c26c9cd0d89d"),
        # The xxHash specification's test vectors, seed 0.
        ("xxh64", b"", "ef46db3751d8e999"),
        ("xxh128", b"", "99aa06d3014798d86001c324468d497f"),
        ("xxh3", b"", "2d06800538d394c2"),
        # SMPTE ST 2114 (C4): the identifier of an empty file, from memory.
        ("c4", b"", "c459dsjfscH38cYeXXYogktxf4Cd9ibshE3BHUo6a58hBXmRQdZrAkZzsWcbWtDg5oQstpDuni4Hirj75GEmTc1sFT"),
    ],
)
def test_published_vectors(name: str, data: bytes, wanted: str) -> None:
    digest = DIGESTS[name]()
    digest.update(data)
    assert digest.hexdigest() == wanted


def test_c4_there_and_back() -> None:
    digest = DIGESTS["c4"]()
    digest.update(b"abc")
    # FIPS 180-4 example: SHA-512 of "abc" begins with these bytes.
    assert digest_bytes(digest.hexdigest(), "c4").hex().startswith("ddaf35a193617abacc417349ae204131")


@pytest.fixture
def card(tmp_path: Path) -> Path:
    root = tmp_path / "card"
    (root / "A/EMPTY").mkdir(parents=True)
    for number, name in enumerate(("A/one.mp4", "A/ü 😀 & <x>.mov", ".hidden", "A/zero")):
        (root / name).write_bytes(os.urandom(100_000 * (number % 4)))
    return root


def copied(card: Path, place: Path, *digests: str) -> Path:
    plan = plan_offload(
        list_tree(card), NamingValues("S", date(2026, 6, 14), "C"), (place,), PlanOptions(digests=digests)
    )
    result = offload(plan, Watch(), version="test", now=lambda: datetime.now(UTC))
    assert result.copies[0].status == "proven"
    return Path(result.copies[0].root)


def reference(*words: str | Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run([REFERENCE, *map(str, words)], capture_output=True, text=True, check=False)


@pytest.mark.parametrize(
    ("name", "tool"), [("md5", "md5sum"), ("sha1", "sha1sum"), ("xxh128", "xxh128sum"), ("xxh64", "xxh64sum")]
)
def test_digests_of_a_real_copy_by_public_tools(card: Path, tmp_path: Path, name: str, tool: str) -> None:
    root = copied(card, tmp_path / "a", name)
    manifest = next((root / "ascmhl").glob("*.mhl")).read_text()
    for path in (root / "A/one.mp4", root / ".hidden"):
        said = subprocess.run([tool, str(path)], capture_output=True, text=True, check=True).stdout.split()[0]
        assert f">{said.lstrip(chr(92))}</{name}>" in manifest


@pytest.mark.parametrize("digests", [("xxh128",), ("md5", "xxh64"), ("c4",), ("sha1",), ("xxh3",)])
def test_the_reference_implementation_finds_our_copy_right(
    card: Path, tmp_path: Path, digests: tuple[str, ...]
) -> None:
    # ASC MHL reference implementation ("ascmhl" on PyPI): `diff` compares names, a new generation compares content,
    # and directory hashes are compared with ours when it adds its own.
    root = copied(card, tmp_path / "a", *digests)
    assert reference("diff", root).returncode == 0
    again = reference("create", "-v", *(word for name in digests for word in ("-h", name)), root)
    assert again.returncode == 0, again.stdout + again.stderr
    assert "ERROR" not in again.stdout + again.stderr
    second = sorted((root / "ascmhl").glob("0002*.mhl"))[0].read_text()
    first = sorted((root / "ascmhl").glob("0001*.mhl"))[0].read_text()
    root_hash = [
        line.split(">")[1].split("<")[0]
        for line in second.split("<roothash>")[1].split("</roothash>")[0].splitlines()
        if "hashdate" in line
    ]
    assert len(root_hash) == 2 * len(digests)
    assert all(each in first for each in root_hash)
    assert verify(root, Watch()).clean


def test_the_reference_implementation_finds_a_damaged_and_a_missing_file(card: Path, tmp_path: Path) -> None:
    root = copied(card, tmp_path / "a")
    (root / "A/one.mp4").write_bytes(b"damaged")
    (root / ".hidden").unlink()
    done = reference("create", root)
    assert done.returncode != 0
    assert "A/one.mp4" in done.stdout + done.stderr
    assert ".hidden" in done.stdout + done.stderr


def test_we_verify_what_the_reference_implementation_wrote(card: Path) -> None:
    assert reference("create", "-h", "md5", "-h", "c4", card).returncode == 0
    assert reference("create", "-h", "xxh64", card).returncode == 0
    verdict = verify(card, Watch())
    assert verdict.clean, verdict
    assert verdict.files == 4
    (card / "A/zero").write_bytes(b"changed")
    (card / ".hidden").unlink()
    (card / "new").write_bytes(b"x")
    verdict = verify(card, Watch())
    assert (verdict.changed, verdict.missing, verdict.extra) == (("A/zero",), (".hidden",), ("new",))
