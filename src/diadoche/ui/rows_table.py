"""Tables over rows that a screen computes: the model, and a view whose columns share the room by what they say."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QAbstractTableModel, QEvent, QModelIndex, QSize, Qt
from PyQt6.QtGui import QKeySequence, QResizeEvent, QShortcut, QShowEvent
from PyQt6.QtWidgets import QAbstractItemView, QTableView

from diadoche.screens.marks import Mark
from diadoche.ui.marks import MARK_PX, mark_icon
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme

if TYPE_CHECKING:
    # With what decodes them; tables are there before that.
    from diadoche.ui.clip_icons import ClipIcons

# How high rows are, and the text in them, at the usual text size.
_ROW_PX, _TEXT_PX = 34, 18
# What stands around the text of a cell, and what a mark takes beside it.
_AROUND_PX, _MARK_PX = 24, 26
# Numbers, for Qt asks with these, and one screenful asks a thousand times: to look an enumeration up takes longer than
# all the rest of an answer.
DISPLAY, TOOL_TIP, DECORATION, ACCESSIBLE_TEXT = (
    role.value
    for role in (
        Qt.ItemDataRole.DisplayRole,
        Qt.ItemDataRole.ToolTipRole,
        Qt.ItemDataRole.DecorationRole,
        Qt.ItemDataRole.AccessibleTextRole,
    )
)
_ANSWERED = frozenset({DISPLAY, TOOL_TIP, DECORATION, ACCESSIBLE_TEXT})
# The first rows say how much room a column needs; the others are like them, or are cut and whole in their tooltip.
_LOOKED_AT = 40
# No column is made narrower or wider than this, at the usual text size.
_LEAST_PX, _MOST_PX = 26, 4000


@dataclass(frozen=True, slots=True)
class Pictures:
    """First pictures of what rows stand for: where they come from, and of which file that of a row is."""

    icons: ClipIcons
    path: Callable[[int], Path | None]


class RowsModel(QAbstractTableModel):
    """A table over rows that a screen computes; it keeps none of its own."""

    def __init__(
        self,
        theme: Theme,
        columns: Sequence[str],
        count: Callable[[], int],
        texts: Callable[[int], tuple[str, ...]],
        mark: Callable[[int], Mark | None],
        *,
        tips: Sequence[str] = (),
        mark_column: int = 0,
        pictures: Pictures | None = None,
    ) -> None:
        super().__init__()
        self._theme = theme
        self._columns = columns
        self._count = count
        self._texts = texts
        self._mark = mark
        self._tips = tips
        self._mark_column = mark_column
        self._pictures = pictures
        self._shown = 0
        if pictures is not None:
            pictures.icons.listeners.append(self._picture_came)

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else self._shown

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:  # noqa: B008  # Qt's name and default
        return 0 if parent.isValid() else len(self._columns)

    def data(self, index: QModelIndex, role: int = DISPLAY) -> object:
        if role not in _ANSWERED or not index.isValid() or index.row() >= self._count():
            return None
        if role in {DISPLAY, TOOL_TIP}:
            text = self._texts(index.row())[index.column()]
            return plain(text) if role == TOOL_TIP else text
        mark = self._mark(index.row()) if index.column() == self._mark_column else None
        if mark is None:
            return None
        if role == ACCESSIBLE_TEXT:
            return f"{self._texts(index.row())[index.column()]}, {mark.value}"
        if self._pictures is None:
            return mark_icon(mark, self._theme.colours)
        return self._pictures.icons.icon(self._pictures.path(index.row()), mark, marks_beside=True)

    def headerData(self, section: int, way: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if way != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self._columns[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole and section < len(self._tips):
            return self._tips[section]
        return None

    @property
    def icon_px(self) -> QSize:
        """The room of pictures, or of marks alone."""
        return (
            self._pictures.icons.size_px(marks_beside=True) if self._pictures is not None else QSize(MARK_PX, MARK_PX)
        )

    def want_no_pictures(self) -> None:
        """Called before it goes: nobody tells it of pictures any more."""
        if self._pictures is not None:
            self._pictures.icons.listeners.remove(self._picture_came)

    def _picture_came(self, path: Path) -> None:
        assert self._pictures is not None
        for row in range(min(self._shown, self._count())):
            if self._pictures.path(row) == path:
                here = self.index(row, self._mark_column)
                self.dataChanged.emit(here, here, [Qt.ItemDataRole.DecorationRole])

    def changed(self) -> None:
        """The screen's rows changed; the selection stays where the number of rows does."""
        count = self._count()
        if count == self._shown:
            if count:
                self.dataChanged.emit(self.index(0, 0), self.index(count - 1, len(self._columns) - 1))
            return
        self.beginResetModel()
        self._shown = count
        self.endResetModel()


def goes_to_ends(view: QTableView) -> None:
    """Home and End go to the first and the last row, not along a row."""
    for key, last in ((Qt.Key.Key_Home, False), (Qt.Key.Key_End, True)):
        shortcut = QShortcut(QKeySequence(key), view, partial(_go_to_end, view, last=last))
        shortcut.setContext(Qt.ShortcutContext.WidgetShortcut)


def _go_to_end(view: QTableView, *, last: bool) -> None:
    model = view.model()
    if model is not None and model.rowCount():
        view.setCurrentIndex(model.index(model.rowCount() - 1 if last else 0, max(0, view.currentIndex().column())))


