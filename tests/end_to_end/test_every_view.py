"""Every view, in both themes, at both text sizes: the focus is seen, texts stand out from their ground, none is cut."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QRect, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QAbstractButton, QAbstractScrollArea, QLabel, QTableView, QWidget
from pytestqt.qtbot import QtBot

from diadoche.services.machine.settings import Scheme
from diadoche.ui.application import Application
from diadoche.ui.main_window import MainWindow
from diadoche.ui.parts import ElidedLabel
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import press, rect_of, waits

_VIEWS = ("Cards", "Footage", "Outputs", "Work", "Ledger")


@pytest.fixture
def shoot_folder(offloaded_shoot: Path) -> Path:
    return offloaded_shoot


@pytest.fixture
def shown(open_window: Opener, qtbot: QtBot) -> Application:
    """The shoot of two cards, one of them in a reader."""
    application = open_window(pace_bytes_s=0)
    waits(qtbot, lambda: len(application.desk.shelf.lines) == 6)
    return application


def _luminance(samples: np.ndarray) -> np.ndarray:
    """Relative luminance of sRGB samples from 0 to 255 [WCAG 2.2, relative luminance]."""
    share = samples / 255
    linear = np.where(share <= 0.04045, share / 12.92, ((share + 0.055) / 1.055) ** 2.4)
    return linear @ np.array([0.2126, 0.7152, 0.0722])


def _pixels(widget: QWidget) -> np.ndarray:
    image = widget.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
    bits = image.constBits()
    assert bits is not None
    rows = np.frombuffer(bits.asstring(image.sizeInBytes()), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width() * 3].reshape(image.height(), image.width(), 3)


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_the_focus_is_seen_on_everything_that_takes_it(shown: Application, qtbot: QtBot, scheme: Scheme) -> None:
    """What changes with the focus does so by 3:1, along half of an edge at least [WCAG 2.2, 2.4.13]."""
    application, window = shown, shown.window
    application.show_scheme(scheme)
    waits(qtbot, lambda: application.window.footage.player.image is not None)
    unseen = set()
    for number in range(5):
        window.go_to(number)
        view = window.stack.currentWidget()
        assert view is not None
        for part in (part for part in view.findChildren(QWidget) if part.isVisible() and part.isEnabled()):
            if not part.focusPolicy() & Qt.FocusPolicy.TabFocus or part.focusProxy() is not None:
                continue
            window.setFocus()
            before = _luminance(_pixels(part))
            part.setFocus(Qt.FocusReason.TabFocusReason)
            after = _luminance(_pixels(part))
            contrast = (np.maximum(before, after) + 0.05) / (np.minimum(before, after) + 0.05)
            if np.count_nonzero(contrast >= 3) < min(part.width(), part.height()) // 2:
                unseen.add(f"{number} {type(part).__name__} {part.accessibleName()} {part.objectName()}")
    assert unseen == set()


def _contrast(window: np.ndarray, place: QRect) -> float:
    """How far what is written stands out from its ground: the commonest colour against that which differs most."""
    pixels = window[place.top() : place.bottom() + 1, place.left() : place.right() + 1]
    light = np.sort(_luminance(pixels.reshape(-1, 3)))
    values, counts = np.unique(light.round(4), return_counts=True)
    ground = float(values[counts.argmax()])
    # Strokes are thin and smoothed: a few pixels have the whole colour, more than chance would give.
    few = min(4, light.size - 1)
    darkest, lightest = float(light[few]), float(light[-1 - few])
    return max((max(ground, ink) + 0.05) / (min(ground, ink) + 0.05) for ink in (darkest, lightest))


def _texts(view: QWidget) -> Iterator[QLabel | QAbstractButton]:
    parts: list[QLabel | QAbstractButton] = [*view.findChildren(QLabel), *view.findChildren(QAbstractButton)]
    for part in parts:
        if part.isVisible() and part.isEnabled() and part.text().strip() and not part.visibleRegion().isEmpty():
            yield part


def _is_scrolled(part: QWidget) -> bool:
    above = part.parentWidget()
    while above is not None:
        if isinstance(above, QAbstractScrollArea):
            return True
        above = above.parentWidget()
    return False


def _is_cut(part: QLabel | QAbstractButton) -> bool:
    """Whether something of its text is out of sight: elided texts are whole in their tooltips."""
    seen = part.visibleRegion().boundingRect()
    if not _is_scrolled(part) and seen != part.rect():
        return True
    if isinstance(part, ElidedLabel):
        part.grab()
        room = part.fontMetrics().horizontalAdvance(part.text()) <= part.width()
        return part.height() < part.fontMetrics().height() or not (room or part.toolTip() == part.text())
    if isinstance(part, QLabel):
        if part.wordWrap():
            return part.heightForWidth(part.width()) > part.height() + 1
        return part.sizeHint().width() > part.width() + 1 or part.sizeHint().height() > part.height() + 1
    return part.fontMetrics().horizontalAdvance(part.text().replace("&", "")) > part.width()


# What stands out hangs on the colours, and what is cut on the room.
@pytest.mark.parametrize(
    ("percent", "width", "height", "scheme"),
    [
        (100, 1024, 700, "light"),
        (100, 1900, 1000, "dark"),
        (200, 1024, 700, "dark"),
        pytest.param(100, 1024, 700, "dark", marks=pytest.mark.long),
        pytest.param(100, 1900, 1000, "light", marks=pytest.mark.long),
        pytest.param(200, 1024, 700, "light", marks=pytest.mark.long),
    ],
)
def test_texts_stand_out_and_none_is_cut(
    shown: Application, qtbot: QtBot, scheme: Scheme, percent: int, width: int, height: int
) -> None:
    application, window = shown, shown.window
    application.show_scheme(scheme)
    while application.theme.scale * 100 < percent:
        press(window, Qt.Key.Key_Plus, Qt.KeyboardModifier.ControlModifier)
    faint, cut = set(), set()
    for number, name in enumerate(_VIEWS):
        window.go_to(number)
        view = window.stack.currentWidget()
        assert view is not None
        waits(qtbot, lambda: _is_as_large(window, width, height))
        if number == 1:
            waits(qtbot, lambda: window.footage.player.image is not None)
        faint |= {f"{name}: {words}" for words in _settled(qtbot, partial(_faint, window, view))}
        cut |= {f"{name}: {words}" for words in _settled(qtbot, partial(_cut, view))}
    assert (faint, cut) == (set(), set())


def _settled(qtbot: QtBot, find: Callable[[], set[str]]) -> set[str]:
    """What is found once everything has its place: news may still be laid out, or painted."""
    found: set[str] = set()
    for _ in range(100):
        found = find()
        if not found:
            break
        qtbot.wait(20)
    return found


def _cut(view: QWidget) -> set[str]:
    return {f"{type(part).__name__} {part.text()}" for part in _texts(view) if _is_cut(part)}


def _faint(window: MainWindow, view: QWidget) -> set[str]:
    """Texts below what WCAG 2.2 asks for in its success criterion 1.4.3."""
    found = set()
    pixels = _pixels(window)
    for part in (*_texts(view), *_texts(window.watch_line)):
        seen = part.visibleRegion().boundingRect()
        contrast = _contrast(pixels, QRect(part.mapTo(window, seen.topLeft()), seen.size()))
        if contrast < 4.5:
            found.add(f"{part.text()} {contrast:.1f}")
    for table in (each for each in view.findChildren(QTableView) if each.isVisible()):
        found.update(_faint_cells(window, table))
    return found


def _is_as_large(window: QWidget, width: int, height: int) -> bool:
    """Larger texts make the window larger for a moment, until everything has its new place."""
    if (window.width(), window.height()) != (width, height):
        window.resize(width, height)
        return False
    return True


def _faint_cells(window: QWidget, table: QTableView) -> Iterator[str]:
    """Cells of the first rows, the first of them selected, whose words do not stand out."""
    model, viewport = table.model(), table.viewport()
    assert model is not None
    assert viewport is not None
    if model.rowCount():
        table.selectRow(0)
    pixels = _pixels(window)
    for row in range(min(3, model.rowCount())):
        for column in range(model.columnCount()):
            place = rect_of(table, row, column).intersected(viewport.rect())
            words = model.index(row, column).data()
            if not words or place.width() < 20 or place.height() < 10:
                continue
            found = _contrast(
                pixels, QRect(viewport.mapTo(window, place.topLeft()), place.size()).adjusted(2, 2, -2, -2)
            )
            if found < 4.5:
                yield f"{words} {found:.1f}"
