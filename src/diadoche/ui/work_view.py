"""Work: every job in one list."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from diadoche.screens.actions import Action
from diadoche.screens.work import COLUMNS, WorkRow, WorkScreen
from diadoche.ui.actions import Groups, opens_menu
from diadoche.ui.parts import ElidedLabel, RowsModel, button, label, table
from diadoche.ui.theme import Theme
from diadoche.ui.view import View


class WorkView(View):
    """The list, and what can be done with the selected job."""

    def __init__(self, theme: Theme, screen: WorkScreen) -> None:
        super().__init__()
        self._screen = screen
        self._rows: list[WorkRow] = screen.rows()
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
        self._empty = label("Nothing was asked for yet.", "soft")
        column.addWidget(self._empty)
        self._model = RowsModel(
            theme,
            COLUMNS,
            lambda: len(self._rows),
            lambda row: (self._rows[row].title, self._rows[row].state, self._rows[row].far, self._rows[row].time),
            lambda row: self._rows[row].mark,
        )
        self.table = table(self._model, "Jobs", 0, (480, 130, 110, 190))
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda _now, _before: self._show_selected())
        column.addWidget(self.table, 1)
        self._detail = label(wrap=True)
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
        return self.table if self._rows else None

    def shown(self) -> None:
        """The jobs as they are now: they are not followed while another view is shown."""
        self.refresh()

    def refresh(self) -> None:
        """Shows the jobs as they are now."""
        self._rows = self._screen.rows()
        self._load.setText(self._screen.load())
        self._model.changed()
        self._empty.setVisible(not self._rows)
        self.table.setVisible(bool(self._rows))
        self._show_selected()

    def _selected(self) -> WorkRow | None:
        row = self.table.currentIndex().row()
        return self._rows[row] if 0 <= row < len(self._rows) else None

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
