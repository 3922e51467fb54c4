"""The first view: the board, the one button, and the bench where there is one; before all that, the first page."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QStackedLayout, QToolTip, QVBoxLayout, QWidget

from diadoche.core.errors import DiadocheError
from diadoche.screens.cards import NEVER, CardsScreen
from diadoche.ui.address_dialog import AddressDialog
from diadoche.ui.board import Board
from diadoche.ui.flow_layout import flowing
from diadoche.ui.glance_view import GlanceView
from diadoche.ui.parts import ElidedLabel, TickBox, button, label, menu_button, panel, scrolled, show_chosen
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme
from diadoche.ui.view import View

if TYPE_CHECKING:
    # Loaded for the demo alone: it draws cameras, and a start of the application would wait for that.
    from diadoche.demo.bench import Bench
    from diadoche.ui.bench_view import BenchView

_FIRST, _BOARD, _GLANCE = range(3)
_SAID_S = 6.0
_HINT_LEAST_PX = 240


class CardsView(View):
    """Cards, places and what crosses between them."""

    def __init__(
        self, theme: Theme, screen: CardsScreen, bench: Bench | None, connect: Callable[[str, str, str], None]
    ) -> None:
        """`connect` connects to a share by its address, with a user and a password."""
        super().__init__("Cards", screen.summary)
        self._screen = screen
        self._connect = connect
        self.address_dialog: AddressDialog | None = None
        self._said_until_s = 0.0
        self._stack = QStackedLayout(self)
        self._first_page = _FirstPage(screen, self.choose_place, self.choose_card)
        self._stack.addWidget(self._first_page)
        board_page = QWidget()
        self._stack.addWidget(board_page)
        self.glance = GlanceView(theme, screen.glance, self._show_board)
        self._stack.addWidget(self.glance)
        self._board = Board(theme, screen)
        scroll = scrolled(self._board)
        column = QVBoxLayout(board_page)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addLayout(self._headings())
        column.addWidget(scroll, 1)
        column.addWidget(self._action_bar(theme))
        self._bench: BenchView | None = None
        if bench is not None:
            from diadoche.ui.bench_view import BenchView

            self._bench = BenchView(bench)
            column.addWidget(self._bench)

    def first_focus(self) -> QWidget:
        """The one button; where it can do nothing yet, what brings a card or the first place."""
        page = self._stack.currentIndex()
        if page == _GLANCE:
            return self.glance
        if page == _FIRST:
            return self._first_page.place_button
        return self.offload_button if self.offload_button.isEnabled() else self._sources_button

    def _headings(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(label("On this side: cards", "soft"))
        row.addStretch(1)
        row.addWidget(label("On that side: where copies are kept", "soft"))
        return row

    def _action_bar(self, theme: Theme) -> QWidget:
        bar = panel()
        row = QHBoxLayout(bar)
        row.setContentsMargins(14, 10, 14, 10)
        words = QVBoxLayout()
        words.setSpacing(1)
        self._hint, self._never = ElidedLabel(), ElidedLabel()
        self._hint.setObjectName("strong")
        # The buttons beside it go into two lines before it goes.
        self._hint.setMinimumWidth(_HINT_LEAST_PX)
        self._never.setObjectName("small")
        self._never.setText(NEVER)
        words.addWidget(self._hint)
        words.addWidget(self._never)
        row.addLayout(words, 1)
        self._unattended = TickBox(theme, "Unattended")
        self._unattended.setToolTip("A card that goes in is offloaded at once, with no click and no question (Ctrl+U)")
        self._unattended.toggled.connect(self._screen.set_unattended)
        self._sources_button, self._sources = menu_button(
            "From elsewhere", tip="A folder, a camera or a server in place of a card"
        )
        self._sources.aboutToShow.connect(self._list_sources)
        add = button("Add a place…", self.choose_place, tip="One more folder that copies go to (Ctrl+P)")
        self.offload_button = button(
            "Offload", self.offload, name="main", tip="Copy every card that is in, and prove it (Ctrl+Return)"
        )
        row.addWidget(flowing(self._unattended, self._sources_button, add, self.offload_button, right=True))
        return bar

    def _list_sources(self) -> None:
        self._sources.clear()
        doings: list[tuple[str, Callable[[], None]]] = [
            ("Choose a folder…\tCtrl+O", self.choose_card),
            ("Type an address…\tCtrl+L", self.type_address),
        ]
        earlier = self._screen.sources.earlier()
        doings += [(f"Again: {source}", lambda source=source: self._open_again(source)) for source in earlier]  # type: ignore[misc]  # bound now
        for number, (title, doing) in enumerate(doings):
            if number == 2:
                self._sources.addSeparator()
            action = self._sources.addAction(title)
            assert action is not None
            action.triggered.connect(lambda _on=False, doing=doing: doing())

    def _open_again(self, source: str) -> None:
        if source.startswith("//"):
            self.type_address(source)
        else:
            self._screen.sources.open_folder(Path(source))

    def type_address(self, address: str = "") -> None:
        """Asks for the address of a camera or a file server."""
        self.address_dialog = AddressDialog(self, self._connect, address)
        self.address_dialog.open()

    def answered(self, words: str, *, failed: bool) -> None:
        """What came of an address or of letting a card out."""
        if self.address_dialog is not None and self.address_dialog.isVisible():
            self.address_dialog.answered(words, failed=failed)
        self.say(words)

    def say(self, words: str) -> None:
        """Says something beside the button, for as long as it takes to read."""
        self._said_until_s = time.monotonic() + _SAID_S
        self._hint.setText(words)

    def offload(self) -> None:
        """The one button: a glance first, unless unattended."""
        # What is so, not what the button shows: the board is drawn a moment after the sentence.
        if self._stack.currentIndex() == _GLANCE or not self._screen.can_offload_any:
            return
        if self._screen.unattended:
            self._screen.offload_all()
            return
        self._stack.setCurrentIndex(_GLANCE)
        self.glance.begin()

    def _show_board(self) -> None:
        self._stack.setCurrentIndex(_BOARD)
        self.refresh()
        self.offload_button.setFocus()

    def switch_unattended(self) -> None:
        """Unattended on or off."""
        self._screen.set_unattended(not self._screen.unattended)

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
        self.refresh()

    def refresh(self) -> None:
        """Shows what is true now."""
        if self._stack.currentIndex() == _GLANCE:
            if self._screen.can_offload_any:
                self.glance.refresh()
                return
            self._stack.setCurrentIndex(_BOARD)
        self._stack.setCurrentIndex(_FIRST if self._screen.is_first_start else _BOARD)
        self._board.refresh()
        show_chosen(self._unattended, self._screen.unattended)
        self.offload_button.setText("Offload" if self._screen.unattended else "Offload…")
        if self.offload_button.hasFocus() and not self._screen.can_offload_any:
            # Else Qt would pass it on to the next in line, which takes a place away.
            self._sources_button.setFocus()
        self.offload_button.setEnabled(self._screen.can_offload_any)
        self.refresh_bench()

    def follow(self) -> None:
        """Shows how far things are; the sheet before the start has nothing that moves, and costs more to make."""
        if self._stack.currentIndex() != _GLANCE:
            self.refresh()

    def refresh_bench(self) -> None:
        """Shows what the button will do, and the cards on the bench: in the demo they are made one after another."""
        if time.monotonic() >= self._said_until_s:
            self._hint.setText(self._screen.offload_hint())
        if self._bench is not None:
            self._bench.refresh()

    def choose_place(self) -> None:
        """Asks for a folder that copies go to."""
        folder = QFileDialog.getExistingDirectory(self, "A folder that copies go to")
        if folder:
            try:
                self._screen.add_place(Path(folder))
            except DiadocheError as error:
                self.say(error.problem.sentence())

    def choose_card(self) -> None:
        """Asks for a folder that is as good as a card."""
        folder = QFileDialog.getExistingDirectory(self, "A card, or any folder with recordings")
        if folder:
            self._screen.sources.open_folder(Path(folder))


class _FirstPage(QWidget):
    """From nothing to a first offload: a name, a place, a card."""

    def __init__(
        self, screen: CardsScreen, choose_place: Callable[[], object], choose_card: Callable[[], object]
    ) -> None:
        super().__init__()
        sheet = panel()
        sheet.setFixedWidth(620)
        column = QVBoxLayout(sheet)
        column.setContentsMargins(34, 28, 34, 28)
        column.setSpacing(10)
        column.addWidget(label("From the card to the cut", "heading"))
        column.addWidget(
            label(
                "Put in a card. It is copied to every place you choose, each copy is read back and proven, and the "
                "footage is made ready for your editing program.",
                wrap=True,
            )
        )
        column.addWidget(label(NEVER, "strong", wrap=True))
        column.addSpacing(8)
        column.addWidget(label("1. The shoot has a name", "strong"))
        name = QLineEdit(screen.shoots.name)
        name.setAccessibleName("Name of the shoot")
        name.setToolTip("Folders of copies begin with it")
        name.editingFinished.connect(lambda: self._name_it(screen, name))
        column.addWidget(name)
        column.addSpacing(8)
        column.addWidget(label("2. Copies go to a disk you trust", "strong"))
        column.addWidget(
            label(
                "Two places on two disks are the custom of the trade; the second can follow later.", "soft", wrap=True
            )
        )
        self.place_button = button("Choose the first place…", choose_place, name="main")
        row = QHBoxLayout()
        row.addWidget(self.place_button)
        row.addStretch(1)
        column.addLayout(row)
        column.addSpacing(8)
        column.addWidget(label("3. Put in a card, or choose a folder, and press Offload", "strong"))
        self.folder_button = button("Choose a folder…", choose_card, tip="With recordings, instead of a card (Ctrl+O)")
        below = QHBoxLayout()
        below.addWidget(self.folder_button)
        below.addStretch(1)
        column.addLayout(below)
        outer = QVBoxLayout(self)
        outer.addStretch(1)
        middle = QHBoxLayout()
        middle.addStretch(1)
        middle.addWidget(sheet)
        middle.addStretch(1)
        outer.addLayout(middle)
        outer.addStretch(2)

    @staticmethod
    def _name_it(screen: CardsScreen, field: QLineEdit) -> None:
        """Where the name cannot be that, it stays what it was, and the field says why."""
        if why_not := screen.shoots.change_name(field.text()):
            field.setText(screen.shoots.name)
            field.setToolTip(plain(why_not))
            QToolTip.showText(field.mapToGlobal(field.rect().bottomLeft()), plain(why_not), field)
