"""What runs on the window's thread asks no disk for anything: read from the source, call by call."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import diadoche

SOURCE = Path(diadoche.__file__).parent
_ASKS = {
    "exists", "is_file", "is_dir", "is_mount", "is_symlink", "stat", "lstat", "iterdir", "glob", "rglob", "resolve",
    "read_text", "read_bytes", "write_text", "write_bytes", "mkdir", "unlink", "rename", "samefile", "disk_usage",
    "statvfs", "scandir", "listdir", "rmtree", "copytree",
}  # fmt: skip
# Pictures for the documentation are taken by a program of its own; the person's own files are read in the background.
_MAY_ALL = {"ui/shots.py", "services/station/own_files.py"}
# Each with the reason why it may.
_MAY = {
    # Done in the background, or a file that comes with the program.
    ("screens/sources.py", "_folders_of"),
    ("ui/theme.py", "__init__"),
}


def calls(file: Path) -> Iterator[tuple[str, str, int]]:
    """What a file calls that asks a disk: the function it stands in, the name, and the line."""

    def below(node: ast.AST, function: str) -> Iterator[tuple[str, str, int]]:
        for child in ast.iter_child_nodes(node):
            inner = child.name if isinstance(child, ast.FunctionDef) else function
            if isinstance(child, ast.Call):
                name = child.func.attr if isinstance(child.func, ast.Attribute) else getattr(child.func, "id", "")
                if name in _ASKS or (isinstance(child.func, ast.Name) and name == "open"):
                    yield inner, name, child.lineno
            yield from below(child, inner)

    yield from below(ast.parse(file.read_text("utf-8")), "")


def test_screens_station_and_window_ask_no_disk() -> None:
    found = []
    for part in ("screens", "ui", "services/station"):
        for file in sorted((SOURCE / part).rglob("*.py")):
            own = file.relative_to(SOURCE).as_posix()
            if own not in _MAY_ALL:
                found += [(own, *call) for call in calls(file) if (own, call[0]) not in _MAY]
    assert found == []


def test_copies_are_asked_for_by_what_is_known_of_disks() -> None:
    """Without being told how, the ledger's queries would look whether folders are there themselves."""
    without = []
    for part in ("screens", "ui", "services/station"):
        for file in sorted((SOURCE / part).rglob("*.py")):
            for node in ast.walk(ast.parse(file.read_text("utf-8"))):
                if isinstance(node, ast.Call) and getattr(node.func, "id", "") in {"kept_clips", "delivered"}:
                    needed = {"kept_clips": 3, "delivered": 2}[node.func.id]  # type: ignore[attr-defined]
                    if len(node.args) < needed:
                        without.append((file.name, node.lineno))
    assert without == []


def test_the_search_finds_what_it_looks_for(tmp_path: Path) -> None:
    file = tmp_path / "a.py"
    file.write_text(
        "def look(path):\n    if path.is_file():\n        return open(path)\n    return shutil.disk_usage(path)\n"
    )
    assert [(name, line) for _, name, line in calls(file)] == [("is_file", 2), ("open", 3), ("disk_usage", 4)]
