"""The wheel holds all that runs, and what a desktop needs; its own validators say so."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
_DESKTOP = ROOT / "packaging" / "desktop"


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Built of the files that are kept, so that nothing of this folder helps out."""
    source, made = tmp_path_factory.mktemp("source"), tmp_path_factory.mktemp("wheel")
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, source)
    for name in ("src", "packaging"):
        shutil.copytree(ROOT / name, source / name, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    words = [
        sys.executable,
        "-m",
        "pip",
        "wheel",
        "-q",
        "--no-deps",
        "--no-build-isolation",
        "-w",
        str(made),
        str(source),
    ]
    subprocess.run(words, check=True, capture_output=True)
    (found,) = made.glob("*.whl")
    return found


def test_the_wheel_holds_every_file_of_the_program(wheel: Path) -> None:
    with zipfile.ZipFile(wheel) as file:
        held = set(file.namelist())
    program = {
        path.relative_to(ROOT / "src").as_posix()
        for path in (ROOT / "src" / "diadoche").rglob("*")
        if path.is_file() and "__pycache__" not in path.parts
    }
    assert program - held == set()
    beside = {name.partition(".data/data/")[2] for name in held if ".data/data/" in name}
    assert beside == {
        "share/applications/diadoche.desktop",
        "share/metainfo/diadoche.metainfo.xml",
        "share/icons/hicolor/scalable/apps/diadoche.svg",
    }


def test_an_unpacked_wheel_runs_without_this_folder(wheel: Path, tmp_path: Path) -> None:
    """Unpacked by hand: an installer would take away what the tests themselves run on."""
    with zipfile.ZipFile(wheel) as file:
        file.extractall(tmp_path)
    # What it rests on comes from the environment of the tests; the program itself from the wheel alone.
    environment = {**os.environ, "PYTHONPATH": str(tmp_path), "PYTHONSAFEPATH": "1"}
    script = "import diadoche, sys; print(diadoche.__file__); from diadoche.main import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", script, "recipes", "--json"],
        env=environment,
        cwd=tmp_path,
        check=True,
        capture_output=True,
        text=True,
    )
    first, _, rest = done.stdout.partition("\n")
    assert Path(first).is_relative_to(tmp_path)
    assert "prores-422" in {recipe["name"] for recipe in json.loads(rest)}
    (entries,) = tmp_path.glob("*.dist-info/entry_points.txt")
    assert "diadoche = diadoche.main:main" in entries.read_text("utf-8")


def test_the_desktop_entry_and_the_metainfo_are_valid() -> None:
    """By desktop-file-validate and appstreamcli. The program has no domain: neither a reversed one as its id, nor a homepage."""
    entry = subprocess.run(
        ["desktop-file-validate", str(_DESKTOP / "diadoche.desktop")], capture_output=True, text=True, check=False
    )
    assert (entry.returncode, entry.stdout + entry.stderr) == (0, "")
    words = ["appstreamcli", "validate", "--no-net", "--no-color", str(_DESKTOP / "diadoche.metainfo.xml")]
    told = subprocess.run(words, capture_output=True, text=True, check=False).stdout
    wrong = re.findall(r"^([EW]): diadoche:\S+ (\S+)", told, re.MULTILINE)
    assert {tag for _kind, tag in wrong} <= {"cid-desktopapp-is-not-rdns", "url-homepage-missing"}, told
    assert ("W", "cid-desktopapp-is-not-rdns") in wrong or "cid-desktopapp-is-not-rdns" in told


def test_the_desktop_entry_calls_what_there_is() -> None:
    lines = dict(line.split("=", 1) for line in (_DESKTOP / "diadoche.desktop").read_text("utf-8").splitlines()[1:])
    assert lines["Exec"] == "diadoche open %f"
    assert (ROOT / "src/diadoche/ui" / f"{lines['Icon']}.svg").is_file()
