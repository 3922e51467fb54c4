"""The table of clips: rows that are clips or headings of groups, columns that the person chose."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

from PyQt6.QtCore import (
    QAbstractTableModel,
    QItemSelection,
    QItemSelectionModel,
    QMimeData,
    QModelIndex,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QFont, QIcon, QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from diadoche.screens.browsing import Heading
from diadoche.screens.footage import FootageScreen
from diadoche.screens.lines import Column, Line
from diadoche.screens.marks import Mark
from diadoche.ui.clip_cells import Cell, ClipCells
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.file_manager import dragged
from diadoche.ui.rows_table import ACCESSIBLE_TEXT, DECORATION, DISPLAY, TOOL_TIP, fit_rows, goes_to_ends
from diadoche.ui.theme import Theme

_ROW_PX = 34
_HEADING = Qt.ItemFlag.ItemIsEnabled
_CLIP = (
    Qt.ItemFlag.ItemIsEnabled
    | Qt.ItemFlag.ItemIsSelectable
    | Qt.ItemFlag.ItemIsDragEnabled
    | Qt.ItemFlag.ItemNeverHasChildren
)
_AROUND_PX = 24
_FONT, _ALIGNMENT = Qt.ItemDataRole.FontRole.value, Qt.ItemDataRole.TextAlignmentRole.value
_ANSWERED = frozenset({DISPLAY, TOOL_TIP, DECORATION, ACCESSIBLE_TEXT, _FONT})
_BEGINS_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter


def _stretches(rows: Iterable[int]) -> Iterator[tuple[int, int]]:
    """Rows that follow each other, as the first and the one behind the last."""
    ordered = sorted(rows)
    begin = 0
    for place in range(1, len(ordered) + 1):
        if place == len(ordered) or ordered[place] != ordered[place - 1] + 1:
            yield ordered[begin], ordered[place - 1] + 1
            begin = place


# What is no action: how clips are selected, and where the focus goes.
TABLE_KEYS = (("Ctrl+click", "selects several, which are compared"), ("Return", "gives the player the focus"))


class FootageModel(QAbstractTableModel):
    """Rows that the screen arranged; it keeps none of its own."""

    def __init__(self, screen: FootageScreen, icons: ClipIcons) -> None:
        super().__init__()
        self._screen = screen
        self._icons = icons
        # Clips by the files whose pictures were painted, or are awaited.
        self._painted: dict[Path, int] = {}
        icons.listeners.append(self._picture_came)
        self._rows = 0
        self._columns: tuple[Column, ...] = ()
        self._names: tuple[str, ...] = ()
        # The column that holds pictures and marks.
        self._mark_column = 0

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else self._rows

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else len(self._columns)

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        row, rows = index.row(), self._screen.rows
        if row < len(rows) and isinstance(rows[row], Heading):
            return _HEADING
        return _CLIP

    def data(self, index: QModelIndex, role: int = DISPLAY) -> object:
        if role not in _ANSWERED:
            return None
        row, column, rows = index.row(), index.column(), self._screen.rows
        if not 0 <= row < len(rows) or not 0 <= column < len(self._columns):
            return None
        line = rows[row]
        if isinstance(line, Heading):
            return _of_heading(line, column, role)
        if role in {DISPLAY, TOOL_TIP}:
            return line.text(self._names[column])
        if column == self._mark_column:
            if role == DECORATION:
                return self._icon(line)
            if role == ACCESSIBLE_TEXT and line.has_problem:
                return f"{line.text(self._names[column])}, {Mark.PROBLEM.value}"
        return None

    def cell(self, row: int, column: int) -> Cell | None:
        """What a cell is painted from: the same as `data` says of it."""
        rows = self._screen.rows
        if not 0 <= row < len(rows) or not 0 <= column < len(self._names):
            return None
        line = rows[row]
        if isinstance(line, Heading):
            return Cell(line.words if column == 0 else "", bold=True)
        return Cell(line.text(self._names[column]), self._icon(line) if column == self._mark_column else None)

    def _icon(self, line: Line) -> QIcon | None:
        """The first picture of a clip, with a mark where something about it needs a person."""
        path = line.clip.first_file
        if path is None:
            return None
        self._painted[path] = line.clip.id
        return self._icons.icon(path, Mark.PROBLEM if line.has_problem else None)

    def _picture_came(self, path: Path) -> None:
        clip_id = self._painted.get(path)
        row = self._screen.browsing.row_of(clip_id) if clip_id is not None else None
        if row is not None:
            self.rows_changed([row])

    def mimeTypes(self) -> list[str]:  # Qt's name
        return ["text/uri-list"]

    def mimeData(self, indexes: Iterable[QModelIndex]) -> QMimeData:  # Qt's name
        rows = sorted({index.row() for index in indexes})
        return dragged([path for row in rows for path in self._screen.paths_of(row)])

    def supportedDragActions(self) -> Qt.DropAction:  # Qt's name
        # Nothing that takes an original away: who would move it is offered a copy.
        return Qt.DropAction.CopyAction

    def headerData(self, section: int, way: Qt.Orientation, role: int = DISPLAY) -> object:
        if way != Qt.Orientation.Horizontal or section >= len(self._columns):
            return None
        if role == DISPLAY:
            return self._names[section]
        if role == _ALIGNMENT:
            return _BEGINS_LEFT
        if role == TOOL_TIP:
            return f"{self._columns[section].tip}. A click sorts by it."
        return None

    def rows_changed(self, rows: Iterable[int]) -> None:
        """Some rows say something else; each stands where it stood."""
        for first, behind in _stretches(rows):
            self.dataChanged.emit(self.index(first, 0), self.index(behind - 1, len(self._columns) - 1))

    def arranged(self) -> bool:
        """Takes over the screen's rows; tells whether their number or the columns changed."""
        rows, columns = len(self._screen.rows), self._screen.columns
        if (rows, columns) == (self._rows, self._columns):
            if rows:
                self.dataChanged.emit(self.index(0, 0), self.index(rows - 1, len(columns) - 1))
            return False
        self.beginResetModel()
        self._rows, self._columns = rows, columns
        self._names = tuple(column.name for column in columns)
        self._mark_column = self._names.index("Clip") if "Clip" in self._names else 0
        self.endResetModel()
        return True


