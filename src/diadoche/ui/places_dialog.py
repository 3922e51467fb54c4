"""Stepping through the suspect places of an output, with the same moment of its original beside it."""

from __future__ import annotations

import threading

from PyQt6.QtCore import QModelIndex
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from diadoche.core.identify.facts import Facts
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.screens.places import OutputPlaces, Place
from diadoche.services.side_processes.parser import Parser
from diadoche.ui.bridge import Bridge
from diadoche.ui.parts import button, label, within_screen
from diadoche.ui.player import PlayerView
from diadoche.ui.rows_table import RowsModel, RowsTable
from diadoche.ui.seam_curve_view import SeamCurveView
from diadoche.ui.theme import Theme

_SIZE_PX = (1180, 700)


class PlacesDialog(QDialog):
    """Places at the left; output and original, one above the other, at the right. The arrow keys step."""

    def __init__(self, parent: QWidget, theme: Theme, output: OutputPlaces) -> None:
        super().__init__(parent)
        self._output = output
        self._closed = False
        self.setWindowTitle(output.heading)
        self.resize(*within_screen(self.screen(), _SIZE_PX))
        self._model = RowsModel(
            theme,
            ("Place", "What is there"),
            lambda: len(output.places),
            lambda row: _texts(output.places[row]),
            lambda _row: None,
        )
        self.places = RowsTable(self._model, "Places to look at", 1, (170, 400))
        self._model.changed()
        self.output, self.original = PlayerView(theme), PlayerView(theme)
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(label(output.heading, "heading", wrap=True))
        self.curve: SeamCurveView | None = None
        if output.seam is not None:
            left.addLayout(self._seam(theme, output.seam))
        left.addWidget(self.places, 1)
        if not output.places:
            self.places.hide()
            left.addStretch(1)
        for words, player in (("Output", self.output), ("Original, at the same moment", self.original)):
            right.addWidget(label(words, "soft"))
            right.addWidget(player, 1)
        end = QHBoxLayout()
        end.addStretch(1)
        end.addWidget(button("Done", self.accept, name="main", tip="Back to the outputs"))
        right.addLayout(end)
        row = QHBoxLayout(self)
        row.setContentsMargins(22, 18, 22, 16)
        row.setSpacing(18)
        row.addLayout(left, 4)
        row.addLayout(right, 5)
        self.original.open(output.clip)
        self._bridge = Bridge(self._opened)
        # A file may lie on a disk that hangs: it is read on a thread, in a process of its own.
        threading.Thread(target=self._read, name="facts of an output", daemon=True).start()
        selection = self.places.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._show)
        self.finished.connect(self._close_players)
        (self.places if output.places or self.curve is None else self.curve).setFocus()

    def _seam(self, theme: Theme, seam: SeamCurve) -> QVBoxLayout:
        """The curve of the seams, and the way to its worst picture."""
        column, row = QVBoxLayout(), QHBoxLayout()
        self.curve = SeamCurveView(theme, seam)
        self.curve.chosen.connect(self._go_to)
        self.worst_button = button("Go to the worst", self.go_to_worst, tip="The picture in which seams fit least")
        self.worst_button.setEnabled(seam.worst is not None)
        row.addWidget(label("Edges across the seams", "strong"), 1)
        row.addWidget(self.worst_button)
        column.addLayout(row)
        column.addWidget(self.curve)
        return column

    def go_to_worst(self) -> None:
        """Shows the picture whose seams fit least."""
        seam = self._output.seam
        if seam is not None and seam.worst is not None and self.curve is not None:
            self.curve.show_picture(seam.worst[0])
            self._go_to(seam.worst[0])

    def _go_to(self, picture: int) -> None:
        self.output.go_to_picture(picture)
        self.original.go_to_time(float(picture / self._output.rate))

    def _read(self) -> None:
        with Parser() as parser:
            facts = parser.facts([self._output.path], "headers")
        self._bridge.post(facts)

    def _opened(self, facts: object) -> None:
        assert isinstance(facts, Facts)
        if self._closed:
            return
        self.output.open_file(self._output.path, facts)
        if self._output.places:
            self.places.selectRow(0)
            self._show(self._model.index(0, 0))
        else:
            self.go_to_worst()

    def _show(self, current: QModelIndex) -> None:
        if current.isValid():
            place = self._output.places[current.row()]
            self.output.go_to_picture(place.picture)
            if self.curve is not None:
                self.curve.show_picture(place.picture)
            self.original.go_to_time(place.time_s)

    def _close_players(self) -> None:
        self._closed = True
        # A decoder on a disk that hangs ends after seconds, or is killed: nobody waits for that here.
        for player in (self.output, self.original):
            threading.Thread(target=player.close_process, name="end of a player").start()


def _texts(place: Place) -> tuple[str, ...]:
    return place.place, place.words
