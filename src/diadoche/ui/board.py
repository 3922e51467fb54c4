"""The crossing board: panels of cards and places, and the ribbons between them."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEvent, QPoint, QPointF, QRect, QSize, Qt, QTimer
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QSpacerItem, QToolTip, QVBoxLayout, QWidget

from diadoche.screens.actions import Action
from diadoche.screens.card_groups import CardGroup
from diadoche.screens.card_rows import CardRow
from diadoche.screens.cards import CardsScreen
from diadoche.screens.marks import Mark
from diadoche.screens.place_rows import PlaceRow
from diadoche.screens.ribbons import Ribbon
from diadoche.ui.actions import Groups, opens_menu
from diadoche.ui.file_manager import copy_paths, show_in_files
from diadoche.ui.flow_layout import flowing
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import ElidedLabel, ShareBar, button, label, panel, take_look
from diadoche.ui.plain_text import plain
from diadoche.ui.ribbon_bar import RibbonBar, ribbon_at
from diadoche.ui.ribbon_picture import PlacedRibbon, RibbonPicture
from diadoche.ui.theme import Theme

_CARD_WIDTH_PX = 336
_PLACE_WIDTH_PX = 290
# Of the room that there is, where large text would have more; the rest is for the ribbons.
_CARD_SHARE, _PLACE_SHARE = 0.46, 0.4
_SPACE_PX, _COMPACT_SPACE_PX, _SET_MARGIN_PX = 12, 5, 1
_NUMBERS_STEP = 16
_MANY_RIBBONS, _SLOWER_S = 8, 0.25
_BARS_MS, _ANEW_MS = 200, 30
_THINNEST_PX, _THICKEST_PX = 8.0, 18.0
_MARK_PX = 18.0


_NOT_SEEN = """Put a card into a reader, or drop a folder here.