def _of_heading(heading: Heading, column: int, role: int) -> object:
    """What is said of the row above a group: its words go across all columns."""
    if role in {DISPLAY, TOOL_TIP}:
        return heading.words if column == 0 else ""
    if role == _FONT:
        font = QFont()
        font.setBold(True)
        return font
    return None


class FootageTable(QTableView):
    """Several whole rows can be selected; keys that mean nothing here go to whoever asked for them."""

    chosen = pyqtSignal(list)

    def __init__(
        self, theme: Theme, screen: FootageScreen, icons: ClipIcons, other_keys: Callable[[QKeyEvent], bool]
    ) -> None:
        super().__init__()
        self._screen = screen
        self._other_keys = other_keys
        self._quiet = False
        self._icons = icons
        self._model = FootageModel(screen, icons)
        self.setModel(self._model)
        self._cells = ClipCells(theme, self._model.cell)
        self.setItemDelegate(self._cells)
        self.setAccessibleName("Clips")
        self.setIconSize(icons.size_px())
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setDragEnabled(True)
        self.setDragDropMode(QAbstractItemView.DragDropMode.DragOnly)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        vertical, header, selection = self.verticalHeader(), self.horizontalHeader(), self.selectionModel()
        assert vertical is not None
        assert header is not None
        assert selection is not None
        vertical.hide()
        vertical.setDefaultSectionSize(_ROW_PX)
        # One height for all: nothing has to be measured, however many there are.
        vertical.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setHighlightSections(False)
        header.setSectionsClickable(True)
        header.setSortIndicatorShown(True)
        # It would ask every row whether it is selected, at each painting, to show columns as selected: none ever is.
        header.setSelectionModel(QItemSelectionModel(self._model, header))
        header.sectionClicked.connect(lambda section: screen.sort_by(screen.columns[section].name))
        selection.selectionChanged.connect(lambda *_: self._selection_changed())
        goes_to_ends(self)

    def fit(self) -> None:
        """Rows, columns and pictures as large as the text asks for."""
        fit_rows(self)
        self.setIconSize(self._icons.size_px())
        self._lay_out()

    def refresh(self, rows: Sequence[int] | None = None) -> None:
        """Shows the rows as they are now, with the selection on the same clips.

        Args:
            rows: those that say something else; None where all may, and stand elsewhere.
        """
        if rows is not None:
            self._model.rows_changed(rows)
            return
        self._quiet = True
        try:
            if self._model.arranged():
                self._lay_out()
            self._span_headings()
            self._restore_selection()
        finally:
            self._quiet = False
        header = self.horizontalHeader()
        assert header is not None
        names = [column.name for column in self._screen.columns]
        if self._screen.look.sorted_by in names:
            order = Qt.SortOrder.DescendingOrder if self._screen.look.downwards else Qt.SortOrder.AscendingOrder
            header.setSortIndicator(names.index(self._screen.look.sorted_by), order)

    def _lay_out(self) -> None:
        header, metrics = self.horizontalHeader(), self.fontMetrics()
        assert header is not None
        for section, column in enumerate(self._screen.columns):
            header.setSectionResizeMode(section, QHeaderView.ResizeMode.Interactive)
            beside = self._icons.size_px().width() if column.name == "Clip" else 0
            self.setColumnWidth(section, metrics.horizontalAdvance(column.sample) + _AROUND_PX + beside)
        self._fill()

    def _fill(self) -> None:
        """The first column takes the room that the others leave, so that columns that fit need no scroll bar."""
        viewport, columns = self.viewport(), self._screen.columns
        if viewport is None or not columns:
            return
        others = sum(self.columnWidth(section) for section in range(1, len(columns)))
        least = self.fontMetrics().horizontalAdvance(columns[0].sample) + _AROUND_PX
        self.setColumnWidth(0, max(least, viewport.width() - others))

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        self._fill()

    def _span_headings(self) -> None:
        self.clearSpans()
        if self._screen.look.grouping:
            columns = max(1, len(self._screen.columns))
            for row in (place for place, each in enumerate(self._screen.rows) if isinstance(each, Heading)):
                self.setSpan(row, 0, 1, columns)

    def _restore_selection(self) -> None:
        selection, wanted = self.selectionModel(), self._screen.selected_rows()
        assert selection is not None
        if not wanted or self._selected_rows() == wanted:
            return
        self.choose_rows(wanted)

    def choose_rows(self, rows: Sequence[int]) -> None:
        """Selects some rows, the first of them at hand."""
        selection, ranges = self.selectionModel(), QItemSelection()
        assert selection is not None
        last = max(0, self._model.columnCount() - 1)
        for first, behind in _stretches(rows):
            ranges.select(self._model.index(first, 0), self._model.index(behind - 1, last))
        selection.select(ranges, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        selection.setCurrentIndex(self._model.index(rows[0], 0), QItemSelectionModel.SelectionFlag.NoUpdate)

    def scrollTo(
        self, index: QModelIndex, hint: QAbstractItemView.ScrollHint = QAbstractItemView.ScrollHint.EnsureVisible
    ) -> None:  # Qt's name
        """Shows a row, and with the first of a group its heading, where there is room for both."""
        super().scrollTo(index, hint)
        above, viewport = index.row() - 1, self.viewport()
        if above < 0 or not self._screen.is_heading(above) or viewport is None or viewport.height() < 2 * _ROW_PX:
            return
        heading = self._model.index(above, 0)
        if self.visualRect(heading).top() < 0:
            super().scrollTo(heading, hint)

    def choose_row(self, row: int) -> None:
        """Selects one row and nothing else, whichever keys are held down meanwhile."""
        selection = self.selectionModel()
        assert selection is not None
        flags = QItemSelectionModel.SelectionFlag
        selection.setCurrentIndex(self._model.index(row, 0), flags.ClearAndSelect | flags.Rows)

    def _selection_changed(self) -> None:
        selection = self.selectionModel()
        if not self._quiet and selection is not None:
            current, rows = selection.currentIndex().row(), self._selected_rows()
            if current in rows:
                rows.remove(current)
                rows.insert(0, current)
            self.chosen.emit(rows)

    def _selected_rows(self) -> list[int]:
        """By its ranges: to ask for each row of ten thousand by itself takes a second."""
        selection = self.selectionModel()
        assert selection is not None
        ranges = selection.selection()
        spans = [(ranges[number].top(), ranges[number].bottom() + 1) for number in range(len(ranges))]
        rows, there = sorted({row for span in spans for row in range(*span)}), self._screen.rows
        return [row for row in rows if row < len(there) and not isinstance(there[row], Heading)]

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        assert event is not None
        if not self._other_keys(event):
            super().keyPressEvent(event)
