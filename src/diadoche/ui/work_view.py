"""Work: every job in one list."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from diadoche.screens.actions import Action
from diadoche.screens.work import COLUMNS, WorkRow, WorkScreen
from diadoche.ui.actions import Groups, opens_menu
from diadoche.ui.parts import ElidedLabel, button, label, selectable
from diadoche.ui.rows_table import RowsModel, RowsTable
from diadoche.ui.theme import Theme
from diadoche.ui.view import View


class WorkView(View):
    """The list, and what can be done with the selected job."""

    def __init__(self, theme: Theme, screen: WorkScreen) -> None:
        super().__init__("Work", screen.summary)
        self._screen = screen
        screen.refresh()
        # The job that is selected: it stays so when newer ones come above it.
        self._chosen: int | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        head = QHBoxLayout()
        head.addWidget(label("Work, the newest first", "heading"))
        self._load = ElidedLabel()
        self._load.setObjectName("soft")
        self._load.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        head.addWidget(self._load, 1)
        column.addLayout(head)
        self._empty = label("Nothing was asked for since the start.", "soft")
        column.addWidget(self._empty)
        self._model = RowsModel(
            theme,
            COLUMNS,
            lambda: len(screen),
            lambda place: _texts(screen.row(place)),
            lambda place: screen.row(place).mark,
        )
        self.table = RowsTable(self._model, "Jobs", 0, (480, 130, 110, 190))
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda now, _before: self._choose(now.row()))
        column.addWidget(self.table, 1)
        self._detail = label(wrap=True)
        selectable(self._detail)
        row = QHBoxLayout()
        row.addWidget(self._detail, 1)
        self._stop = button("Stop", self._stop_selected, tip="What is finished is kept; nothing half-made stays")
        self._retry = button("Do it again", self._retry_selected)
        opens_menu(self.table, self._actions)
        self._first = button("Do it first", self._first_selected, tip="It is the next one as soon as there is room")
        row.addWidget(self._first)
        row.addWidget(self._stop)
        row.addWidget(self._retry)
        column.addLayout(row)
        self.refresh()

    def _actions(self) -> Groups:
        """What can be done with the selected job."""
        row = self._selected()
        if row is None:
            return ()
        return (
            (
                Action("Do it first", self._first_selected, enabled=lambda: row.can_be_first),
                Action("Stop", self._stop_selected, enabled=lambda: row.can_stop),
                Action("Do it again", self._retry_selected, enabled=lambda: row.can_retry),
            ),
        )

    def first_focus(self) -> QWidget | None:
        """The jobs."""
        return self.table if len(self._screen) else None

    def shown(self) -> None:
        """The jobs as they are now: they are not followed while another view is shown."""
        self.refresh()

    def follow(self) -> None:
        """How far they are."""
        self.refresh()

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
        self.refresh()

    def refresh(self) -> None:
        """Shows the jobs as they are now."""
        chosen = self._chosen
        self._screen.refresh()
        self._load.setText(self._screen.load())
        self._model.changed()
        self._empty.setVisible(not len(self._screen))
        self.table.setVisible(bool(len(self._screen)))
        place = self._screen.place_of(chosen) if chosen is not None else None
        if place is not None and place != self.table.currentIndex().row():
            self.table.selectRow(place)
        self._show_selected()

    def _choose(self, place: int) -> None:
        self._chosen = self._screen.row(place).number if 0 <= place < len(self._screen) else None
        self._show_selected()

    def _selected(self) -> WorkRow | None:
        place = self._screen.place_of(self._chosen) if self._chosen is not None else None
        return self._screen.row(place) if place is not None else None

    def _show_selected(self) -> None:
        row = self._selected()
        self._detail.setText(row.detail if row else "")
        self._stop.setEnabled(row is not None and row.can_stop)
        self._retry.setEnabled(row is not None and row.can_retry)
        self._first.setEnabled(row is not None and row.can_be_first)

    def _first_selected(self) -> None:
        if (row := self._selected()) is not None:
            self._screen.do_first(row.number)

    def _stop_selected(self) -> None:
        if (row := self._selected()) is not None:
            self._screen.stop(row.number)

    def _retry_selected(self) -> None:
        if (row := self._selected()) is not None:
            self._screen.retry(row.number)


def _texts(row: WorkRow) -> tuple[str, ...]:
    return row.title, row.state, row.far, row.time
