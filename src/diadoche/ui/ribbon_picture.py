"""The ribbons of the board, kept as a picture: of what moves, only what was added since is drawn.

Stroking two dozen long curves takes as long as a window may be silent, and progress adds a few pixels to each of them.
All beds lie below all progress; where two ribbons cross, the piece that came last lies on top. All pieces are opaque,
so that what ends is drawn over what it was.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPixmap

from diadoche.screens.marks import Mark
from diadoche.screens.ribbons import Ribbon
from diadoche.ui.marks import hatch, paint_mark
from diadoche.ui.theme import Colours

# The least that is shown of progress, and by how much pieces overlap: edges that only touch would be seen.
_LEAST, _OVERLAP = 0.01, 0.005
_PALE, _PALE_ON_DARK = 0.30, 0.42
_END_PX = 8
_HALVINGS, _NEAR_PX = 12, 2.0


@dataclass(frozen=True, slots=True)
class PlacedRibbon:
    """A ribbon, where its middle line begins and ends, and how thick it is, in pixels of the board."""

    ribbon: Ribbon
    ends: tuple[QPointF, QPointF]
    thick_px: float

    @property
    def copied(self) -> float:
        """How far the copied part is seen: what was read back lies over it from the other end."""
        copied = max(_LEAST, self.ribbon.copied) if self.ribbon.copied > 0 else 0.0
        return min(copied, 1 - self.proven)

    @property
    def proven(self) -> float:
        """How far the part that was read back is seen, from the end."""
        return max(_LEAST, self.ribbon.proven) if self.ribbon.proven > 0 else 0.0

    @property
    def key(self) -> tuple[str, Path]:
        """Which one it is."""
        return self.ribbon.key, self.ribbon.place

    @property
    def end_mark(self) -> Mark | None:
        """The mark at its end; before it has come there, all beds look alike."""
        mark = self.ribbon.mark
        return mark if mark is Mark.PROVEN or mark is Mark.PROBLEM else None

    def at(self, share: float) -> QPointF:
        """The point of its middle line at a share of its way."""
        return _upto(_cubic(self.ends), share)[3]

    def holds(self, point: QPointF) -> bool:
        """Whether a point of the board lies on it."""
        begin, end = self.ends
        if not begin.x() <= point.x() <= end.x():
            return False
        low, high = 0.0, 1.0
        # It never goes back: halved until the line stands above or below the point.
        for _ in range(_HALVINGS):
            middle = (low + high) / 2
            low, high = (middle, high) if self.at(middle).x() < point.x() else (low, middle)
        return abs(self.at(low).y() - point.y()) <= self.thick_px / 2 + _NEAR_PX

    def follows(self, before: PlacedRibbon) -> bool:
        """Whether it looks as it did, a little further, or came to its end."""
        now, then = self.end_mark, before.end_mark
        if (self.ends, self.thick_px) != (before.ends, before.thick_px) or not (then is None or then is now):
            return False
        return now is Mark.PROVEN or (
            self.proven >= before.proven
            # What was read back may lie over what was copied; nothing else makes that less.
            and (self.copied >= before.copied or self.copied == 1 - self.proven)
        )


class RibbonPicture:
    """All ribbons of a board as they were drawn last."""

    def __init__(self) -> None:
        self._picture = QPixmap()
        self._drawn: dict[tuple[str, Path], PlacedRibbon] = {}
        self._colours: Colours | None = None
        self._mark_px = 0.0

    def paint(
        self,
        painter: QPainter,
        ribbons: Sequence[PlacedRibbon],
        size: QSize,
        mark_px: float,
        colours: Colours,
        *,
        may_lag: bool = False,
    ) -> bool:
        """Paints the ribbons over a board.

        Args:
            painter: of the board.
            ribbons: in the order in which they lie on each other.
            size: of the board, in its pixels.
            mark_px: how large the marks at the ends are.
            colours: in force.
            may_lag: where all of them had to be drawn anew, they are painted as they were last, but never with one
                as proven that is so no more.

        Returns:
            Whether they are painted as they are now.
        """
        device = painter.device()
        ratio = device.devicePixelRatioF() if device is not None else 1.0
        wanted = QSize(round(size.width() * ratio), round(size.height() * ratio))
        goes_on = (
            self._picture.size() == wanted
            and (self._colours, self._mark_px) == (colours, mark_px)
            and self._drawn.keys() == {each.key for each in ribbons}
            and all(each.follows(self._drawn[each.key]) for each in ribbons)
        )
        if not goes_on and may_lag and not self._picture.isNull() and not self._says_too_much(ribbons):
            painter.drawPixmap(0, 0, self._picture)
            return False
        if not goes_on:
            self._picture = QPixmap(wanted)
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(Qt.GlobalColor.transparent)
        with QPainter(self._picture) as inside:
            inside.setRenderHint(QPainter.RenderHint.Antialiasing)
            drawn = self._drawn if goes_on else {}
            ended = [each for each in ribbons if each.end_mark is not _end_mark(drawn.get(each.key))]
            for each in ribbons:
                if each.key not in drawn or (each in ended and each.end_mark is Mark.PROVEN):
                    _draw_bed(inside, each, colours)
            _draw_progress(inside, ribbons, drawn, colours)
            for each in ended:
                _draw_end(inside, each, mark_px, colours)
        self._drawn, self._colours, self._mark_px = {each.key: each for each in ribbons}, colours, mark_px
        painter.drawPixmap(0, 0, self._picture)
        return True

    def _says_too_much(self, ribbons: Sequence[PlacedRibbon]) -> bool:
        """Whether what was drawn last calls one proven that is not: that stands for no moment more."""
        proven = {each.key for each in ribbons if each.end_mark is Mark.PROVEN}
        return any(each.end_mark is Mark.PROVEN and key not in proven for key, each in self._drawn.items())


def _end_mark(placed: PlacedRibbon | None) -> Mark | None:
    return placed.end_mark if placed is not None else None


def _draw_bed(painter: QPainter, placed: PlacedRibbon, colours: Colours) -> None:
    """What of a ribbon stays: its bed, or all of one that is proven."""
    if placed.end_mark is Mark.PROVEN:
        _stroke(painter, placed, (0, 1), QBrush(_pale(colours)), placed.thick_px)
    else:
        _stroke(painter, placed, (0, 1), QBrush(QColor(colours.line)), placed.thick_px)
        _stroke(painter, placed, (0, 1), QBrush(QColor(colours.panel)), placed.thick_px - 2)


def _pale(colours: Colours) -> QColor:
    """The colour of what is proven, thinned with that of the board."""
    share = _PALE_ON_DARK if colours.dark else _PALE
    both = zip(QColor(colours.proven).getRgb()[:3], QColor(colours.paper).getRgb()[:3], strict=True)
    return QColor(*(round(share * proven + (1 - share) * paper) for proven, paper in both))


def _draw_end(painter: QPainter, placed: PlacedRibbon, mark_px: float, colours: Colours) -> None:
    """The mark at the end of a ribbon that has come there."""
    end, mark = placed.ends[1], placed.end_mark
    if mark is not None:
        paint_mark(painter, QRectF(end.x() - _END_PX - mark_px, end.y() - mark_px / 2, mark_px, mark_px), mark, colours)


def _draw_progress(
    painter: QPainter, ribbons: Sequence[PlacedRibbon], drawn: Mapping[tuple[str, Path], PlacedRibbon], colours: Colours
) -> None:
    stripes, proven = hatch(colours), QBrush(QColor(colours.proven))
    for now in ribbons:
        if now.end_mark is Mark.PROVEN:
            continue
        before = drawn.get(now.key)
        copied, read_back = (before.copied, before.proven) if before is not None else (0.0, 0.0)
        if now.copied > copied:
            _stroke(painter, now, (max(0.0, copied - _OVERLAP), now.copied), stripes, now.thick_px - 1)
        if now.proven > read_back:
            _stroke(painter, now, (1 - now.proven, min(1.0, 1 - read_back + _OVERLAP)), proven, now.thick_px - 1)


def _stroke(painter: QPainter, placed: PlacedRibbon, part: tuple[float, float], brush: QBrush, width: float) -> None:
    painter.setPen(QPen(brush, width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.FlatCap))
    painter.drawPath(_curve(placed.ends, *part))


def _curve(ends: tuple[QPointF, QPointF], begin: float, end: float) -> QPainterPath:
    """The part of a ribbon's middle line between two shares of its way: a part of a cubic is a cubic again."""
    left = _cubic(ends)
    if (begin, end) != (0, 1):
        left = _upto(_upto(left, end), begin / end if end else 0, rest=True)
    path = QPainterPath(left[0])
    path.cubicTo(*left[1:])
    return path


_Cubic = tuple[QPointF, QPointF, QPointF, QPointF]


def _cubic(ends: tuple[QPointF, QPointF]) -> _Cubic:
    """The middle line of a ribbon: level where it leaves, and where it arrives."""
    start, stop = ends
    bend = QPointF((stop.x() - start.x()) * 0.5, 0)
    return start, start + bend, stop - bend, stop


def _upto(cubic: _Cubic, t: float, *, rest: bool = False) -> _Cubic:
    """The part of a cubic before a share of its way, or the rest, by de Casteljau's construction."""
    a, b, c, d = cubic
    ab, bc, cd = a + (b - a) * t, b + (c - b) * t, c + (d - c) * t
    abc, bcd = ab + (bc - ab) * t, bc + (cd - bc) * t
    middle = abc + (bcd - abc) * t
    return (middle, bcd, cd, d) if rest else (a, ab, abc, middle)