Not seen? Try another reader or cable, and switch the camera on. A phone must be unlocked and allow files to be read."""


class CardPanel(QFrame):
    """One card: its two statements, what is on it, and what can be done."""

    def __init__(self, theme: Theme, screen: CardsScreen, key: str) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._theme = theme
        self._mark = MarkWidget(theme, 20)
        self._name, self._may = ElidedLabel(), label(name="soft")
        self._name.setObjectName("title")
        self._layout_words, self._contents = label(wrap=True), label(wrap=True)
        self._dates = label(name="soft", wrap=True)
        self._remark, self._advice = label(name="problem", wrap=True), label(name="soft", wrap=True)
        self._numbers, self._kept = label(name="soft", wrap=True), label(name="strong", wrap=True)
        self._kept_beside = ElidedLabel()
        self._kept_beside.setObjectName("strong")
        self._links = _card_links(screen, key)
        opens_menu(self, self._actions)
        self._shown: tuple[CardRow, bool, float, int] | None = None
        self._root = Path()
        top = QHBoxLayout()
        top.setSpacing(10)
        top.addWidget(self._mark)
        top.addWidget(self._name, 1)
        top.addWidget(self._may)
        links = QHBoxLayout()
        links.setSpacing(6)
        links.addWidget(self._kept_beside, 1)
        links.addWidget(flowing(*self._links.values()))
        self._after_links = QSpacerItem(0, 0, QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        links.addSpacerItem(self._after_links)
        self._bottom = links
        self._column = QVBoxLayout(self)
        self._column.addLayout(top)
        for part in (
            self._layout_words,
            self._contents,
            self._dates,
            self._kept,
            self._numbers,
            self._remark,
            self._advice,
        ):
            self._column.addWidget(part)
        self._column.addLayout(links)

    def _actions(self) -> Groups:
        """What its links do, and where it can be looked at."""
        links = [each for each in self._links.values() if each.isVisibleTo(self)]
        return (
            [Action(each.text(), each.click) for each in links],
            [Action("Show in files", lambda: show_in_files([self._root]))] if self._root != Path() else (),
        )

    def show_row(self, row: CardRow, width: int, *, compact: bool) -> None:
        """Shows the card as it is now, so many pixels wide; `compact` where many stand below each other."""
        now = (row, compact, self._theme.scale, width)
        if now == self._shown:
            return
        self._shown = now
        self._root = row.root
        self.setFixedWidth(width)
        closest = (2, 14, 1) if row.short_name else (4, 14, 3)
        self._column.setContentsMargins(14, *(closest if compact else (12, 14, 10)))
        self._column.setSpacing(1 if compact else 3)
        # Links below the words begin where those do, in spite of the room inside them; beside them they end the line.
        self._bottom.setContentsMargins(0 if compact else -4, 0, -4 if compact else 0, 0)
        self._after_links.changeSize(0, 0, QSizePolicy.Policy.Fixed if compact else QSizePolicy.Policy.Expanding)
        self._bottom.invalidate()
        self._kept_beside.setVisible(compact)
        self._kept_beside.setText(row.kept.partition(",")[0])
        self._links["whole"].setText("Again" if compact else "Take it all again")
        self._mark.show_mark(row.mark)
        self._name.setText(row.short_name or row.name)
        self._may.setText(row.may_come_out)
        look = {Mark.UNDER_WAY: "way", Mark.PROVEN: "proven", Mark.PROBLEM: "problem"}.get(row.mark, "soft")
        take_look(self._may, look)
        troubled = row.mark is Mark.PROBLEM or row.is_silent
        for part, text, is_vital in (
            (self._layout_words, row.layout, False),
            (self._contents, row.contents, False),
            (self._dates, row.dates, False),
            (self._kept, row.kept, False),
            (self._numbers, row.numbers, False),
            (self._remark, row.remark, True),
            (self._advice, row.advice, troubled),
        ):
            part.setText(text)
            part.setVisible(bool(text) and (is_vital or not compact))
        for name, wanted in (
            ("pause", row.can_pause),
            ("resume", row.can_resume),
            ("stop", row.can_stop),
            ("recognise", row.can_recognise),
            ("complete", row.can_complete),
            ("whole", row.can_take_whole and row.can_offload),
            ("out", row.can_eject),
            ("gone", row.can_dismiss),
        ):
            self._links[name].setVisible(wanted)
            self._links[name].setAccessibleName(f"{self._links[name].text()}: {row.name}")
        self.setToolTip(
            plain(f"{row.name}, in {row.reader}. {row.layout}. {row.contents}. {row.dates} {row.numbers}".strip())
        )
        self.setAccessibleName(
            f"Card {row.name}: {row.may_come_out}. {row.kept}. {row.layout}. {row.contents}. {row.remark} {row.advice}"
        )


def _card_links(screen: CardsScreen, key: str) -> dict[str, QPushButton]:
    """Everything that can be done with one card."""

    def link(text: str, doing: Callable[[str], object], tip: str) -> QPushButton:
        return button(text, lambda: doing(key), name="link", tip=tip)

    return {
        "pause": link("Pause", lambda key: screen.pause(key, paused=True), "It stands still; leave the card in"),
        "resume": link("Go on", lambda key: screen.pause(key, paused=False), "It goes on where it stood still"),
        "stop": link("Stop", screen.stop, "What has arrived is kept"),
        "recognise": link("Read it to be sure", screen.recognise, "Compare every byte with its proven copies"),
        "complete": link("Complete it", screen.complete, "Fill what is missing from a proven copy, not from the card"),
        "whole": link("Take it all again", screen.offload_whole, "One more copy of the whole card"),
        "out": link("Eject", screen.eject, "Unmount it, so that it can be taken out"),
        "gone": link("Take it off the board", screen.dismiss, "Copies stay what they are"),
    }


class SetPanel(QFrame):
    """The cards of one rig in one frame, under what their set holds."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._title, self._words = ElidedLabel(), label(wrap=True)
        self._title.setObjectName("title")
        head = QVBoxLayout()
        head.setContentsMargins(14, 6, 14, 2)
        head.setSpacing(0)
        head.addWidget(self._title)
        head.addWidget(self._words)
        self.cards = QVBoxLayout()
        self.cards.setSpacing(0)
        column = QVBoxLayout(self)
        column.setContentsMargins(*(_SET_MARGIN_PX,) * 4)
        column.setSpacing(0)
        column.addLayout(head)
        column.addLayout(self.cards)

    def show_group(self, group: CardGroup, width: int) -> None:
        """Shows the set as it is now, so many pixels wide."""
        self.setFixedWidth(width)
        self._title.setText(group.title)
        self._words.setText(group.words)
        look = "problem" if group.lacks else "soft"
        take_look(self._words, look)
        self.setAccessibleName(f"Set of cards {group.title}: {group.words}")


