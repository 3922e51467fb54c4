"""The ledger: a plain list of waybills, and where the copies of the selected one are."""

from __future__ import annotations

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from diadoche.screens.ledger import COLUMNS, LedgerScreen
from diadoche.screens.marks import Mark
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import RowsModel, button, label, panel, table
from diadoche.ui.theme import Theme


class LedgerView(QWidget):
    """Waybills above, copies below."""

    def __init__(self, theme: Theme, screen: LedgerScreen) -> None:
        super().__init__()
        self._theme = theme
        self._screen = screen
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addWidget(label("Waybills", "heading"))
        self._empty = label("Every offload leaves a waybill here.", "soft")
        column.addWidget(self._empty)
        self._model = RowsModel(theme, COLUMNS, lambda: len(screen.entries), screen.texts, screen.mark)
        self.table = table(self._model, "Waybills", 0, (300, 220, 80, 80, 110, 150))
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda current, _before: self._select(current.row()))
        column.addWidget(self.table, 1)
        column.addWidget(self._detail_panel())
        screen.on_change = self.refresh
        self.refresh()

    def _detail_panel(self) -> QWidget:
        self._sheet = panel()
        row = QHBoxLayout(self._sheet)
        row.setContentsMargins(14, 12, 14, 12)
        words = QVBoxLayout()
        words.setSpacing(8)
        self._title = label(name="title")
        words.addWidget(self._title)
        self._copies = QVBoxLayout()
        self._copies.setSpacing(6)
        words.addLayout(self._copies)
        row.addLayout(words, 1)
        buttons = QVBoxLayout()
        self._open = button("Open the waybill", self._open_page, tip="The page that lies beside the copies")
        self._check = button(
            "Check the copies again", self._screen.check_copies, tip="Read every byte back from the disks"
        )
        buttons.addWidget(self._open)
        buttons.addWidget(self._check)
        buttons.addStretch(1)
        row.addLayout(buttons)
        return self._sheet

    def refresh(self) -> None:
        """Shows the list as it is now; the newest is selected when none is."""
        self._model.changed()
        self._empty.setVisible(not self._screen.entries)
        if self._screen.entries and self._screen.selected is None:
            self.table.selectRow(0)
        self._show_detail()

    def _select(self, row: int) -> None:
        self._screen.select(row)
        self._show_detail()

    def _show_detail(self) -> None:
        detail = self._screen.detail()
        self._sheet.setVisible(detail is not None)
        while (item := self._copies.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        if detail is None:
            return
        self._title.setText(detail.title)
        self._open.setEnabled(detail.page is not None)
        for mark, text in detail.copies:
            self._copies.addWidget(self._copy_line(mark, text))

    def _copy_line(self, mark: Mark, text: str) -> QWidget:
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        shape = MarkWidget(self._theme, 16)
        shape.show_mark(mark)
        row.addWidget(shape)
        row.addWidget(label(text, wrap=True), 1)
        return line

    def _open_page(self) -> None:
        detail = self._screen.detail()
        if detail is not None and detail.page is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(detail.page)))
