"""Choosing a recipe: all of them in one table, each with its size and with what it does not hold of these clips."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QModelIndex, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QVBoxLayout, QWidget

from diadoche.core.errors import DiadocheError
from diadoche.screens.recipe_chooser import RecipeChooser, RecipeRow
from diadoche.ui.parts import ChoiceBox, button, label, within_screen
from diadoche.ui.rows_table import RowsModel, RowsTable
from diadoche.ui.theme import Theme

_WIDTH_PX, _ROW_PX, _MOST_ROWS = 1080, 27, 20
_CHOICE_WIDTH_PX = 270
# What stands around the list, and the least of it that is seen, in rows of it.
_BESIDE_ROWS, _LEAST_ROWS = 8, 4
_COLOURS = ("BT.709", "BT.2020")


class RecipeDialog(QDialog):
    """Shows what a chooser allows; accepted, its choice is to be taken over."""

    def __init__(self, parent: QWidget, theme: Theme, chooser: RecipeChooser) -> None:
        super().__init__(parent)
        self.chooser = chooser
        self._rows: list[RecipeRow] = chooser.rows()
        self.setWindowTitle(chooser.heading)
        self.setFixedWidth(within_screen(self.screen(), (_WIDTH_PX, 0))[0])
        self._model = RowsModel(
            theme,
            ("Recipe", "For", "About", "What it does not hold, or changes"),
            lambda: len(self._rows),
            lambda row: _texts(self._rows[row]),
            lambda row: self._rows[row].mark,
        )
        self.recipes = RowsTable(self._model, "Recipes", 3, (250, 260, 90, 400), _ROW_PX)
        self._fit()
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 18, 22, 16)
        column.setSpacing(12)
        column.addWidget(label(chooser.heading, "heading"))
        column.addWidget(self.recipes)
        self._whole = label("", "soft", wrap=True)
        column.addWidget(self._whole)
        changes = QHBoxLayout()
        changes.addLayout(self._fields_row(theme))
        changes.addStretch(1)
        changes.addLayout(self._table_row(theme))
        column.addLayout(changes)
        self._said = label(chooser.mistakes, "problem", wrap=True)
        self._said.setVisible(bool(chooser.mistakes))
        column.addWidget(self._said)
        column.addLayout(self._end_row())
        selection = self.recipes.selectionModel()
        assert selection is not None
        self._show()
        self.recipes.selectRow(chooser.current)
        selection.currentRowChanged.connect(self._choose)
        self.recipes.doubleClicked.connect(lambda _index: self._take.click())
        self.recipes.setFocus()

    def _fit(self) -> None:
        """As high as all recipes are: nothing is scrolled that has room."""
        header = self.recipes.horizontalHeader()
        if header is not None:
            rows = min(len(self._rows), _MOST_ROWS) * self.recipes.row_high
            high = rows + header.sizeHint().height() + 2 * self.recipes.frameWidth()
            # Where texts are large, the rest of the dialog needs its part of the screen, too.
            most = within_screen(self.screen(), (_WIDTH_PX, high))[1] - _BESIDE_ROWS * self.recipes.row_high
            self.recipes.setFixedHeight(min(high, max(_LEAST_ROWS * self.recipes.row_high, most)))

    def _fields_row(self, theme: Theme) -> QHBoxLayout:
        row = QHBoxLayout()
        choices = self.chooser.field_choices()
        self.fields, self._reach = ChoiceBox(theme), label(name="soft")
        self.fields.setFixedWidth(_CHOICE_WIDTH_PX)
        self.fields.setAccessibleName("What becomes of fields")
        self.fields.setToolTip("Only what is interlaced is changed, never what is progressive")
        for choice in choices:
            self.fields.addItem(choice.words, choice.value)
        self.fields.activated.connect(self._choose_fields)
        if choices:
            row.addWidget(label("Fields"))
            row.addWidget(self.fields)
            row.addWidget(self._reach)
        return row

    def _table_row(self, theme: Theme) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(label("Look-up table"))
        self.table_button = button(
            "", self._ask_for_table, tip="Colours go through a .cube file on the way; the original keeps its own"
        )
        self.no_table = button("Without", lambda: self.take_table(None), tip="No look-up table")
        self.gives = ChoiceBox(theme)
        for name in _COLOURS:
            self.gives.addItem(f"gives {name}", name)
        self.gives.setAccessibleName("The colours that the look-up table gives")
        self.gives.activated.connect(self._choose_gives)
        for widget in (self.table_button, self.no_table, self.gives):
            row.addWidget(widget)
        return row

    def _end_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(
            button("Change it…", self._edit, tip="Opens it as a text file of your own, which then stands in its place")
        )
        row.addStretch(1)
        row.addWidget(button("Back", self.reject))
        self._take = button("Take this recipe", self.accept, name="main", tip="Used with the next start")
        self._take.setDefault(True)
        row.addWidget(self._take)
        return row

    def _show(self) -> None:
        self._rows = self.chooser.rows()
        self._model.changed()
        place = self.fields.findData(self.chooser.fields)
        self.fields.setCurrentIndex(max(0, place))
        self._reach.setText(self.chooser.reach)
        reading = self.chooser.reading
        has_table = bool(self.chooser.table) or reading is not None
        self.table_button.setText(f"Reading {reading.name}…" if reading else self.chooser.table or "None; choose…")
        # What was chosen last is not known to be a table yet.
        self._take.setEnabled(reading is None)
        self.table_button.setAccessibleName(f"Look-up table: {self.table_button.text()}")
        self.no_table.setVisible(has_table)
        self.gives.setVisible(has_table)
        self.gives.setCurrentIndex(max(0, self.gives.findData(self.chooser.table_gives)))
        self._whole.setText(self._rows[self.chooser.current].words)

    def _choose(self, current: QModelIndex) -> None:
        if current.isValid():
            self.chooser.choose(current.row())
            self._show()

    def _choose_fields(self) -> None:
        self.chooser.choose_fields(self.fields.currentData())
        self._show()

    def _choose_gives(self) -> None:
        self.chooser.choose_table_gives(self.gives.currentData())
        self._show()

    def _ask_for_table(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Look-up table", "", "Look-up tables (*.cube)")
        if path:
            self.take_table(Path(path))

    def _edit(self) -> None:
        self.chooser.own_file(self._edit_file)

    def _edit_file(self, written: Path | Exception) -> None:
        if not self.isVisible():
            # It was closed meanwhile.
            return
        if isinstance(written, DiadocheError):
            self._say(written.problem.sentence())
        elif isinstance(written, OSError):
            self._say(f"A recipe of your own cannot be written: {written.strerror}.")
        elif isinstance(written, Path):
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(written)))
            self._say(f"{written} counts from the next time a recipe is chosen.")

    def _say(self, words: str) -> None:
        self._said.setText(words)
        self._said.setVisible(bool(words))

    def take_table(self, path: Path | None) -> None:
        """Takes a look-up table as soon as it was read, or says what is wrong with it."""
        self.chooser.choose_table(path, self._table_came)
        self._table_came()

    def _table_came(self) -> None:
        self._say(self.chooser.table_mistake or self.chooser.mistakes)
        self._show()

    def done(self, result: int) -> None:  # Qt's name
        """Whatever is still being read is not waited for."""
        if result == QDialog.DialogCode.Rejected:
            self.chooser.choose_table(None)
        super().done(result)


def _texts(row: RecipeRow) -> tuple[str, ...]:
    return row.title, row.purpose, row.size, row.words
