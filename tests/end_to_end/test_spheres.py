"""A camera with two lenses, from its card to a sphere, in the real window; aligned and encoded for real."""

from __future__ import annotations

import shutil
from pathlib import Path

from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from diadoche.screens.marks import Mark
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import click, click_at, offload, press, waits
from tests.outside.public_tools import ffprobe


def test_takes_are_looked_at_aligned_and_stitched(
    open_window: Opener, qtbot: QtBot, tmp_path: Path, demo_cards: dict[str, Path]
) -> None:
    shutil.copytree(demo_cards["Lamp room"], tmp_path / "sphere cards" / "Lamp room")
    application = open_window(pace_bytes_s=0, cards=tmp_path / "sphere cards")
    window, outputs = application.window, application.desk.outputs
    click(application, qtbot, "Put in Lamp room")
    offload(application, qtbot)
    waits(qtbot, lambda: len(outputs.takes()) == 2)
    press(window, Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    group = window.outputs.group("stitch")
    waits(qtbot, lambda: group.stitch.text().startswith("How: 0 of 2 aligned"))
    # Closed again while its picture is being made: what comes then finds nobody.
    group.choose_stitch().reject()
    dialog = group.choose_stitch()
    waits(qtbot, lambda: dialog.picture.image is not None)
    image = dialog.picture.image
    assert image is not None
    assert image.width() == 2 * image.height()
    assert dialog.seam.image is not None
    # Both takes are chosen: one choice is for both.
    dialog.turn_over()
    assert all(outputs.stitching.settings(take).turn_deg == (0.0, 0.0, 180.0) for take in outputs.takes())
    upright = image.copy()
    waits(qtbot, lambda: dialog.picture.image is not None and dialog.picture.image != upright)
    turned = dialog.picture.image
    assert turned is not None
    # The sky is below now, and what was at the left is at the right.
    assert abs(turned.pixelColor(700, 420).blue() - upright.pixelColor(259, 59).blue()) < 24
    dialog.turn_over()
    click_at(dialog.align_button, Qt.MouseButton.LeftButton)
    waits(qtbot, lambda: outputs.stitching.aligned(outputs.takes()[0]) is not None)
    assert outputs.stitching.aligned(outputs.takes()[1]) is not None
    assert "those held out fit to" in dialog._said.text()
    dialog.accept()
    waits(qtbot, lambda: group.stitch.text().startswith("How: 2 of 2 aligned"))
    click(application, qtbot, "Make 2")
    waits(qtbot, lambda: len(outputs.made()) == 2 and not application.desk.work.running())
    made = outputs.made()
    assert all(row.mark is Mark.DONE and "seams break by" in row.words for row in made), made
    told = ffprobe(Path(made[0].path))["streams"][0]
    assert (told["width"], told["height"]) == (1296, 648)
    assert any(each["side_data_type"] == "Spherical Mapping" for each in told["side_data_list"])
    window.outputs.made_table.selectRow(0)
    seams = window.outputs.look_at_places()
    assert seams is not None
    assert seams.curve is not None
    try:
        waits(qtbot, lambda: seams.output.image is not None)
        worst = made[0].places.seam.worst if made[0].places is not None and made[0].places.seam is not None else None
        assert worst is not None
        waits(qtbot, lambda: seams.output.moment == worst[0])
        before = seams.curve.picture
        seams.curve.setFocus()
        press(seams.curve, Qt.Key.Key_Right if before == 0 else Qt.Key.Key_Left)
        assert abs(seams.curve.picture - before) == 1
        waits(qtbot, lambda: seams.output.moment == seams.curve.picture if seams.curve is not None else False)
    finally:
        seams.accept()
