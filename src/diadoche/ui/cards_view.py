"""The first view: the board, the one button, and the bench where there is one; before all that, the first page."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QScrollArea, QStackedLayout, QVBoxLayout, QWidget

from diadoche.core.errors import DiadocheError
from diadoche.screens.cards import NEVER, CardsScreen
from diadoche.services.devices.bench import Bench
from diadoche.ui.bench_view import BenchView
from diadoche.ui.board import Board
from diadoche.ui.parts import button, label, panel
from diadoche.ui.theme import Theme


class CardsView(QWidget):
    """Cards, places and what crosses between them."""

    def __init__(self, theme: Theme, screen: CardsScreen, bench: Bench | None) -> None:
        super().__init__()
        self._screen = screen
        self._stack = QStackedLayout(self)
        self._stack.addWidget(_FirstPage(screen, self.choose_place))
        board_page = QWidget()
        self._stack.addWidget(board_page)
        self._board = Board(theme, screen)
        scroll = QScrollArea()
        scroll.setWidget(self._board)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column = QVBoxLayout(board_page)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addLayout(self._headings())
        column.addWidget(scroll, 1)
        column.addWidget(self._action_bar())
        self._bench = BenchView(bench) if bench is not None else None
        if self._bench is not None:
            column.addWidget(self._bench)

    def _headings(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(label("On this side: cards", "soft"))
        row.addStretch(1)
        row.addWidget(label("On that side: where copies are kept", "soft"))
        return row

    def _action_bar(self) -> QWidget:
        bar = panel()
        row = QHBoxLayout(bar)
        row.setContentsMargins(14, 10, 14, 10)
        words = QVBoxLayout()
        words.setSpacing(1)
        self._hint = label("", "strong")
        words.addWidget(self._hint)
        words.addWidget(label(NEVER, "small"))
        row.addLayout(words, 1)
        row.addWidget(button("Choose a folder…", self.choose_card, tip="Any folder is as good as a card (Ctrl+O)"))
        row.addWidget(button("Add a place…", self.choose_place, tip="One more folder that copies go to (Ctrl+P)"))
        self.offload_button = button(
            "Offload",
            self._screen.offload_all,
            name="main",
            tip="Copy every card that is in, and prove it (Ctrl+Return)",
        )
        row.addWidget(self.offload_button)
        return bar

    def refresh(self) -> None:
        """Shows what is true now."""
        self._stack.setCurrentIndex(0 if self._screen.is_first_start else 1)
        self._board.refresh()
        self._hint.setText(self._screen.offload_hint())
        self.offload_button.setEnabled(self._screen.can_offload_any)
        self.refresh_bench()

    def refresh_bench(self) -> None:
        """Shows the cards that lie on the bench now; in the demo they are made one after another."""
        if self._bench is not None:
            self._bench.refresh()

    def choose_place(self) -> None:
        """Asks for a folder that copies go to."""
        folder = QFileDialog.getExistingDirectory(self, "A folder that copies go to")
        if folder:
            try:
                self._screen.add_place(Path(folder))
            except DiadocheError as error:
                self._hint.setText(error.problem.sentence())

    def choose_card(self) -> None:
        """Asks for a folder that is as good as a card."""
        folder = QFileDialog.getExistingDirectory(self, "A card, or any folder with recordings")
        if folder:
            self._screen.open_folder(Path(folder))


class _FirstPage(QWidget):
    """From nothing to a first offload: a name, a place, a card."""

    def __init__(self, screen: CardsScreen, choose_place: object) -> None:
        super().__init__()
        assert callable(choose_place)
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
        name = QLineEdit(screen.shoot_name)
        name.setAccessibleName("Name of the shoot")
        name.setToolTip("Folders of copies begin with it")
        name.editingFinished.connect(lambda: screen.rename_shoot(name.text()))
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
        column.addWidget(label("3. Put in a card and press Offload", "strong"))
        outer = QVBoxLayout(self)
        outer.addStretch(1)
        middle = QHBoxLayout()
        middle.addStretch(1)
        middle.addWidget(sheet)
        middle.addStretch(1)
        outer.addLayout(middle)
        outer.addStretch(2)