class PlacePanel(QFrame):
    """One place for copies, with the room it has."""

    def __init__(self, theme: Theme, remove: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._theme = theme
        self._name, self._where = ElidedLabel(), label(name="small")
        self._name.setObjectName("title")
        self._bar, self._free, self._kept = ShareBar(theme), label(wrap=True), label(name="soft", wrap=True)
        self._remove = button("Not for this shoot", remove, name="link", tip="What lies there stays there")
        self._path = Path()
        opens_menu(
            self,
            lambda: (
                [Action("Not for this shoot", remove)],
                [
                    Action("Show in files", lambda: show_in_files([self._path])),
                    Action("Copy where it lies", lambda: copy_paths([self._path])),
                ],
            ),
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 8)
        column.setSpacing(4)
        for part in (self._name, self._where, self._bar, self._free):
            column.addWidget(part)
        column.addWidget(flowing(self._kept, self._remove, spread=True))

    def show_row(self, row: PlaceRow, width: int) -> None:
        """Shows the place as it is now, so many pixels wide."""
        self.setFixedWidth(width)
        self._path = row.path
        self._name.setText(row.name)
        metrics = self._where.fontMetrics()
        self._where.setText(metrics.elidedText(row.where, Qt.TextElideMode.ElideMiddle, width - 34))
        self._where.setToolTip(plain(str(row.path)))
        self._bar.show_shares(row.used_share, row.coming_share)
        self._free.setText(row.free)
        self._kept.setText(row.kept)
        self._remove.setAccessibleName(f"{row.name} is not for this shoot")
        self.setAccessibleName(f"Place for copies {row.name}: {row.free}, {row.kept}")


class Board(QWidget):
    """Cards on this side, places on that side, ribbons across."""

    def __init__(self, theme: Theme, screen: CardsScreen) -> None:
        super().__init__()
        self._theme = theme
        self._screen = screen
        self._cards: dict[str, CardPanel] = {}
        self._sets: dict[str, SetPanel] = {}
        # How high each group would be whose cards tell all, by what makes a difference to that.
        self._roomy: dict[str, tuple[tuple[object, ...], int]] = {}
        self._compact = False
        self._places: dict[str, PlacePanel] = {}
        self._ribbons: list[Ribbon] = []
        self._picture = RibbonPicture()
        # Many ribbons that moved are drawn anew after the panels that moved them, in a turn of its own.
        self._anew, self._anew_follows = False, QTimer(self)
        self._anew_follows.setSingleShot(True)
        self._anew_follows.timeout.connect(self._draw_anew)
        self._placed: list[PlacedRibbon] = []
        self._bars: dict[tuple[str, Path], RibbonBar] = {}
        self._names: dict[str, str] = {}
        # Where ribbons are is known when the board is painted; what lies over them, for who points or listens, follows.
        self._bars_follow = QTimer(self)
        self._bars_follow.setSingleShot(True)
        self._bars_follow.timeout.connect(self._place_bars)
        # Never on show: how high a card would be.
        self._measured = CardPanel(theme, screen, "")
        self._measured.setParent(self)
        self._measured.hide()
        self._painted_s = 0.0
        # How wide it is, and how much of it is seen.
        self._room_px = (0, 0)
        self._left, self._right = QVBoxLayout(), QVBoxLayout()
        self._no_card = _empty("No card is in.", _NOT_SEEN, _CARD_WIDTH_PX)
        self._no_place = _empty("No place for copies yet.", "Add a folder on a disk you trust.", _PLACE_WIDTH_PX)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for column, first in ((self._left, self._no_card), (self._right, self._no_place)):
            column.setSpacing(12)
            column.addWidget(first)
            column.addStretch(1)
        row.addLayout(self._left)
        row.addStretch(1)
        row.addLayout(self._right)
        self.setAccessibleName("Crossing board")

    def minimumSizeHint(self) -> QSize:  # Qt's name
        """As narrow as the window likes: cards and places take what there is."""
        return QSize(0, super().minimumSizeHint().height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        room = (self.width(), self._seen_px())
        # Whatever is put on it makes it higher: that alone shows nothing anew.
        if room != self._room_px:
            self._room_px = room
            self._no_card.setFixedWidth(self._card_width())
            self._no_place.setFixedWidth(self._place_width())
            self.refresh()

    def _seen_px(self) -> int:
        """How much of its height is seen at once: that of what scrolls it."""
        around = self.parentWidget()
        return around.height() if around is not None else self.height()

    def _card_width(self) -> int:
        return round(min(_CARD_WIDTH_PX * max(1.0, self._theme.scale), max(_CARD_WIDTH_PX, _CARD_SHARE * self.width())))

    def _place_width(self) -> int:
        usual = _PLACE_WIDTH_PX * max(1.0, self._theme.scale)
        return round(min(usual, max(_PLACE_WIDTH_PX, _PLACE_SHARE * self.width())))

    def refresh(self) -> None:
        """Shows what is true now."""
        groups = self._screen.groups()
        self._names = {row.key: row.name for group in groups for row in group.rows}
        self._show_cards(groups)
        self._show_places(self._screen.places())
        ribbons = self._screen.ribbons()
        if self._is_worth_it(ribbons):
            self._painted_s = time.monotonic()
            self._ribbons = ribbons
            self._update_ribbons()

    def _update_ribbons(self) -> None:
        """Paints what lies between cards and places, and none of the panels."""
        x_px = [end.x() for each in self._placed for end in each.ends]
        if x_px:
            self.update(QRect(round(min(x_px)) - 1, 0, round(max(x_px) - min(x_px)) + 2, self.height()))
        else:
            self.update()

    def _draw_anew(self) -> None:
        self._anew = True
        self._update_ribbons()

    def _is_worth_it(self, ribbons: list[Ribbon]) -> bool:
        """Whether the eye would see a difference; many ribbons move more slowly, and cost more to draw."""
        if [(each.key, each.place, each.mark) for each in ribbons] != [
            (each.key, each.place, each.mark) for each in self._ribbons
        ]:
            return True
        if len(ribbons) > _MANY_RIBBONS and time.monotonic() - self._painted_s < _SLOWER_S:
            return False
        return [_drawn(ribbon) for ribbon in ribbons] != [_drawn(ribbon) for ribbon in self._ribbons]

    def _show_cards(self, groups: list[CardGroup]) -> None:
        rows = [row for group in groups for row in group.rows]
        for key in set(self._cards) - {row.key for row in rows}:
            self._cards.pop(key).deleteLater()
        for key in set(self._sets) - {group.key for group in groups}:
            # Its cards may stand elsewhere by now; those that do are taken over below.
            self._sets.pop(key).deleteLater()
        for place, group in enumerate(groups):
            self._place_group(place, group)
        self._choose_form(groups)
        self._left.setSpacing(_COMPACT_SPACE_PX if self._compact else _SPACE_PX)
        for group in groups:
            self._show_group(group, compact=self._compact)
        self._no_card.setVisible(not rows)

    def _place_group(self, place: int, group: CardGroup) -> None:
        """Every card where it belongs: by itself, or in the frame of its set."""
        column, first = self._left, place
        if group.title:
            if group.key not in self._sets:
                self._sets[group.key] = SetPanel()
            _put(self._left, self._sets[group.key], place)
            column, first = self._sets[group.key].cards, 0
        for number, row in enumerate(group.rows):
            look = "member" if group.title else "panel"
            if row.key not in self._cards:
                self._cards[row.key] = CardPanel(self._theme, self._screen, row.key)
                self._cards[row.key].setObjectName(look)
            card = self._cards[row.key]
            take_look(card, look)
            _put(column, card, first + number)

    def _show_group(self, group: CardGroup, *, compact: bool) -> None:
        width = self._card_width()
        if group.title:
            self._sets[group.key].show_group(group, width)
            width -= 2 * _SET_MARGIN_PX
        for row in group.rows:
            # A set is many cards, and its frame says what they have in common.
            self._cards[row.key].show_row(row, width, compact=compact or bool(group.title))

    def _choose_form(self, groups: list[CardGroup]) -> None:
        """Cards tell all where all of them fit at once, else only what matters across a room."""
        rows = [row for group in groups for row in group.rows]
        for key in self._roomy.keys() - {group.key for group in groups}:
            del self._roomy[key]
        high = sum(self._roomy_px(group) for group in groups) + _SPACE_PX * len(groups)
        self._compact = len(rows) > 1 and high > self._seen_px()

    def _roomy_px(self, group: CardGroup) -> int:
        """How high a group is where its cards tell all; measured again only where that may have changed."""
        by = (
            self._card_width(),
            self._theme.scale,
            group.title,
            group.words,
            # Numbers run ten times a second: only how many lines they take makes a difference.
            *(
                (row.key, row.mark, row.remark, row.advice, len(row.numbers) // _NUMBERS_STEP, row.contents)
                for row in group.rows
            ),
        )
        known = self._roomy.get(group.key)
        if known is None or known[0] != by:
            known = self._roomy[group.key] = (by, self._measured_px(group))
        return known[1]

    def _measured_px(self, group: CardGroup) -> int:
        width = self._card_width()
        if group.title:
            self._show_group(group, compact=False)
            top: QWidget = self._sets[group.key]
        else:
            # Not in the panel that is on show: to turn that over and back costs a window of eight a quarter second.
            top = self._measured
            self._measured.show_row(group.rows[0], width, compact=False)
            # What was never on show has no look yet, and its text no size.
            for part in (self._measured, *self._measured.findChildren(QWidget)):
                part.ensurePolished()
        # What wraps is higher than it hints at.
        return top.heightForWidth(width) if top.hasHeightForWidth() else top.sizeHint().height()

    def _show_places(self, rows: list[PlaceRow]) -> None:
        for key in set(self._places) - {str(row.path) for row in rows}:
            self._places.pop(key).deleteLater()
        for place, row in enumerate(rows):
            if str(row.path) not in self._places:
                made = PlacePanel(self._theme, lambda path=row.path: self._screen.remove_place(path))  # type: ignore[misc]  # bound now
                self._places[str(row.path)] = made
                self._right.insertWidget(place, made)
            self._places[str(row.path)].show_row(row, self._place_width())
        self._no_place.setVisible(not rows)

    def paintEvent(self, event: QPaintEvent | None) -> None:  # Qt's name
        heaviest = max((ribbon.weight_bytes for ribbon in self._ribbons), default=1) or 1
        room = self._room() if self._cards and self._places else 0.0
        cards = {key: self._box(card) for key, card in self._cards.items()}
        places = {key: self._box(place) for key, place in self._places.items()}
        order = sorted(cards, key=lambda key: cards[key].top())
        placed = []
        # The ones at rest first, so that what moves lies on top.
        for ribbon in sorted(self._ribbons, key=lambda each: each.mark is Mark.UNDER_WAY):
            card, place = cards.get(ribbon.key), places.get(str(ribbon.place))
            if card is not None and place is not None:
                ends = (
                    _on_edge(card, list(places).index(str(ribbon.place)), len(places), right=True),
                    _on_edge(place, order.index(ribbon.key), len(order), right=False),
                )
                share = (ribbon.weight_bytes / heaviest) ** 0.5
                thick = min(max(_THINNEST_PX, _THICKEST_PX * share), room - 3)
                placed.append(PlacedRibbon(ribbon, ends, thick))
        # Ended here also where painting fails: one that an error keeps alive would paint on what is gone.
        lags = len(placed) > _MANY_RIBBONS and not self._anew
        with QPainter(self) as painter:
            mark_px, colours = min(_MARK_PX, room - 3), self._theme.colours
            if self._picture.paint(painter, placed, self.size(), mark_px, colours, may_lag=lags):
                self._anew = False
            elif not self._anew_follows.isActive():
                self._anew_follows.start(_ANEW_MS)
        self._placed = placed
        if not self._bars_follow.isActive():
            self._bars_follow.start(_BARS_MS)

    def _place_bars(self) -> None:
        for key in self._bars.keys() - {each.key for each in self._placed}:
            self._bars.pop(key).deleteLater()
        for each in self._placed:
            if each.key not in self._bars:
                self._bars[each.key] = RibbonBar(self)
            self._bars[each.key].show_ribbon(each, self._spoken(each.ribbon))

    def _spoken(self, ribbon: Ribbon) -> str:
        return (
            f"{self._names.get(ribbon.key, ribbon.key)} to {ribbon.place.name}: {round(ribbon.copied * 100)} % copied, "
            f"{round(ribbon.proven * 100)} % read back, {ribbon.mark.value}"
        )

    def event(self, event: QEvent | None) -> bool:  # Qt's name
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            found = ribbon_at(self._placed, event.pos())
            if found is not None:
                QToolTip.showText(event.globalPos(), plain(self._spoken(found.ribbon)), self)
                return True
            QToolTip.hideText()
        done = super().event(event)
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            # Panels that moved paint where they are and were: what leads to them moved too.
            self._update_ribbons()
        return done

    def _room(self) -> float:
        """What one ribbon has along the edge where they are closest, in pixels."""
        cards = [_step(panel.height(), len(self._places)) for panel in self._cards.values()]
        places = [_step(panel.height(), len(self._cards)) for panel in self._places.values()]
        return min([*cards, *places])

    def _box(self, part: QWidget) -> QRect:
        """Where a panel lies; one in a frame ends where the frame does."""
        box = QRect(part.mapTo(self, QPoint(0, 0)), part.size())
        return box if part.parentWidget() is self else box.adjusted(-_SET_MARGIN_PX, 0, _SET_MARGIN_PX, 0)


def _on_edge(box: QRect, number: int, count: int, *, right: bool) -> QPointF:
    """Where one of some ribbons ends at a panel."""
    y = box.center().y() + (number - (count - 1) / 2) * _step(box.height(), count)
    return QPointF(box.right() + 2 if right else box.left() - 1, y)


def _empty(title: str, text: str, width: int) -> QFrame:
    made = panel()
    made.setFixedWidth(width)
    column = QVBoxLayout(made)
    column.setContentsMargins(14, 14, 14, 14)
    column.addWidget(label(title, "title"))
    column.addWidget(label(text, "soft", wrap=True))
    return made


def _put(column: QVBoxLayout, part: QWidget, place: int) -> None:
    """Puts a panel at a place of a column, unless it is there."""
    item = column.itemAt(place)
    if item is None or item.widget() is not part:
        column.insertWidget(place, part)


def _drawn(ribbon: Ribbon) -> tuple[object, ...]:
    """What of a ribbon makes a difference to the eye: half a percent is a pixel or two."""
    return round(ribbon.copied * 200), round(ribbon.proven * 200)


def _step(high: int, count: int) -> float:
    return min(24.0, high / (count + 1))
