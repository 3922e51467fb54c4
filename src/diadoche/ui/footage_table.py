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
from diadoche.screens.marks import Mark
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.file_manager import dragged
from diadoche.ui.rows_table import fit_rows, goes_to_ends

_ROW_PX = 34
_HEADING = Qt.ItemFlag.ItemIsEnabled
_CLIP = (
    Qt.ItemFlag.ItemIsEnabled
    | Qt.ItemFlag.ItemIsSelectable
    | Qt.ItemFlag.ItemIsDragEnabled
    | Qt.ItemFlag.ItemNeverHasChildren
)
_AROUND_PX = 24


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
        self._columns: tuple[str, ...] = ()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else self._rows

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else len(self._columns)

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        row = index.row()
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        if row < len(self._screen.rows) and self._screen.is_heading(row):
            return _HEADING
        return _CLIP

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid() or index.row() >= len(self._screen.rows):
            return None
        row, column = index.row(), index.column()
        if role in {Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole}:
            texts = self._screen.texts(row)
            return texts[column] if column < len(texts) else None
        if role == Qt.ItemDataRole.FontRole and self._screen.is_heading(row):
            font = QFont()
            font.setBold(True)
            return font
        marked = column == self._mark_column() and self._screen.has_problem(row)
        if role == Qt.ItemDataRole.DecorationRole and column == self._mark_column():
            return self._icon(row, marked)
        if marked and role == Qt.ItemDataRole.AccessibleTextRole:
            return f"{self._screen.texts(row)[column]}, {Mark.PROBLEM.value}"
        return None

    def _icon(self, row: int, marked: bool) -> QIcon | None:
        """The first picture of a clip, with a mark where something about it needs a person."""
        line = self._screen.rows[row]
        path = line.clip.first_file if not isinstance(line, Heading) else None
        if isinstance(line, Heading) or path is None:
            return None
        self._painted[path] = line.clip.id
        return self._icons.icon(path, Mark.PROBLEM if marked else None)

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

    def _mark_column(self) -> int:
        return self._columns.index("Clip") if "Clip" in self._columns else 0

    def headerData(self, section: int, way: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if way != Qt.Orientation.Horizontal or section >= len(self._screen.columns):
            return None
        column = self._screen.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.name
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{column.tip}. A click sorts by it."
        return None

    def rows_changed(self, rows: Iterable[int]) -> None:
        """Some rows say something else; each stands where it stood."""
        for first, behind in _stretches(rows):
            self.dataChanged.emit(self.index(first, 0), self.index(behind - 1, len(self._columns) - 1))

    def arranged(self) -> bool:
        """Takes over the screen's rows; tells whether their number or the columns changed."""
        rows, columns = len(self._screen.rows), tuple(column.name for column in self._screen.columns)
        if (rows, columns) == (self._rows, self._columns):
            self.rows_changed(range(rows))
            return False
        self.beginResetModel()
        self._rows, self._columns = rows, columns
        self.endResetModel()
        return True


class FootageTable(QTableView):
    """Several whole rows can be selected; keys that mean nothing here go to whoever asked for them."""

    chosen = pyqtSignal(list)

    def __init__(self, screen: FootageScreen, icons: ClipIcons, other_keys: Callable[[QKeyEvent], bool]) -> None:
        super().__init__()
        self._screen = screen
        self._other_keys = other_keys
        self._quiet = False
        self._icons = icons
        self._model = FootageModel(screen, icons)
        self.setModel(self._model)
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

    def choose_row(self, row: int) -> None:
        """Selects one row and nothing else, whichever keys are held down meanwhile."""
        selection = self.selectionModel()
        assert selection is not None
        flags = QItemSelectionModel.SelectionFlag
        selection.setCurrentIndex(self._model.index(row, 0), flags.ClearAndSelect | flags.Rows)

    def _selection_changed(self) -> None:
        selection = self.selectionModel()
        if not self._quiet and selection is not None:
            current = selection.currentIndex().row()
            self.chosen.emit(sorted(self._selected_rows(), key=lambda row: (row != current, row)))

    def _selected_rows(self) -> list[int]:
        """By its ranges: to ask for each row of ten thousand by itself takes a second."""
        selection = self.selectionModel()
        assert selection is not None
        ranges = selection.selection()
        spans = [(ranges[number].top(), ranges[number].bottom() + 1) for number in range(len(ranges))]
        rows = {row for top, behind in spans for row in range(top, behind)}
        return sorted(row for row in rows if row < len(self._screen.rows) and not self._screen.is_heading(row))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        assert event is not None
        if not self._other_keys(event):
            super().keyPressEvent(event)
