"""The player: picture on neutral grey, the place in the clip, and the keys.

Space plays and stops, J K L run backwards, stop and run on (again: faster), the arrows step one
picture, Home and End go to the first and last.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from diadoche.core.footage.display import Rgb
from diadoche.core.footage.frames import Shape, shape_of
from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text
from diadoche.screens.footage import label_at
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.side_processes.player import PlayerProcess, Shown
from diadoche.ui.bridge import Bridge
from diadoche.ui.picture_stage import fitted, paint_ground
from diadoche.ui.theme import Theme

# What its keys do, for whoever asks.
PLAYER_KEYS = (
    ("Space", "plays and stops"),
    ("J, K, L", "backwards, stop, forwards; again: faster, up to eight times"),
    ("Left, Right", "one picture back or on"),
    ("Home, End", "first and last picture"),
)
_BAR_PX = 26
# The play control at the beginning of the bar.
_PLAY_PX = 30
_PART_PX = 4
_FASTEST = 8.0
# Clips of the shoot are counted from 1.
_NO_CLIP = 0
# Times of pictures are rounded; a thousandth of a picture is none.
_ROUNDING = 1e-3


class PlayerView(QWidget):
    """Shows one clip."""

    shown = pyqtSignal(int)
    combing = pyqtSignal(QImage)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._bridge = Bridge(self._take)
        self._process = PlayerProcess(self._bridge.post)
        # What is open: a number that its process repeats, and the name for those who listen.
        self._key: int | None = None
        self._name = ""
        self._facts: Facts | None = None
        self._shape: Shape | None = None
        self._paths: tuple[Path, ...] = ()
        self._image: QImage | None = None
        self._problem = ""
        self._rate_reached = 0.0
        self.moment = 0
        self.speed = 0.0
        # A part of the clip: its first picture, the one after its last, and words for it.
        self._part: tuple[int, int] | None = None
        self._part_words = ""
        # Whether the mouse was pressed on the bar, and draws the place along.
        self._seeks = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(360, 230)
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.setToolTip("Space plays; J K L; arrows step; Home and End; I and O mark a part")
        self._name_it()

    @property
    def _bar_px(self) -> int:
        """As high as its text asks for."""
        return round(_BAR_PX * max(1.0, self._theme.scale))

    def hasHeightForWidth(self) -> bool:  # Qt's name
        return True

    def heightForWidth(self, width: int) -> int:  # Qt's name
        return width * 9 // 16 + self._bar_px

    def close_process(self) -> None:
        """Ends the decoding process; called once, at the end."""
        self._process.close()

    @property
    def playing(self) -> bool:
        """Whether it runs."""
        return self.speed != 0

    @property
    def image(self) -> QImage | None:
        """The picture on show."""
        return self._image

    def open(self, clip: KeptClip | None) -> None:
        """Shows another clip from its first picture, or nothing."""
        if clip is None:
            self._open(None, "", (), None)
        elif clip.id == self._key and self._is_open(clip.paths, clip.facts):
            # Something else may be known of it, as what it needs: that stops nothing that plays.
            self._facts = clip.facts
        else:
            self._open(clip.id, clip.clip.name, clip.paths, clip.facts)

    def _is_open(self, paths: tuple[Path, ...], facts: Facts | None) -> bool:
        """Whether the same files are open, and their pictures known to be alike."""
        if facts == self._facts:
            return True
        if self._shape is None or facts is None or not facts.video or self._facts is None:
            return False
        before, now = self._facts.video[0], facts.video[0]
        alike = now.decodable and now.evidence == before.evidence and now.field_order == before.field_order
        return alike and paths == self._paths and shape_of(facts) == self._shape

    def open_file(self, path: Path, facts: Facts) -> None:
        """Shows a file that is no clip of the shoot from its first picture."""
        self._open(_NO_CLIP, path.name, (path,), facts)

    def _open(self, key: int | None, name: str, paths: tuple[Path, ...], facts: Facts | None) -> None:
        self._key, self._name, self._facts, self._image, self._problem = key, name, facts, None, ""
        self._shape, self._paths = None, paths
        self.moment, self.speed = 0, 0.0
        if key is not None and facts is not None and facts.video and facts.video[0].decodable:
            self._shape = shape_of(facts)
            self._process.open(key, paths, facts)
            self._process.show_combing()
        elif facts is not None:
            self._problem = " ".join(facts.route.reasons)
        self._name_it()
        self.update()

    @property
    def picture(self) -> int:
        """The picture on show, of which each field belongs to one."""
        return self.moment // self._shape.fields if self._shape is not None else 0

    def show_part(self, part: tuple[int, int] | None, words: str) -> None:
        """Shows on the bar which part of the clip is marked."""
        if (part, words) != (self._part, self._part_words):
            self._part, self._part_words = part, words
            self._name_it()
            self.update()

    def go_to_picture(self, picture: int) -> None:
        """Stops and shows one picture, of which each field belongs to one."""
        if self._shape is not None:
            self.go_to(picture * self._shape.fields)

    def go_to_time(self, time_s: float) -> None:
        """Stops and shows what stands at a time, seconds from the first picture."""
        if self._shape is not None:
            self.go_to(int(time_s * float(self._shape.moments_a_second) + _ROUNDING))

    # -- what the person does ------------------------------------------------------------------

    def play(self, speed: float) -> None:
        """Runs at a speed; zero stops."""
        if self._shape is None:
            return
        self.speed = speed
        self._process.play(speed)

    def toggle(self) -> None:
        """Space."""
        self.play(0.0 if self.playing else 1.0)

    def faster(self, direction: int) -> None:
        """J and L: starts, and with each press doubles, up to eight times."""
        same_way = self.speed * direction > 0
        self.play(direction * min(_FASTEST, abs(self.speed) * 2) if same_way else float(direction))

    def step(self, pictures: int) -> None:
        """The arrows: by whole pictures, of which each field belongs to one."""
        if self._shape is not None:
            self.go_to((self.moment // self._shape.fields + pictures) * self._shape.fields)

    def go_to(self, moment: int) -> None:
        """Stops and shows one moment."""
        if self._shape is None:
            return
        self.speed = 0.0
        self.moment = min(self._shape.moments - 1, max(0, moment))
        self._process.show(self.moment)
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        assert event is not None
        if not self.obey_key(event.key()):
            super().keyPressEvent(event)

    def obey_key(self, key: int) -> bool:
        """Does what a key asks for, and tells whether it asks for anything."""
        last = self._shape.moments - 1 if self._shape else 0
        doings: dict[Qt.Key, Callable[[], object]] = {
            Qt.Key.Key_Space: self.toggle,
            Qt.Key.Key_K: lambda: self.play(0.0),
            Qt.Key.Key_J: lambda: self.faster(-1),
            Qt.Key.Key_L: lambda: self.faster(1),
            Qt.Key.Key_Left: lambda: self.step(-1),
            Qt.Key.Key_Right: lambda: self.step(1),
            Qt.Key.Key_Home: lambda: self.go_to(0),
            Qt.Key.Key_End: lambda: self.go_to(last),
        }
        doing = next((doing for bound, doing in doings.items() if bound.value == key), None)
        if doing is None:
            return False
        doing()
        return True

    def mousePressEvent(self, event: QMouseEvent | None) -> None:  # Qt's name
        assert event is not None
        self.setFocus()
        at = event.position()
        self._seeks = at.y() >= self.height() - self._bar_px and at.x() >= _PLAY_PX and self._shape is not None
        if self._seeks:
            self._seek_to(at.x())
        else:
            self.toggle()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:  # Qt's name
        assert event is not None
        if self._seeks:
            self._seek_to(event.position().x())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:  # Qt's name
        self._seeks = False

    def _seek_to(self, x: float) -> None:
        """Shows the moment at a place of the bar; of those asked for while one is read, the newest is shown."""
        if self._shape is not None:
            share = (x - _PLAY_PX) / max(1, self.width() - _PLAY_PX)
            self.go_to(round(min(1.0, max(0.0, share)) * (self._shape.moments - 1)))

    # -- what the process tells ----------------------------------------------------------------

    def _take(self, news: object) -> None:
        assert isinstance(news, Shown)
        if self._key is None or news.clip != self._key:
            return
        if news.problem:
            self._problem, self.speed = news.problem, 0.0
        elif news.is_combing:
            self.combing.emit(_image(news.picture) if news.picture is not None else QImage())
            return
        elif news.picture is not None:
            self._image = _image(news.picture)
            self.moment, self._rate_reached = news.moment, news.rate_reached
            if not news.playing:
                self.speed = 0.0
            self.shown.emit(news.moment)
        self._name_it()
        self.update()

    # -- what is seen --------------------------------------------------------------------------

    def _place_words(self) -> str:
        if self._facts is None or self._shape is None:
            return ""
        return label_at(self._facts, self.moment, self._shape.fields)

    def _words_beside(self) -> str:
        """How it plays, or which part is marked of what stands."""
        if self._shape is None:
            return ""
        if not self.playing:
            return f"part: {count_text(self._part[1] - self._part[0], 'picture')}" if self._part is not None else ""
        wanted = float(self._shape.moments_a_second)
        if self.speed != 1.0:
            fast = f"{abs(self.speed):g} times as fast" if abs(self.speed) != 1 else ""
            return ", ".join(filter(None, ("backwards" if self.speed < 0 else "", fast)))
        if self._rate_reached >= 0.93 * wanted:
            return "full rate"
        return f"{self._rate_reached:.0f} of {wanted:.0f} a second: this machine is slower"

    def _name_it(self) -> None:
        name = self._name or "no clip"
        words = ", ".join(filter(None, (name, self._place_words(), self._part_words)))
        self.setAccessibleName(f"Player: {words} {self._problem}".strip())

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        with QPainter(self) as painter:
            c = self._theme.colours
            stage = QRectF(0, 0, self.width(), self.height() - self._bar_px)
            if self._image is not None and self._shape is not None:
                paint_ground(painter, stage, c, "")
                painter.drawImage(fitted(stage, self._shape.width / self._shape.height), self._image)
            else:
                words = self._problem or ("Choose a clip in the table." if self._key is None else "")
                paint_ground(painter, stage, c, words)
            self._paint_bar(painter)
            if self.hasFocus():
                painter.setPen(QPen(QColor(c.way), 3))
                painter.drawRect(QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -1.5))

    def _paint_bar(self, painter: QPainter) -> None:
        c = self._theme.colours
        bar = QRectF(0, self.height() - self._bar_px, self.width(), self._bar_px)
        painter.fillRect(bar, QColor(c.panel))
        painter.setPen(QColor(c.line))
        painter.drawRect(bar.adjusted(0.5, 0.5, -0.5, -0.5))
        if self._shape is None:
            return
        if self._part is not None:
            self._paint_part(painter, bar, *self._part)
        painter.setPen(QColor(c.ink))
        self._paint_play(painter, QRectF(bar.left(), bar.top(), _PLAY_PX, bar.height()))
        text = bar.adjusted(_PLAY_PX + 8, 0, -10, 0)
        place = self._place_words()
        painter.drawText(text, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, place)
        painter.setPen(QColor(c.soft))
        # Large text beside a narrow picture: what is said more goes no further than it has room.
        metrics = painter.fontMetrics()
        room_px = round(text.width()) - metrics.horizontalAdvance(f"{place}  ")
        words = metrics.elidedText(self._words_beside(), Qt.TextElideMode.ElideRight, room_px)
        painter.drawText(text, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, words)
        x = self._x_of(bar, self.moment)
        painter.setPen(QPen(QColor(c.ink), 2))
        painter.drawLine(QPointF(x, bar.top()), QPointF(x, bar.bottom()))

    def _x_of(self, bar: QRectF, moment: int) -> float:
        """Where a moment stands on the bar."""
        last = self._shape.moments - 1 if self._shape is not None else 0
        return bar.left() + _PLAY_PX + (bar.width() - _PLAY_PX) * moment / max(1, last)

    def _paint_part(self, painter: QPainter, bar: QRectF, first: int, end: int) -> None:
        """A line above what is marked, with a foot at each end: a shape, and no colour alone."""
        fields = self._shape.fields if self._shape is not None else 1
        left, right = self._x_of(bar, first * fields), self._x_of(bar, (end - 1) * fields)
        colour = QColor(self._theme.colours.way)
        painter.fillRect(QRectF(left, bar.top(), max(_PART_PX, right - left), _PART_PX), colour)
        for x in (left, right - 2):
            painter.fillRect(QRectF(x, bar.top(), 2, 1.6 * _PART_PX), colour)

    def _paint_play(self, painter: QPainter, box: QRectF) -> None:
        """What a click there does: begin to play, or stop."""
        painter.save()
        painter.setPen(QColor(self._theme.colours.line))
        painter.drawLine(box.topRight(), box.bottomRight())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self._theme.colours.ink))
        middle = box.center()
        if self.playing:
            painter.drawRect(QRectF(middle.x() - 5, middle.y() - 5, 10, 10))
        else:
            corners = [QPointF(-4, -6), QPointF(-4, 6), QPointF(6, 0)]
            painter.drawPolygon(QPolygonF([middle + corner for corner in corners]))
        painter.restore()


def _image(picture: Rgb) -> QImage:
    height, width = picture.shape[:2]
    # copy(): the image would not keep the samples alive by itself. It is the only copy that is made on this thread.
    samples = cast(Any, picture.data)
    return QImage(samples, width, height, width * 3, QImage.Format.Format_RGB888).copy()
