"""The ledger: waybills with their copies, the disks, and what happened, one list at a time."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices, QShowEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diadoche.screens.actions import Action
from diadoche.screens.ledger import CHECK_CHOICES, COLUMNS, DISK_COLUMNS, HAPPENING_COLUMNS, LedgerScreen
from diadoche.screens.marks import Mark
from diadoche.ui.actions import Groups, opens_menu
from diadoche.ui.file_manager import copy_paths, show_in_files
from diadoche.ui.flow_layout import flowing
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import (
    ChoiceBox,
    TickBox,
    button,
    emptied,
    label,
    leaves_by_escape,
    menu_button,
    panel,
    scrolled,
    selectable,
    show_chosen,
    tab_button,
)
from diadoche.ui.rows_table import RowsModel, RowsTable
from diadoche.ui.theme import Theme
from diadoche.ui.view import View

_WAYBILLS, _DISKS, _HAPPENED = range(3)

# Its head and a few rows.
_LIST_LEAST_PX = 150


class LedgerView(View):
    """Three lists; below the first, where the copies of the selected waybill are."""

    def __init__(self, theme: Theme, screen: LedgerScreen) -> None:
        super().__init__("Ledger", screen.summary)
        self._theme = theme
        self._screen = screen
        self._pages = QStackedWidget()
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addLayout(self._head())
        column.addWidget(self._pages, 1)
        self._pages.addWidget(self._waybill_page())
        self._disk_model = RowsModel(
            theme, DISK_COLUMNS, lambda: len(screen.disks), lambda row: screen.disks[row].texts(), self._disk_mark
        )
        self.disk_table = RowsTable(self._disk_model, "Disks", 1, (280, 380, 110, 110, 150))
        self.disk_table.setToolTip("Return or a double click shows what a disk holds, in the drawer too")
        self.disk_table.activated.connect(lambda index: self._show_disk(index.row()))
        self._pages.addWidget(self.disk_table)
        self._happening_model = RowsModel(
            theme, HAPPENING_COLUMNS, lambda: len(screen.happened), screen.happening_texts, screen.happening_mark
        )
        self._happening_table = RowsTable(self._happening_model, "What happened", 0, (700, 190))
        self._pages.addWidget(self._happening_table)
        self._message = label(name="soft", wrap=True)
        column.addWidget(self._message)
        screen.on_change = self.refresh
        self.show_page(_WAYBILLS)

    def first_focus(self) -> QWidget:
        """The list that is shown, or the search where it is empty."""
        shown = (self.table, self.disk_table, self._happening_table)[self._pages.currentIndex()]
        return shown if shown.isVisibleTo(self) else self.search

    def _head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        # No exclusive group: every one of them is reached by Tab.
        self._tabs: list[QPushButton] = []
        for number, name in enumerate(("Waybills", "Disks", "What happened")):
            self._tabs.append(tab_button(name, partial(self.show_page, number)))
        row.addWidget(flowing(*self._tabs), 1)
        self._wanting = TickBox(self._theme, "Too few copies")
        self._wanting.setToolTip("Only cards that stand on fewer disks than their shoot asks for")
        self._wanting.toggled.connect(self._screen.show_only_wanting)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search cards, shoots, days, clips, files, digests, disks")
        self.search.setAccessibleName("Search the ledger")
        # As wide as its words, or as the window.
        self.search.setMinimumWidth(240)
        self.search.textChanged.connect(self._screen.search)
        leaves_by_escape(self.search, lambda: self.first_focus().setFocus())
        more, menu = menu_button("Copies", tip="What can be done with copies, whatever is selected")
        for title, doing in (
            ("Fetch a clip or a file…", self._restore),
            ("Bring two places level…", self._level),
            ("Take in footage where it lies…", self._take_in),
            ("Fill the ledger from manifests…", self._rebuild),
        ):
            action = menu.addAction(title)
            assert action is not None
            action.triggered.connect(lambda _on=False, doing=doing: doing())
        row.addWidget(flowing(self._wanting, self.search, more, right=True), 2)
        return row

    def _waybill_page(self) -> QWidget:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(12)
        self._empty = label("", "soft")
        column.addWidget(self._empty)
        screen = self._screen
        self._model = RowsModel(self._theme, COLUMNS, lambda: len(screen.entries), screen.texts, screen.mark)
        self.table = RowsTable(self._model, "Waybills", 0, (170, 140, 155, 52, 80, 108, 118, 165))
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda current, _before: self._select(current.row()))
        self.table.setMinimumHeight(_LIST_LEAST_PX)
        opens_menu(self.table, self._waybill_actions)
        column.addWidget(self.table, 1)
        column.addWidget(self._detail_panel())
        return page

    def _waybill_actions(self) -> Groups:
        """What can be done with the selected waybill and its copies."""
        detail = self._screen.detail()
        if detail is None:
            return ()
        return (
            (
                Action("Open the waybill", self._open_page, enabled=lambda: detail.page is not None),
                Action("Check the copies again", self._screen.check_copies),
                Action("Copy on to…", self._copy_on_to, enabled=lambda: detail.can_copy_on),
            ),
            (
                Action("Show in files", lambda: show_in_files(detail.folders), enabled=lambda: bool(detail.folders)),
                Action("Copy where it lies", lambda: copy_paths(detail.folders), enabled=lambda: bool(detail.folders)),
            ),
        )

    def _detail_panel(self) -> QWidget:
        self._sheet = panel()
        row = QHBoxLayout(self._sheet)
        row.setContentsMargins(14, 12, 14, 12)
        words = QVBoxLayout()
        words.setSpacing(8)
        self._title = label(name="title", wrap=True)
        words.addWidget(self._title)
        inside = QWidget()
        held = QVBoxLayout(inside)
        held.setContentsMargins(0, 0, 0, 0)
        self._copies = QVBoxLayout()
        self._copies.setSpacing(6)
        held.addLayout(self._copies)
        held.addStretch(1)
        # Where there is no room for all of them, the list above keeps some of it, and none is cut.
        words.addWidget(scrolled(inside, "Where the copies are"), 1)
        row.addLayout(words, 1)
        buttons = QVBoxLayout()
        buttons.setSpacing(6)
        self._open = button("Open the waybill", self._open_page, tip="The page that lies beside the copies")
        self._check = button(
            "Check the copies again", self._screen.check_copies, tip="Read every byte back from the disks"
        )
        self._copy_on = button(
            "Copy on to…", self._copy_on_to, tip="One more copy, made from a proven one and proven there"
        )
        for each in (self._open, self._check, self._copy_on):
            buttons.addWidget(each)
        buttons.addSpacing(4)
        buttons.addWidget(label("Copies are read back", "small"))
        self._every = ChoiceBox(self._theme)
        self._every.setAccessibleName("How often copies are read back")
        for days, words_of_days in CHECK_CHOICES:
            self._every.addItem(words_of_days, days)
        self._every.activated.connect(lambda _index: self._screen.set_check_every_days(self._every.currentData()))
        buttons.addWidget(self._every)
        row.addLayout(buttons)
        return self._sheet

    def show_page(self, number: int) -> None:
        """Shows one of the three lists."""
        self._pages.setCurrentIndex(number)
        for each, tab in enumerate(self._tabs):
            show_chosen(tab, each == number)
        self.search.setVisible(number == _WAYBILLS)
        self._wanting.setVisible(number == _WAYBILLS)
        self.refresh()
        if number == _HAPPENED:
            self._screen.read_all()

    def showEvent(self, event: QShowEvent | None) -> None:  # Qt's name
        super().showEvent(event)
        self._show_detail()

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
        self.refresh()

    def refresh(self) -> None:
        """Shows the lists as they are now; the newest waybill is selected when none is."""
        self._model.changed()
        self._disk_model.changed()
        self._happening_model.changed()
        screen = self._screen
        found = "Looking…" if screen.is_looking else "Nothing matches."
        nothing = found if screen.searching else "Every offload leaves a waybill here."
        self._empty.setText(nothing)
        self._empty.setVisible(not screen.entries)
        chosen = next((row for row, entry in enumerate(screen.entries) if entry.id == screen.selected), 0)
        if screen.entries and self.table.currentIndex().row() != chosen:
            self.table.selectRow(chosen)
        unread = screen.unread()
        self._tabs[_HAPPENED].setText(f"What happened ({unread} new)" if unread else "What happened")
        self._message.setText(screen.message)
        self._message.setVisible(bool(screen.message))
        self._every.setCurrentIndex(max(0, self._every.findData(screen.check_every_days)))
        self._show_detail()

    def _show_disk(self, row: int) -> None:
        self.search.setText(self._screen.disks[row].search)
        self.show_page(_WAYBILLS)
        self.table.setFocus()

    def _disk_mark(self, row: int) -> Mark:
        return Mark.PROVEN if self._screen.disks[row].here and self._screen.disks[row].cards else Mark.EXPECTED

    def _select(self, row: int) -> None:
        self._screen.select(row)
        self._show_detail()

    def _show_detail(self) -> None:
        """The selected waybill and its copies; put together only where somebody sees it."""
        if not self.isVisible():
            return
        detail = self._screen.detail()
        self._sheet.setVisible(detail is not None)
        emptied(self._copies)
        if detail is None:
            return
        self._title.setText(detail.title)
        self._open.setEnabled(detail.page is not None)
        self._copy_on.setEnabled(detail.can_copy_on)
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
        words = label(text, wrap=True)
        selectable(words)
        row.addWidget(words, 1)
        return line

    # -- what is asked for ---------------------------------------------------------------------

    def _open_page(self) -> None:
        detail = self._screen.detail()
        if detail is not None and detail.page is not None:
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(detail.page)))

    def _folder(self, title: str) -> Path | None:
        chosen = QFileDialog.getExistingDirectory(self, title)
        return Path(chosen) if chosen else None

    def _copy_on_to(self) -> None:
        if (to := self._folder("The disk or folder that gets one more copy")) is not None:
            self._screen.copy_on(to)

    def _restore(self) -> None:
        wanted, sure = QInputDialog.getText(self, "Fetch from a proven copy", "Name of the clip or the file")
        if sure and wanted.strip() and (to := self._folder("Where it goes")) is not None:
            self._screen.restore(wanted.strip(), to)

    def _level(self) -> None:
        here = self._folder("One place for copies")
        there = self._folder("The other place") if here is not None else None
        if here is not None and there is not None:
            self._screen.level(here, there)

    def _take_in(self) -> None:
        if (folder := self._folder("Footage that lies on a good disk already")) is not None:
            self._screen.take_in(folder)

    def _rebuild(self) -> None:
        if (folder := self._folder("A disk, or a place for copies")) is not None:
            self._screen.rebuild(folder)
