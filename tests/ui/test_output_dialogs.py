"""The dialogs of Outputs: choosing a recipe, and stepping through the places of an output."""

from __future__ import annotations

import os
import queue
import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from diadoche.core.convert.recipes import Changes, recipe_named
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.probe import identify
from diadoche.screens.clip_formats import Alike, ClipFormats
from diadoche.screens.recipe_chooser import RecipeChooser
from diadoche.services.background import outcome_of
from diadoche.services.station.own_files import OwnFolder, OwnRecipes
from diadoche.ui.places_dialog import PlacesDialog
from diadoche.ui.recipe_dialog import RecipeDialog
from diadoche.ui.theme import Theme
from tests.dialogs_on_show import places_of_two_holes
from tests.end_to_end.driving import press
from tests.outside.numbered import BITS, CELL, WIDTH


@pytest.fixture
def theme(qapp: QApplication) -> Theme:
    made = Theme(qapp)
    made.apply("light", 100)
    return made


def number_in(image: QImage | None) -> int | None:
    """The number that the test films carry."""
    if image is None:
        return None
    small = image.convertToFormat(QImage.Format.Format_Grayscale8).scaledToWidth(WIDTH)
    bits = small.constBits()
    assert bits is not None
    bits.setsize(small.sizeInBytes())
    luma = np.frombuffer(bits, np.uint8).reshape(small.height(), small.bytesPerLine())  # type: ignore[call-overload]  # a buffer
    return sum(int(luma[14:34, 20 + bit * CELL : 28 + bit * CELL].mean() > 125) << bit for bit in range(BITS))


def test_places_are_stepped_through_with_the_original_beside(tmp_path: Path, theme: Theme, qtbot: QtBot) -> None:
    places = places_of_two_holes(tmp_path)
    assert [(each.picture, each.pictures) for each in places.places] == [(20, 1), (60, 2)]
    parent = QWidget()
    qtbot.addWidget(parent)
    dialog = PlacesDialog(parent, theme, places)
    dialog.open()
    try:
        # The output shows the picture before once more; the original's own has no picture there either.
        qtbot.waitUntil(lambda: number_in(dialog.output.image) == 19, timeout=30_000)
        qtbot.waitUntil(lambda: number_in(dialog.original.image) == 19, timeout=30_000)
        press(dialog.places, Qt.Key.Key_Down)
        qtbot.waitUntil(lambda: number_in(dialog.output.image) == 59, timeout=30_000)
        qtbot.waitUntil(lambda: number_in(dialog.original.image) == 59, timeout=30_000)
        assert dialog.output.moment == 60
    finally:
        dialog.accept()


def _alike(facts: Facts) -> list[Alike]:
    formats = ClipFormats()
    return formats.alike(formats.count([(1, facts)]))


@pytest.mark.parametrize("percent", [100, 200])
def test_the_recipes_fit_the_screen_and_are_shown_whole(
    demo_cards: dict[str, Path], theme: Theme, qtbot: QtBot, percent: int, own_recipes: OwnFolder[OwnRecipes]
) -> None:
    facts = identify([demo_cards["Keeper's camcorder"] / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS"], "looked")
    theme.apply("light", percent)
    try:
        parent = QWidget()
        qtbot.addWidget(parent)
        dialog = RecipeDialog(
            parent, theme, RecipeChooser(_alike(facts), recipe_named("prores-422"), None, own_recipes)
        )
        dialog.open()
        qtbot.waitUntil(dialog.isVisible)
        screen = dialog.screen()
        assert screen is not None
        assert dialog.height() <= screen.availableSize().height()
        assert dialog.width() <= screen.availableSize().width()
        header, viewport = dialog.recipes.horizontalHeader(), dialog.recipes.viewport()
        assert header is not None
        assert viewport is not None
        # A recipe's name is seen whole; what does not fit is scrolled to.
        name = dialog.recipes.fontMetrics().horizontalAdvance("ProRes 422 Proxy")
        assert name < dialog.recipes.columnWidth(0) < viewport.width()
        assert dialog.recipes.row_high >= dialog.recipes.fontMetrics().height()
    finally:
        theme.apply("light", 100)


def test_a_recipe_is_chosen_by_keys_and_sizes_follow_the_fields(
    demo_cards: dict[str, Path], tmp_path: Path, theme: Theme, qtbot: QtBot, own_recipes: OwnFolder[OwnRecipes]
) -> None:
    stream = demo_cards["Keeper's camcorder"] / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS"
    facts = identify([stream], "looked")
    parent = QWidget()
    qtbot.addWidget(parent)
    dialog = RecipeDialog(parent, theme, RecipeChooser(_alike(facts), recipe_named("prores-422"), None, own_recipes))
    dialog.open()
    before = dialog.chooser.rows()[dialog.chooser.current]
    assert before.title == "ProRes 422"
    press(dialog.fields, Qt.Key.Key_End)
    dialog.fields.activated.emit(dialog.fields.currentIndex())
    after = dialog.chooser.rows()[dialog.chooser.current]
    assert dialog.chooser.fields == "field"
    assert after.size != before.size
    bad = tmp_path / "bad.cube"
    bad.write_text("nothing")
    dialog.take_table(bad)
    assert "no look-up table" in dialog._said.text()
    press(dialog.recipes, Qt.Key.Key_Home, Qt.KeyboardModifier.ControlModifier)
    press(dialog.recipes, Qt.Key.Key_Return)
    assert dialog.result() == RecipeDialog.DialogCode.Accepted
    assert dialog.chooser.chosen[0].name == "review-av1"


def test_a_table_on_a_disk_that_does_not_answer_keeps_the_dialog_alive(
    tmp_path: Path, theme: Theme, qtbot: QtBot, own_recipes: OwnFolder[OwnRecipes]
) -> None:
    """A pipe that nobody writes to: whoever reads it waits, as on a mount that hangs."""
    parent = QWidget()
    qtbot.addWidget(parent)
    came: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
    threads: list[threading.Thread] = []

    def in_background(work: Callable[[], object], then: Callable[[object], None]) -> None:
        threads.append(threading.Thread(target=lambda: came.put(partial(then, outcome_of(work)))))
        threads[-1].start()

    hung, good = tmp_path / "hung.cube", tmp_path / "good.cube"
    os.mkfifo(hung)
    good.write_text("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n")
    dialog = RecipeDialog(
        parent, theme, RecipeChooser([], recipe_named("prores-422"), None, own_recipes, in_background)
    )
    try:
        dialog.open()
        dialog.take_table(hung)
        assert dialog.table_button.text() == "Reading hung.cube…"
        press(dialog.recipes, Qt.Key.Key_Return)
        assert dialog.isVisible()
        dialog.take_table(good)
        came.get(timeout=30)()
        assert dialog.table_button.text() == "good.cube"
    finally:
        hung.open("w").close()
        for each in threads:
            each.join()
    # What came too late counts no more.
    came.get(timeout=30)()
    assert (dialog.table_button.text(), dialog.chooser.table_mistake) == ("good.cube", "")
    press(dialog.recipes, Qt.Key.Key_Return)
    assert dialog.result() == RecipeDialog.DialogCode.Accepted
    assert dialog.chooser.chosen[1] == Changes(table=good)
