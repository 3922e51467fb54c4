"""How takes are stitched: chosen for many at once, looked at before anything is started."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import Any

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QDialog,
    QDoubleSpinBox,
    QGridLayout,
    QHBoxLayout,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from diadoche.core.sizes import count_text
from diadoche.screens.stitching import Stitching
from diadoche.services.ledger.takes import Take
from diadoche.services.side_processes.sphere_preview import ShotSeen, SpherePreview
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.parts import ChoiceBox, TickBox, button, label, panel, within_screen
from diadoche.ui.picture_stage import PictureStage
from diadoche.ui.plain_text import plain
from diadoche.ui.rows_table import Pictures, RowsModel, RowsTable
from diadoche.ui.sphere_pictures import PreviewThread, SeamPicture
from diadoche.ui.theme import Theme

_SIZE_PX = (1230, 740)
_LEFT_PX = 560
# Many lenses take longer: a smaller picture of them is there as soon.
_PREVIEW_PX, _MANY, _MANY_PX = 960, 3, 720
# Choices that follow each other, as when an angle is turned, are previewed once.
_SETTLE_MS = 250
_STEPS = 1000
_QUALITIES = (
    ("best", "Best: near things matched in each picture"),
    ("standing", "Camera stands: matched in every fifth"),
    ("quick", "Quick: near things stand twice at seams"),
)
_LEVELS = (
    ("no", "As it was held"),
    ("once", "Once, by how it leaned most of the time"),
    ("each picture", "In each picture"),
)
_LAYOUTS = (
    ("mono", "One for both eyes"),
    ("top-bottom", "Eyes over each other"),
    ("side-by-side", "Eyes side by side"),
)


class StitchDialog(QDialog):
    """Takes and their settings at the left, a stitched moment and its seams at the right."""

    def __init__(
        self, parent: QWidget, theme: Theme, stitching: Stitching, takes: Sequence[Take], icons: ClipIcons
    ) -> None:
        super().__init__(parent)
        self._stitching, self._takes = stitching, list(takes)
        self._showing = self._closed = False
        self._seams: dict[str, QImage] = {}
        self._shots: dict[int, ShotSeen] = {}
        self.setWindowTitle(f"How {count_text(len(takes), 'take')} {'is' if len(takes) == 1 else 'are'} stitched")
        self.resize(*within_screen(self.screen(), _SIZE_PX))
        row = QHBoxLayout(self)
        row.setContentsMargins(22, 18, 22, 16)
        row.setSpacing(20)
        row.addLayout(self._left(theme, icons), 0)
        row.addLayout(self._right(theme), 1)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SETTLE_MS)
        self._later.timeout.connect(self._ask)
        self._previews = PreviewThread(self._previewed, self._seen)
        stitching.listeners.append(self._refresh)
        self.finished.connect(self._close)
        self.takes.selectAll()
        selection = self.takes.selectionModel()
        assert selection is not None
        selection.selectionChanged.connect(lambda *_: self._refresh())
        selection.currentRowChanged.connect(lambda *_: self._middle())
        self._refresh()
        self.takes.setFocus()

    # -- making it -----------------------------------------------------------------------------

    def _left(self, theme: Theme, icons: ClipIcons) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(12)
        column.addWidget(label(self.windowTitle(), "heading"))
        self._model = RowsModel(
            theme,
            ("Take", "Rig", "Becomes"),
            lambda: len(self._takes),
            self._texts,
            lambda row: self._stitching.row(self._takes[row]).mark,
            pictures=Pictures(icons, lambda row: self._takes[row].lenses[0][0]),
        )
        self.takes = RowsTable(self._model, "Takes", 0, (220, 160, 150))
        # Takes of one card begin alike; their ends tell them apart.
        self.takes.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.takes.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.takes.setFixedWidth(_LEFT_PX)
        self._model.changed()
        column.addWidget(self.takes, 1)
        column.addWidget(self._form(theme))
        self._said = label("", "soft", wrap=True)
        self._said.setFixedWidth(_LEFT_PX)
        column.addWidget(self._said)
        return column

    def _form(self, theme: Theme) -> QWidget:
        form = panel()
        form.setFixedWidth(_LEFT_PX)
        grid = QGridLayout(form)
        grid.setContentsMargins(14, 12, 14, 12)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(8)
        grid.setColumnStretch(1, 1)
        self._whom = label("", "strong")
        grid.addWidget(self._whom, 0, 0, 1, 3)
        self._add_choices(grid, theme)
        self._add_direction(grid, theme)
        self._add_filling(grid, theme)
        return form

    def _add_choices(self, grid: QGridLayout, theme: Theme) -> None:
        """Rig, quality, eyes and size."""
        self.rig = self._choice(theme, "Rig", lambda: self._stitching.choose_rig(self._chosen, self.rig.currentData()))
        self.quality = self._choice(theme, "Quality", lambda: self._change(quality=self.quality.currentData()))
        self.layout_choice = self._choice(
            theme, "Eyes", lambda: self._change(layout=self.layout_choice.currentData(), size=None)
        )
        self.size_choice = self._choice(theme, "Size", lambda: self._change(size=self.size_choice.currentData()))
        for name, title in _QUALITIES:
            self.quality.addItem(title, name)
        for name, title in _LAYOUTS:
            self.layout_choice.addItem(title, name)
        boxes = (self.rig, self.quality, self.layout_choice, self.size_choice)
        for number, box in enumerate(boxes, start=1):
            words = label(box.accessibleName(), "soft")
            words.setBuddy(box)
            grid.addWidget(words, number, 0)
            grid.addWidget(box, number, 1, 1, 1 if box is self.rig else 2)
        self.align_button = button(
            "Align here", self.align, tip="Aligns the lenses by the moment on show; all takes of this body use it"
        )
        grid.addWidget(self.align_button, 1, 2)

    def _add_direction(self, grid: QGridLayout, theme: Theme) -> None:
        """What comes into the middle, and which way is up."""
        self.angles = [self._angle(name, limit) for name, limit in (("Right", 180), ("Up", 90), ("Roll", 180))]
        grid.addWidget(label("Centre", "soft"), 5, 0)
        for angle in self.angles:
            angle.valueChanged.connect(lambda _value: self._turn())
        turn = QHBoxLayout()
        turn.setSpacing(6)
        for angle in self.angles:
            turn.addWidget(label(angle.accessibleName().partition(" ")[0].lower(), "soft"))
            turn.addWidget(angle)
        turn.addStretch(1)
        self.over_button = button("Turn over", self.turn_over, tip="For a camera that hung upside down")
        turn.addWidget(self.over_button)
        grid.addLayout(turn, 5, 1, 1, 2)
        self.level = self._choice(theme, "Level", lambda: self._change(level=self.level.currentData()))
        for name, title in _LEVELS:
            self.level.addItem(title, name)
        words = label("Level", "soft")
        words.setBuddy(self.level)
        grid.addWidget(words, 6, 0)
        grid.addWidget(self.level, 6, 1, 1, 2)

    def _add_filling(self, grid: QGridLayout, theme: Theme) -> None:
        """Light and colour, and what no lens saw."""
        self.even = TickBox(theme, "Lenses evened in light and colour")
        self.even.toggled.connect(lambda on: self._change(even_out=on))
        grid.addWidget(self.even, 7, 1, 1, 2)
        self.poles = TickBox(theme, "Holes above and below filled from around")
        self.poles.setToolTip("Where no lens sees; it is made up from what lies around. Black where this is off")
        self.poles.toggled.connect(lambda on: self._change(fill_poles=on))
        self.cover = self._angle("Cover", 60)
        self.cover.setMinimum(0)
        self.cover.setAccessibleName("Cover below, in degrees")
        self.cover.setToolTip("Over a tripod: so far around the nadir is made up from what lies around; 0 is none")
        self.cover.valueChanged.connect(lambda value: self._change(cover_deg=value))
        below = QHBoxLayout()
        below.setSpacing(6)
        below.addWidget(self.poles, 1)
        below.addWidget(label("cover below", "soft"))
        below.addWidget(self.cover)
        grid.addLayout(below, 8, 1, 1, 2)
        self.hole = TickBox(theme, "Stitched though a lens is missing: what no other saw is black")
        self.hole.setToolTip("Or filled from around, above and below, where that is chosen")
        self.hole.toggled.connect(lambda on: self._change(with_hole=on))
        grid.addWidget(self.hole, 9, 1, 1, 2)

    def _choice(self, theme: Theme, name: str, chosen: Callable[[], object]) -> ChoiceBox:
        box = ChoiceBox(theme)
        box.setAccessibleName(name)
        box.activated.connect(lambda _index: chosen())
        return box

    def _angle(self, name: str, limit: float) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setRange(-limit, limit)
        box.setDecimals(1)
        box.setSuffix("°")
        box.setButtonSymbols(QAbstractSpinBox.ButtonSymbols.NoButtons)
        box.setFixedWidth(72)
        box.setAccessibleName(f"{name} in degrees")
        box.setToolTip(
            {"Right": "What comes into the middle, to the right", "Up": "And above it"}.get(name, "Clockwise")
        )
        return box

    def _right(self, theme: Theme) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(10)
        self._name = label("", "heading")
        column.addWidget(self._name)
        self.picture = PictureStage(theme, "The stitched picture of this moment")
        column.addWidget(self.picture, 5)
        moment = QHBoxLayout()
        self.moment = QSlider(Qt.Orientation.Horizontal)
        self.moment.setRange(0, _STEPS)
        self.moment.setAccessibleName("Moment of the take")
        self.moment.setToolTip("The moment that is shown, and by which lenses are aligned")
        self.moment.valueChanged.connect(lambda _value: self._show_moment())
        self._time = label("", "soft")
        self._time.setFixedWidth(110)
        moment.addWidget(self.moment, 1)
        moment.addWidget(self._time)
        column.addLayout(moment)
        head = QHBoxLayout()
        self._measured = label("", "strong")
        head.addWidget(self._measured, 1)
        self.seam_choice = self._choice(theme, "Seam", self._show_seam)
        self.seam_choice.setFixedWidth(200)
        head.addWidget(self.seam_choice)
        column.addLayout(head)
        self.seam = SeamPicture(theme, "A seam, unrolled, in three pieces")
        column.addWidget(self.seam, 4)
        end = QHBoxLayout()
        end.addStretch(1)
        done = button("Done", self.accept, name="main", tip="Back to the outputs; what was chosen is kept")
        done.setDefault(True)
        end.addWidget(done)
        column.addLayout(end)
        return column

    # -- what is chosen ------------------------------------------------------------------------

    def _texts(self, row: int) -> tuple[str, ...]:
        found = self._stitching.row(self._takes[row])
        return found.name, found.rig, found.size

    @property
    def _chosen(self) -> list[Take]:
        """The takes that are chosen; where none is, the one that is looked at."""
        selection = self.takes.selectionModel()
        assert selection is not None
        rows = sorted({index.row() for index in selection.selectedRows()})
        return [self._takes[row] for row in rows] or [self._looked_at]

    @property
    def _looked_at(self) -> Take:
        row = self.takes.currentIndex().row()
        return self._takes[max(0, row)]

    def _change(self, **changes: Any) -> None:
        if not self._showing:
            self._stitching.change(self._chosen, **changes)

    def _turn(self) -> None:
        self._change(turn_deg=tuple(angle.value() for angle in self.angles))

    def turn_over(self) -> None:
        """Rolls the picture by half a circle, or back."""
        roll = self.angles[2]
        roll.setValue(0.0 if abs(roll.value()) == 180 else 180.0)

    def align(self) -> None:
        """Aligns the body of the take that is looked at by the moment on show."""
        self._stitching.align(self._looked_at, self._moment_s)

    # -- showing it ----------------------------------------------------------------------------

    def _refresh(self) -> None:
        """Shows what is chosen, and asks for a picture of it."""
        take, stitching = self._looked_at, self._stitching
        settings = stitching.settings(take)
        self._showing = True
        self._model.changed()
        chosen = self._chosen
        self._whom.setText(chosen[0].name if len(chosen) == 1 else f"For {count_text(len(chosen), 'chosen take')}")
        self._fill(self.rig, [(each.name, each.title) for each in stitching.rig_choices(take)])
        self.rig.setCurrentIndex(self.rig.findData(stitching.rig_name(take)))
        self.rig.setEnabled(self.rig.count() > 0)
        self.quality.setCurrentIndex(self.quality.findData(settings.quality))
        self.layout_choice.setCurrentIndex(self.layout_choice.findData(settings.layout))
        rig = stitching.rig(take)
        self.layout_choice.setEnabled(rig is not None and rig.has_two_eyes)
        self.layout_choice.setToolTip(plain("" if self.layout_choice.isEnabled() else "This rig has one eye"))
        self._fill(self.size_choice, stitching.sizes(take))
        self.size_choice.setCurrentIndex(max(0, self.size_choice.findData(settings.size)))
        self.size_choice.setEnabled(self.size_choice.count() > 0)
        for angle, value in zip(self.angles, settings.turn_deg, strict=True):
            angle.setValue(value)
        self.level.setCurrentIndex(self.level.findData(settings.level))
        self.level.setEnabled(stitching.can_be_levelled(take) or settings.level != "no")
        self.level.setToolTip(
            "By the camera's motion track; where it looks stays as it is"
            if stitching.can_be_levelled(take)
            else "This take has no motion track: level it by its roll"
        )
        self.even.setChecked(settings.even_out)
        self.poles.setChecked(settings.fill_poles)
        self.hole.setVisible(any(each.missing for each in self._takes))
        self.hole.setEnabled(any(each.missing for each in chosen))
        self.hole.setChecked(settings.with_hole)
        self.cover.setValue(settings.cover_deg)
        under_way = stitching.aligning(take) is not None
        self.align_button.setEnabled(rig is not None and not under_way and not take.missing)
        self.align_button.setText("Aligning…" if under_way else "Align here")
        self._name.setText(f"{take.name} · {take.lens_words}")
        self._said.setText(stitching.said or stitching.mistake(take) or self._shot_words())
        self._showing = False
        self._show_moment()

    def _shot_words(self) -> str:
        """What the shot asks for, by what was seen at the moment on show."""
        shot = self._shots.get(self._looked_at.clip.id)
        return shot.words(self._stitching.settings(self._looked_at).quality) if shot is not None else ""

    def _fill(self, box: ChoiceBox, items: Sequence[tuple[Any, str]]) -> None:
        now = [(box.itemData(place), box.itemText(place)) for place in range(box.count())]
        if now != list(items):
            box.clear()
            for data, title in items:
                box.addItem(title, data)

    @property
    def _moment_s(self) -> Fraction:
        facts = self._looked_at.facts
        # The last picture can be shown too: nothing is behind it.
        last_s = max(Fraction(0), Fraction(facts.duration_s).limit_denominator(100_000) - Fraction(1, 10))
        return last_s * self.moment.value() / _STEPS

    @property
    def _preview_px(self) -> int:
        return _MANY_PX if self._looked_at.lens_count >= _MANY else _PREVIEW_PX

    def _middle(self) -> None:
        self.moment.setValue(_STEPS // 2)
        self._refresh()

    def _show_moment(self) -> None:
        self._time.setText(f"at {float(self._moment_s):.2f} s")
        self._later.start()

    def _ask(self) -> None:
        take = self._looked_at
        if wrong := self._stitching.mistake(take):
            self._previewed(SpherePreview(problem=wrong))
            return
        lens_take, settings = self._stitching.lens_take(take), self._stitching.settings(take)
        self._previews.ask(take.clip.id, lens_take, settings, self._moment_s, self._preview_px)

    def _previewed(self, found: SpherePreview) -> None:
        if self._closed:
            return
        self.picture.show_picture(QImage.fromData(found.png) if found.png else None, found.problem)
        self._seams = {each.name: QImage.fromData(each.png) for each in found.seams}
        self._fill(self.seam_choice, [(name, name) for name in self._seams])
        self.seam_choice.setVisible(len(self._seams) > 1)
        self._measured.setText(self._break_words(found) if found.png else "")
        self._show_seam()

    def _seen(self, take_id: int, shot: ShotSeen) -> None:
        if self._closed:
            return
        self._shots[take_id] = shot
        self._said.setText(self._stitching.said or self._shot_words())

    def _break_words(self, found: SpherePreview) -> str:
        if found.break_px is None:
            return "Nothing at the seams can be compared here"
        size = self._stitching.size(self._looked_at)
        # Told in pixels of the result, though measured on a smaller picture.
        layout = self._stitching.settings(self._looked_at).layout
        eye_px = 0 if size is None else size[0] // (1 + (layout == "side-by-side"))
        return f"Edges across the seams break by {found.break_px * eye_px / self._preview_px:.1f} px here"

    def _show_seam(self) -> None:
        self.seam.show_picture(self._seams.get(self.seam_choice.currentData() or ""))

    def _close(self) -> None:
        # What is on its way from the thread of previews may still come, to widgets that are gone.
        self._closed = True
        self._later.stop()
        self._previews.close()
        self._model.want_no_pictures()
        self._stitching.listeners.remove(self._refresh)
