"""Ribbons that were drawn piece by piece look as if they had been drawn at once."""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, QSize
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QApplication

from diadoche.screens.marks import Mark
from diadoche.screens.ribbons import Ribbon
from diadoche.ui.ribbon_bar import ribbon_at
from diadoche.ui.ribbon_picture import PlacedRibbon, RibbonPicture
from diadoche.ui.theme import Theme

SIZE, CARDS, PLACES, STEPS = QSize(900, 500), 6, 3, 40


def crossing(
    progress: dict[int, tuple[float, float]], right_px: float = 640.0, ends_as: Mark = Mark.UNDER_WAY
) -> list[PlacedRibbon]:
    """Every card to every place, each as far as it is."""
    found = []
    for number in range(CARDS * PLACES):
        card, place = divmod(number, PLACES)
        copied, proven = progress[number]
        mark = ends_as if proven == 1.0 else Mark.UNDER_WAY
        ribbon = Ribbon(f"r{card}", Path(f"/place{place}"), copied, proven, mark, 1000)
        ends = (QPointF(250, 20 + number * 26), QPointF(right_px, 60 + place * 150 + card * 18))
        found.append(PlacedRibbon(ribbon, ends, 14.0))
    return found


def painted(picture: RibbonPicture, ribbons: list[PlacedRibbon], theme: Theme) -> np.ndarray:
    """What a board of these shows, as 8-bit values of its channels."""
    image = QImage(SIZE, QImage.Format.Format_RGB32)
    image.fill(QColor(theme.colours.paper))
    painter = QPainter(image)
    picture.paint(painter, ribbons, SIZE, 16.0, theme.colours)
    painter.end()
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    return np.frombuffer(bits, np.uint8).reshape(SIZE.height(), -1, 4).astype(int)  # type: ignore[call-overload]  # a buffer


def differ(one: np.ndarray, other: np.ndarray) -> float:
    """Which share of the pixels is not the same to the eye, as where two ribbons cross and another lies on top."""
    return float((np.abs(one - other).max(axis=2) > 40).mean())


@pytest.mark.parametrize("scheme", ["light", "dark"])
@pytest.mark.parametrize("mark", [Mark.PROVEN, Mark.PROBLEM])
def test_one_after_another_comes_to_its_end(qapp: QApplication, mark: Mark, scheme: str) -> None:
    theme = Theme(qapp)
    theme.apply(scheme, 100)
    progress = dict.fromkeys(range(CARDS * PLACES), (0.9, 0.8))
    kept = RibbonPicture()
    before = painted(kept, crossing(progress), theme)
    for number in random.Random(7).sample(sorted(progress), len(progress)):
        progress[number] = (1.0, 1.0)
        seen = painted(kept, crossing(progress, ends_as=mark), theme)
        # Each is seen to have ended when it does, not with the next.
        assert differ(seen, before) > 0.0001
        at_once = painted(RibbonPicture(), crossing(progress, ends_as=mark), theme)
        # What ended last lies on top of what it crosses until all is drawn anew.
        assert differ(seen, at_once) < 0.02
        before = seen
    assert differ(seen, at_once) < 0.002


def test_what_moved_is_drawn_a_turn_later_but_never_called_proven_for_that(qapp: QApplication) -> None:
    theme = Theme(qapp)
    theme.apply("light", 100)
    progress = dict.fromkeys(range(CARDS * PLACES), (1.0, 1.0))
    proven, kept = crossing(progress, ends_as=Mark.PROVEN), RibbonPicture()
    before = painted(kept, proven, theme)

    def lagging(ribbons: list[PlacedRibbon]) -> bool:
        board = QImage(SIZE, QImage.Format.Format_RGB32)
        with QPainter(board) as painter:
            return not kept.paint(painter, ribbons, SIZE, 16.0, theme.colours, may_lag=True)

    moved = crossing(progress, 700.0, ends_as=Mark.PROVEN)
    assert lagging(moved)
    assert differ(painted(kept, proven, theme), before) == 0
    assert not lagging([*proven[:-1], replace(proven[-1], ribbon=replace(proven[-1].ribbon, mark=Mark.PROBLEM))])
    painted(kept, proven, theme)
    assert not lagging(moved[:-1])


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_pieces_make_the_same_picture(qapp: QApplication, scheme: str) -> None:
    theme = Theme(qapp)
    theme.apply(scheme, 100)
    chance = random.Random(4)
    progress = dict.fromkeys(range(CARDS * PLACES), (0.0, 0.0))
    kept = RibbonPicture()
    seen = painted(kept, crossing(progress), theme)
    for _step in range(STEPS):
        for number, (copied, proven) in progress.items():
            copied = min(1.0, copied + chance.random() * 0.06)
            progress[number] = (copied, min(copied, proven + chance.random() * 0.05 * (copied > 0.3)))
        seen = painted(kept, crossing(progress), theme)
    assert max(copied for copied, _proven in progress.values()) == 1.0
    assert differ(seen, painted(RibbonPicture(), crossing(progress), theme)) < 0.01
    # What goes back, moves or ends is drawn anew.
    progress[0] = (0.1, 0.0)
    for changed in (crossing(progress), crossing(progress, 700.0)):
        assert differ(painted(kept, changed, theme), painted(RibbonPicture(), changed, theme)) == 0
    ended = [replace(each, ribbon=replace(each.ribbon, mark=Mark.PROVEN)) for each in crossing(progress)]
    assert differ(painted(kept, ended, theme), painted(RibbonPicture(), ended, theme)) == 0
    theme.apply("light" if scheme == "dark" else "dark", 100)
    assert differ(painted(kept, ended, theme), painted(RibbonPicture(), ended, theme)) == 0


def test_a_ribbon_is_found_where_it_lies() -> None:
    (first, *_rest) = crossing(dict.fromkeys(range(CARDS * PLACES), (0.4, 0.1)))
    ribbons = [
        first,
        replace(first, ribbon=replace(first.ribbon, key="other"), ends=(QPointF(250, 300), QPointF(640, 300))),
    ]
    for share in (0.0, 0.2, 0.5, 0.8, 1.0):
        on_it = first.at(share).toPoint()
        assert ribbon_at(ribbons[:1], on_it) is first
        assert ribbon_at(ribbons[:1], on_it + QPoint(0, 30)) is None
    assert ribbon_at(ribbons, QPoint(400, 305)) is ribbons[1]
    assert ribbon_at(ribbons, QPoint(200, 300)) is None
