"""The whole job, from the card to the hand-off and a check of the copies, by keyboard alone and by mouse alone."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

import diadoche
from diadoche.demo.opening import demo_places
from diadoche.services.machine.settings import Scheme, Settings, save_settings
from diadoche.ui.application import Application
from diadoche.ui.recipe_dialog import RecipeDialog
from tests.end_to_end.conftest import Opener
from tests.end_to_end.disk_calls import disks_asked
from tests.end_to_end.driving import first, texts, waits
from tests.end_to_end.hands import Keyboard, Mouse, answering


# By either hand once; how each view looks at each size of text and window is tried elsewhere. All threes are long.
@pytest.mark.parametrize(
    ("hands_of", "percent", "size", "scheme"),
    [
        (Keyboard, 200, (1900, 1000), "light"),
        (Mouse, 100, (1024, 700), "dark"),
        pytest.param(Keyboard, 100, (1024, 700), "light", marks=pytest.mark.long),
        pytest.param(Mouse, 100, (1900, 1000), "dark", marks=pytest.mark.long),
        pytest.param(Mouse, 200, (1024, 700), "dark", marks=pytest.mark.long),
        pytest.param(Keyboard, 100, (1900, 1000), "dark", marks=pytest.mark.long),
        pytest.param(Keyboard, 200, (1024, 700), "dark", marks=pytest.mark.long),
        pytest.param(Mouse, 200, (1900, 1000), "light", marks=pytest.mark.long),
    ],
)
def test_the_whole_job(
    hands_of: type[Keyboard] | type[Mouse],
    percent: int,
    size: tuple[int, int],
    scheme: Scheme,
    open_window: Opener,
    qtbot: QtBot,
    shoot_folder: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    config = demo_places(shoot_folder).config
    save_settings(config, Settings(scheme, percent))
    application = open_window(pace_bytes_s=0)
    application.window.setFixedSize(*size)
    with disks_asked(monkeypatch) as asked:
        _do_the_whole_job(application, hands_of(qtbot), qtbot, shoot_folder)
    assert asked == []
    assert (application.window.width(), application.window.height()) == size


def _do_the_whole_job(application: Application, hands: Keyboard | Mouse, qtbot: QtBot, shoot_folder: Path) -> None:
    window = application.window
    assert application.bench is not None
    card = shoot_folder / "cards/Drone"
    # Two clips are left, of which one has to be converted.
    for largest in card.glob("DCIM/100DRONE/DRON0001.*"):
        largest.unlink()
    application.bench.put_in(card)
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")

    # The card is copied, proven, and comes out.
    hands.button("Offload")
    hands.button("Start")
    waits(qtbot, lambda: first(application) == "The card can come out.")
    hands.button("Eject")
    waits(qtbot, lambda: first(application) == "No card is in.")

    # Clips are looked at and judged.
    hands.view(1)
    table, player = window.footage.table, window.footage.player
    waits(
        qtbot,
        lambda: len(application.desk.footage.clips) > 1 and all(each.facts for each in application.desk.footage.clips),
    )
    hands.row(table, 1)
    hands.verdict("No")
    waits(qtbot, lambda: application.desk.footage.rows[1].clip.opinion.verdict == "no")  # type: ignore[union-attr]  # no heading
    hands.row(table, 0)
    hands.verdict("Keep")
    waits(qtbot, lambda: player.image is not None)
    hands.play()
    waits(qtbot, lambda: player.moment > 3)
    hands.play()
    waits(qtbot, lambda: not player.playing)

    # What is wanted is made by another recipe.
    hands.view(2)
    hands.button("ProRes 422")
    dialog = QApplication.activeModalWidget()
    assert isinstance(dialog, RecipeDialog)
    hands.row(dialog.recipes, [each.name for each in dialog.chooser.rows()].index("vc3-lb"))
    hands.button("Take this recipe")
    hands.button("Make")
    waits(qtbot, lambda: bool(application.desk.outputs.made()) and not application.desk.work.running())
    assert all(each.path and Path(each.path).is_file() for each in application.desk.outputs.made())

    # It is handed off, and the copies are checked again.
    target = shoot_folder / "by hand.otio"
    with answering(lambda asked: hands.save(asked, str(target))):
        hands.button("Hand off")
    waits(qtbot, lambda: any(shoot_folder.rglob("*.otio")))
    written = next(shoot_folder.rglob("*.otio"))
    assert json.loads(written.read_text())["OTIO_SCHEMA"].startswith("Timeline")
    hands.view(4)
    hands.button("Check the copies again")
    waits(qtbot, lambda: any("today, as it was" in text for text in texts(window.ledger)))


def test_what_a_window_asks_of_disks_is_noticed(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    code = f"import os\nos.stat({str(tmp_path)!r})\nlist(os.scandir({str(tmp_path)!r}))"
    made_up = compile(code, str(Path(diadoche.__file__).parent / "ui/made_up.py"), "exec")
    with disks_asked(monkeypatch) as asked:
        exec(made_up, {})
        tmp_path.stat()
    assert [each.partition(" ")[0] for each in asked] == ["os.stat", "os.scandir"]
