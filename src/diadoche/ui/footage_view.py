"""Footage: the table, the player beside it, and what is known of the selected clip."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QImage, QKeyEvent, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from diadoche.screens.footage import COLUMNS, TOOLTIPS, FootageScreen
from diadoche.screens.marks import Mark
from diadoche.ui.parts import RowsModel, label, panel, table
from diadoche.ui.player import PlayerView
from diadoche.ui.theme import Theme

_PLAYER_KEYS = {Qt.Key.Key_Space, Qt.Key.Key_J, Qt.Key.Key_K, Qt.Key.Key_L, Qt.Key.Key_Left, Qt.Key.Key_Right}
_WIDTHS = (128, 98, 84, 66, 96, 60, 80, 76)
_TABLE_PX = 692


class FootageView(QWidget):
    """One selection for table, player and facts."""

    def __init__(self, theme: Theme, screen: FootageScreen) -> None:
        super().__init__()
        self._screen = screen
        self.player = PlayerView(theme)
        self._headline = label(name="soft")
        self._model = RowsModel(
            theme,
            COLUMNS,
            lambda: len(screen.clips),
            screen.texts,
            lambda row: Mark.PROBLEM if screen.has_problem(row) else None,
            tips=TOOLTIPS,
            mark_column=1,
        )
        self.table = table(self._model, "Clips", 0, _WIDTHS)
        self.table.installEventFilter(self)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda current, _before: self._select(current.row()))
        self.table.doubleClicked.connect(lambda _index: self.player.toggle())
        self._empty = label("Offload a card, and its clips stand here.", "soft")
        self._build()
        screen.on_change = self.refresh
        self.refresh()

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        top = QHBoxLayout()
        top.setSpacing(12)
        top.addWidget(label("Clips in order of time", "heading"))
        top.addWidget(self._headline, 1)
        column.addLayout(top)
        column.addWidget(self._empty)
        below = QHBoxLayout()
        below.setSpacing(12)
        self.table.setMinimumWidth(_TABLE_PX)
        below.addWidget(self.table, 1)
        right = QVBoxLayout()
        right.setSpacing(12)
        right.addWidget(self.player, 0)
        right.addWidget(self._facts_panel(), 1)
        below.addLayout(right, 3)
        column.addLayout(below, 1)

    def _facts_panel(self) -> QWidget:
        sheet = panel()
        sheet.setMinimumHeight(168)
        column = QVBoxLayout(sheet)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(3)
        self._title, self._reasons = label(name="title", wrap=True), label(wrap=True)
        self._facts, self._kept, self._problems = (
            label(name="soft", wrap=True),
            label(name="proven"),
            label(name="problem", wrap=True),
        )
        for part in (self._title, self._reasons, self._facts, self._kept, self._problems):
            column.addWidget(part)
        column.addLayout(self._combing_row())
        column.addStretch(1)
        return sheet

    def _combing_row(self) -> QHBoxLayout:
        """The proof that fields were seen: that place of that picture, enlarged."""
        row = QHBoxLayout()
        row.setSpacing(12)
        self.combing, self._combing_words = label(), label(name="soft", wrap=True)
        self.combing.setAccessibleName("The place where fields were seen, enlarged")
        row.addWidget(self.combing)
        row.addWidget(self._combing_words, 1)
        self.player.combing.connect(self._show_combing)
        return row

    def _show_combing(self, image: QImage) -> None:
        words = self._screen.combing_words()
        shown = bool(words) and not image.isNull()
        self.combing.setPixmap(QPixmap.fromImage(image) if shown else QPixmap())
        self._combing_words.setText(words if shown else "")
        self.combing.setVisible(shown)
        self._combing_words.setVisible(shown)

    def refresh(self) -> None:
        """Shows the rows as they are now; the first clip is selected when none is."""
        self._model.changed()
        self._headline.setText(self._screen.headline())
        self._empty.setVisible(not self._screen.clips)
        row = self._screen.row_of_selected()
        if row is None and self._screen.clips:
            row = 0
        if row is not None:
            self.table.selectRow(row)
            self._select(row)
        else:
            self.player.open(None)
        self._show_detail()

    def _select(self, row: int) -> None:
        before = self._screen.selected
        clip = self._screen.select(row if row >= 0 else None)
        if self._screen.selected != before:
            self._show_combing(QImage())
        self.player.open(clip)
        self._show_detail()

    def _show_detail(self) -> None:
        detail = self._screen.detail()
        for part, text in (
            (self._title, detail.title if detail else "No clip is selected"),
            (self._reasons, detail.reasons if detail else ""),
            (self._facts, "\n".join(detail.facts) if detail else ""),
            (self._kept, detail.kept if detail else ""),
            (self._problems, " ".join(detail.problems) if detail else ""),
        ):
            part.setText(text)
            part.setVisible(bool(text))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:  # Qt's name
        """Keys that mean nothing to the table go to the player; Return takes the focus there."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter}:
                self.player.setFocus()
                return True
            if event.key() in _PLAYER_KEYS and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                return self.player.obey_key(event.key())
        return super().eventFilter(watched, event)
