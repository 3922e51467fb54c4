"""The script that sets up: what it says where it can go no further, and what makes it set up anew."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent


def bash(words: str, folder: Path, path: Path) -> subprocess.CompletedProcess[str]:
    """Runs words of the set-up script's in a folder, with no commands but those of one folder."""
    return subprocess.run(
        ["/bin/bash", "-uc", f". {ROOT}/packaging/environment.sh\n{words}"],
        cwd=folder, env={"PATH": str(path), "HOME": str(folder)}, stdin=subprocess.DEVNULL,
        capture_output=True, text=True, check=False,
    )  # fmt: skip


@pytest.fixture
def commands(tmp_path: Path) -> Path:
    """A folder with the commands that every machine has, to which a test adds its own."""
    folder = tmp_path / "bin"
    folder.mkdir()
    for name in (
        "bash",
        "cat",
        "cut",
        "date",
        "env",
        "grep",
        "head",
        "readlink",
        "rm",
        "sed",
        "sha256sum",
        "sleep",
        "tail",
        "tee",
    ):
        found = next(place / name for place in (Path("/bin"), Path("/usr/bin")) if (place / name).exists())
        (folder / name).symlink_to(found)
    (tmp_path / "build").mkdir()
    return folder


def command(folder: Path, name: str, words: str) -> None:
    """A command that does what is told."""
    made = folder / name
    made.write_text(f"#!/bin/bash\n{words}\n")
    made.chmod(0o755)


NEED = 'need_commands no-such-command:its-package; echo "went on: $?"'


def test_no_apt_is_one_sentence(tmp_path: Path, commands: Path) -> None:
    done = bash(NEED, tmp_path, commands)
    assert (
        done.stderr
        == "its-package is not installed: please install what corresponds to Debian's packages its-package.\n"
    )
    assert "went on: 1" in done.stdout


def test_no_root_is_one_sentence(tmp_path: Path, commands: Path) -> None:
    command(commands, "apt-get", "echo asked >&2")
    command(commands, "id", "echo 1000")
    assert bash(NEED, tmp_path, commands).stderr == (
        "its-package is not installed: please let somebody who may run: apt-get install its-package\n"
    )


def test_a_lock_of_apt_is_waited_for_and_what_it_lacks_is_said(tmp_path: Path, commands: Path) -> None:
    command(commands, "id", "echo 0")
    command(
        commands,
        "apt-get",
        f'echo "$*" >>{tmp_path}/asked\n'
        f'[[ "$*" != *" update" ]] || [ "$(grep -c " update" {tmp_path}/asked)" -gt 1 ] '
        '|| { echo "E: Could not get lock /var/lib/apt/lists/lock"; exit 100; }\n'
        '[[ "$*" == *" update" ]] || { echo "E: Unable to locate package its-package"; exit 100; }',
    )
    done = bash(NEED, tmp_path, commands)
    assert done.stderr.endswith("could not install it (build/apt.log): E: Unable to locate package its-package\n")
    asked = (tmp_path / "asked").read_text().splitlines()
    assert [line.split()[3] for line in asked] == ["update", "update", "install"]


def test_other_locks_another_python_and_another_folder_are_told(tmp_path: Path, commands: Path) -> None:
    command(commands, "python3", "exit 0")
    folder = tmp_path / "one"
    (folder / ".venv" / "bin").mkdir(parents=True)
    for name in ("python", "diadoche"):
        command(folder / ".venv" / "bin", name, "exit 0")
    (folder / "a.lock").write_text("x==1\n")
    (folder / "pyproject.toml").write_text("")
    made = bash("stamp_of a.lock >.venv/stamp-1; is_current a.lock && echo yes", folder, commands)
    assert made.stdout == "yes\n", made.stderr

    def is_current(where: Path) -> bool:
        return bash("is_current a.lock && echo yes", where, commands).stdout == "yes\n"

    moved = tmp_path / "moved"
    script = moved / ".venv" / "bin" / "tool"
    (folder / ".venv" / "bin" / "tool").write_text(f"#!{folder}/.venv/bin/python\n")
    (folder / "build").mkdir()
    folder.rename(moved)
    assert not is_current(moved)
    assert "The folder was moved" in bash("mend_moved a.lock", moved, commands).stderr
    assert is_current(moved)
    assert script.read_text() == f"#!{moved}/.venv/bin/python\n"
    moved.rename(folder)
    assert not is_current(folder)
    assert bash("mend_moved a.lock && echo yes", folder, commands).stdout == "yes\n"
    assert is_current(folder)
    (folder / "a.lock").write_text("x==2\n")
    assert not is_current(folder)
    (folder / "a.lock").write_text("x==1\n")
    command(commands, "python3.99", "exit 0")
    (commands / "python3").unlink()
    (commands / "python3").symlink_to("python3.99")
    assert not is_current(folder)