def fit_rows(view: QTableView, row_px: int = _ROW_PX) -> int:
    """Rows as high as their text asks for; `row_px` at the usual text size. Gives how high they are."""
    vertical = view.verticalHeader()
    assert vertical is not None
    high = max(row_px, view.fontMetrics().height() + row_px - _TEXT_PX)
    vertical.setDefaultSectionSize(high)
    return high


class RowsTable(QTableView):
    """Whole rows are selected, one at a time.

    Columns have their usual widths, and one of them the room that is left. Where that is less than it needs, the others
    keep what their words need; where even that is too much, it can be scrolled to. What the person chose stays.
    """

    def __init__(self, model: RowsModel, name: str, stretch: int, widths: Sequence[int], row_px: int = _ROW_PX) -> None:
        """
        Args:
            model: the rows.
            name: what a screen reader calls it; widths that a person chose are kept under it.
            stretch: the column that takes the room that is left.
            widths: usual ones, in pixels at the usual text size.
            row_px: how high rows are at that size.
        """
        super().__init__()
        self._stretch, self._widths, self._row_px = stretch, widths, row_px
        # Widths that a person chose, in pixels at the usual text size, by the column's heading.
        self._chosen: dict[str, int] = {}
        self._fitting = False
        # What columns were last shared by.
        self._fitted: tuple[object, ...] = ()
        # How high rows are now, in pixels.
        self.row_high = row_px
        self._model = model
        self.setModel(model)
        self.setAccessibleName(name)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        vertical, horizontal = self.verticalHeader(), self.horizontalHeader()
        assert vertical is not None
        assert horizontal is not None
        vertical.hide()
        horizontal.setHighlightSections(False)
        horizontal.setMinimumSectionSize(_MARK_PX)
        horizontal.sectionResized.connect(self._resized)
        model.modelReset.connect(self._reset)
        goes_to_ends(self)
        self.fit()

    @property
    def _scale(self) -> float:
        return max(1.0, self.fontMetrics().height() / _TEXT_PX)

    def _reset(self) -> None:
        self._fitted = ()
        self.fit()

    def _resized(self, column: int, _before: int, now: int) -> None:
        if not self._fitting:
            self._chosen[self._heading(column)] = round(now / self._scale)

    def _heading(self, column: int) -> str:
        model = self.model()
        return str(model.headerData(column, Qt.Orientation.Horizontal) or "") if model is not None else ""

    @property
    def chosen(self) -> dict[str, int]:
        """How wide the person made columns, in pixels at the usual text size, by their headings."""
        return dict(self._chosen)

    def take_chosen(self, widths: Mapping[str, int]) -> None:
        """Columns as wide as they were made once; what makes no sense is passed over."""
        self._chosen = {name: width for name, width in widths.items() if _LEAST_PX <= width <= _MOST_PX}
        self.fit()

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        self.fit()

    def showEvent(self, event: QShowEvent | None) -> None:  # Qt's name
        super().showEvent(event)
        self.fit()

    def changeEvent(self, event: QEvent | None) -> None:  # Qt's name
        super().changeEvent(event)
        if event is not None and event.type() in {QEvent.Type.FontChange, QEvent.Type.StyleChange}:
            self.fit()

    def fit(self) -> None:
        """Shares the room among the columns, and makes rows as high as their text."""
        viewport, header = self.viewport(), self.horizontalHeader()
        if self._fitting or viewport is None or header is None:
            return
        self.row_high = fit_rows(self, self._row_px)
        # The words of what is not on show are measured when it is: those of five views would hold up a start.
        if not self.isVisible():
            return
        # A style that is put on tells each table many times, and nothing that columns depend on is different.
        model = self.model()
        rows = model.rowCount() if model is not None else 0
        now = (viewport.width(), self.font().toString(), header.font().toString(), rows, tuple(self._chosen.items()))
        if now == self._fitted:
            return
        self._fitted = now
        self._fitting = True
        try:
            self.setIconSize(self._model.icon_px)
            for column, width in enumerate(self._shares(viewport.width())):
                self.setColumnWidth(column, width)
        finally:
            self._fitting = False

    def _shares(self, room: int) -> list[int]:
        usual = [round(width * self._scale) for width in self._widths]
        needed = [min(self._need(column), width) for column, width in enumerate(usual)]
        # What a row is called is worth more than the air beside what it says.
        needed[self._stretch] = min(self._need(self._stretch), max(usual[self._stretch], room // 2))
        for column in range(len(usual)):
            if (width := self._chosen.get(self._heading(column))) is not None:
                usual[column] = needed[column] = round(width * self._scale)
        others = [column for column in range(len(usual)) if column != self._stretch]
        spare = room - needed[self._stretch] - sum(needed[column] for column in others)
        wanted = sum(usual[column] - needed[column] for column in others)
        share = min(1.0, max(0.0, spare / wanted)) if wanted else 0.0
        found = [round(least + (most - least) * share) for least, most in zip(needed, usual, strict=True)]
        left = room - sum(found[column] for column in others)
        found[self._stretch] = max(needed[self._stretch], left)
        return found

    def _need(self, column: int) -> int:
        """What the words of a column need, its heading among them."""
        model, header = self.model(), self.horizontalHeader()
        assert model is not None
        assert header is not None
        found = header.fontMetrics().horizontalAdvance(self._heading(column))
        metrics = self.fontMetrics()
        for row in range(min(_LOOKED_AT, model.rowCount())):
            index = model.index(row, column)
            beside = self._model.icon_px.width() + _MARK_PX - MARK_PX
            mark = beside if index.data(Qt.ItemDataRole.DecorationRole) is not None else 0
            found = max(found, metrics.horizontalAdvance(str(index.data() or "")) + mark)
        return found + _AROUND_PX
