"""How the command line answers what nobody meant, and what shells and readers make of its help."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from diadoche.cli.app import VERBS
from tests.conftest import diadoche
from tests.mounts import Mounter
from tests.recordings import cut_off
from tests.system_bus import wait_until

pytestmark = pytest.mark.usefixtures("own_state")
MAIN = [sys.executable, "-m", "diadoche.main"]


def test_help_version_and_recipes_load_no_media_library_and_no_database() -> None:
    for word in ("--help", "--version", "recipes"):
        code = (
            f"import sys; sys.argv = ['diadoche', {word!r}]\nfrom diadoche.main import main\n"
            "try:\n    main()\nexcept SystemExit:\n    pass\n"
            "print([name for name in ('av', 'numpy', 'sqlalchemy', 'cv2', 'PyQt6', 'pydantic') if name in sys.modules])"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        assert done.stdout.splitlines()[-1] == "[]"


def test_help_lists_every_verb_in_the_order_of_work_and_each_has_its_own() -> None:
    told = diadoche("--help").stdout
    places = [told.index(f"\n  {verb.name} ") for verb in VERBS]
    assert places == sorted(places)
    for verb in VERBS:
        done = diadoche(verb.name, "--help")
        assert done.returncode == 0
        # What the list says and what the verb says of itself begin alike.
        assert verb.line.split()[0] in done.stdout
    unknown = diadoche("ofload")
    assert unknown.returncode == 2
    assert "ofload" in unknown.stderr


def test_a_mistyped_shoot_is_not_begun(tmp_path: Path, drone: Path) -> None:
    assert diadoche("offload", drone, "--to", tmp_path / "a", "--shoot", "Rock").returncode == 0
    target = tmp_path / "hand.otio"
    told = diadoche("handoff", "Rok", "--to", target, "--json")
    assert told.returncode == 2
    assert "no shoot called Rok" in told.stdout
    assert "Rock" in told.stdout
    assert not target.exists()
    # And it is still not there.
    assert "Rok," not in diadoche("handoff", "nothing", "--to", target).stderr


def test_a_damaged_ledger_stops_neither_looking_nor_offloading(own_state: Path, tmp_path: Path, drone: Path) -> None:
    ledger = own_state / "state" / "diadoche" / "ledger.sqlite"
    ledger.parent.mkdir(parents=True, exist_ok=True)
    ledger.write_bytes(b"this is no database" * 1000)
    looked = diadoche("look", drone, "--json")
    assert looked.returncode == 1
    told = json.loads(looked.stdout)
    assert len(told["clips"]) == 3
    assert told["proven_before"] is None
    assert told["problems"]
    made = diadoche("offload", drone, "--to", tmp_path / "a", "--json")
    assert made.returncode == 1
    told = json.loads(made.stdout)
    assert [copy["status"] for copy in told["copies"]] == ["proven"]
    assert "not in the ledger" in told["problems"][-1]["what"]
    assert ledger.read_bytes().startswith(b"this is no database")


def test_what_was_made_before_a_clip_failed_is_told(tmp_path: Path, drone: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    shutil.copy(drone / "DCIM/100DRONE/DRON0001.MP4", folder / "A0001.MP4")
    (folder / "B0001.MP4").write_bytes(b"no film at all" * 500)
    told = diadoche("rewrap", folder / "A0001.MP4", folder / "B0001.MP4", "--to", tmp_path / "out", "--json")
    assert told.returncode == 1
    first, second = json.loads(told.stdout)
    assert Path(first["output"]).is_file()
    assert second["output"] in {"", None}
    assert second["problems"]


def test_a_folder_without_clips_is_a_problem(tmp_path: Path) -> None:
    empty = tmp_path / "empty"
    empty.mkdir()
    told = diadoche("rewrap", empty, "--to", tmp_path / "out", "--json")
    assert told.returncode == 1
    assert "no clip" in json.loads(told.stdout)["problems"][0]["what"]


@pytest.mark.parametrize(
    "words",
    [
        ["look", "NO"], ["identify", "NO"], ["offload", "NO", "--to", "x"], ["verify", "NO"],
        ["rewrap", "NO", "--to", "x"], ["convert", "NO", "--to", "x", "--recipe", "prores-422"],
        ["stitch", "NO", "--to", "x.mov"], ["take-in", "NO"], ["copy-on", "NO", "--to", "x"], ["complete", "NO"],
        ["estimate", "NO", "--to", "x"], ["level", "NO", "NO"], ["rebuild", "NO"],
    ],
    ids=lambda words: words[0],
)  # fmt: skip
def test_a_path_that_is_not_there_makes_no_sense_to_any_verb(words: list[str], tmp_path: Path) -> None:
    own = [str(tmp_path / word) if word in {"NO", "x", "x.mov"} else word for word in words]
    done = diadoche(*own)
    assert done.returncode == 2, done.stderr
    assert "Traceback" not in done.stderr
    assert [path.name for path in tmp_path.iterdir() if path.name != "xdg"] == []


def test_a_disk_that_has_gone_is_a_problem_of_that_disk(
    own_state: Path, drone: Path, faulty: Mounter, tmp_path: Path
) -> None:
    """Its file system has ended under it: every question about it fails."""
    disk = faulty(drone)
    disk.die()
    # The kernel remembers for a second that the folder was there.
    wait_until(lambda: _fails(disk.point), 30, "the folder is seen to be gone")
    point, place = str(disk.point), str(tmp_path / "a")
    for words in (["look", point], ["offload", point, "--to", place], ["verify", point]):
        done = diadoche(*words, "--json")
        assert done.returncode == 1, done.stderr
        (problem,) = json.loads(done.stdout)["problems"]
        assert f"{disk.point} cannot be reached" in problem["what"]
    assert not (own_state / "state" / "diadoche" / "reports").exists()


def _fails(path: Path) -> bool:
    try:
        path.stat()
    except OSError:
        return True
    return False


def test_an_unforeseen_error_is_a_problem_with_a_report(own_state: Path, tmp_path: Path) -> None:
    """The state folder is a file: nobody foresaw that."""
    code = (
        "import sys; from diadoche.core.convert import recipe_heads\n"
        "def broken(*_): raise RuntimeError('this was not foreseen')\n"
        "recipe_heads.own_files = broken\nsys.argv = ['diadoche', 'recipes', '--json']\n"
        "from diadoche.main import main\nmain()"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "Traceback" not in done.stderr
    problem = json.loads(done.stdout)["problems"][0]
    assert "this was not foreseen" in problem["what"]
    (report,) = (own_state / "state" / "diadoche" / "reports").iterdir()
    assert "RuntimeError: this was not foreseen" in report.read_text()
    assert str(report) in problem["safe"]


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_offload_that_is_told_to_stop_says_so_and_leaves_nothing_half(
    number: signal.Signals, tmp_path: Path
) -> None:
    card = tmp_path / "card"
    card.mkdir()
    for count in range(6):
        (card / f"C{count:04}.MOV").write_bytes(cut_off(60_000_000))
    words = [*MAIN, "offload", str(card), "--to", str(tmp_path / "a"), "--shoot", "S"]
    command = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    try:
        until_s = time.monotonic() + 60
        while not list((tmp_path / "a").rglob("*.part*")) and not list((tmp_path / "a").rglob("C0000.MOV")):
            assert time.monotonic() < until_s
            time.sleep(0.01)
        command.send_signal(number)
        _out, said = command.communicate(timeout=60)
    finally:
        command.kill()
    assert command.returncode == 1
    assert "Traceback" not in said
    for copied in (tmp_path / "a").rglob("C*.MOV"):
        assert copied.read_bytes() == (card / copied.name).read_bytes()


def test_shells_complete_verbs_and_options() -> None:
    script = diadoche("completion", "bash").stdout
    ask = 'COMP_WORDS=(diadoche {}); COMP_CWORD={}; _diadoche; echo "${{COMPREPLY[@]}}"'
    for words, place, wanted in (
        ("off", 1, "offload"),
        ("offload --re", 2, "--read-twice"),
        ("stitch --le", 2, "--level"),
    ):
        done = subprocess.run(
            ["bash", "-c", script + "\n" + ask.format(words, place)], capture_output=True, text=True, check=True
        )
        assert done.stdout.split() == [wanted]
    assert diadoche("completion", "csh").returncode == 2


def test_the_manual_tells_of_every_verb() -> None:
    page = diadoche("manual").stdout
    for verb in VERBS:
        assert f".SS {verb.name}".replace("-", "\\-") in page
    assert page.startswith(".TH DIADOCHE 1")
