"""The window: the watch line on top, the rail of views at the left, one view at a time."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diadoche.screens.actions import Action
from diadoche.services.machine.settings import load_settings
from diadoche.services.machine.state_places import StatePlaces
from diadoche.ui.actions import add_shortcuts
from diadoche.ui.asks import Asks
from diadoche.ui.parts import show_chosen, within_screen
from diadoche.ui.plain_text import plain
from diadoche.ui.rail import RailItem
from diadoche.ui.rows_table import RowsTable
from diadoche.ui.theme import Theme
from diadoche.ui.tray import Tray
from diadoche.ui.view import View
from diadoche.ui.watch_line_view import WatchLineView
from diadoche.ui.window_menu import WindowMenuButton

if TYPE_CHECKING:
    # Views load media libraries and the database with their screens; the window is on the screen before that.
    from diadoche.screens.desk import Desk
    from diadoche.ui.help_dialog import HelpDialog
    from diadoche.ui.views import Views

_SAMPLE_MS, _SUMMARIES_MS = 100, 20
_RAIL_PX = 140
_USUAL_PX = (1280, 800)


class MainWindow(QMainWindow):
    """Everything a person sees: first an empty frame that says so, filled as soon as the rest is loaded."""

    def __init__(self, theme: Theme) -> None:
        """
        Args:
            theme: the look in force.
        """
        super().__init__()
        self.theme = theme
        self.leaving = False
        self._filled = False
        self._widths: dict[str, dict[str, int]] = {}
        self.setWindowTitle("Diadoche")
        self.resize(*within_screen(self.screen(), _USUAL_PX))
        self.watch_line = WatchLineView(theme)
        self.watch_line.show_opening()
        self.stack = QStackedWidget()
        self._rail = QWidget()
        self._rail.setObjectName("rail")
        self._rail.setFixedWidth(_RAIL_PX)
        self._items: list[RailItem] = []
        self._group = QButtonGroup(self)
        self._build()

    def fill(self, views: Views, desk: Desk, asks: Asks) -> None:
        """Puts the views in.

        Args:
            views: the views of all screens.
            desk: all screens.
            asks: what the window asks the application for.
        """
        self._desk = desk
        self._asks = asks
        self.cards, self.footage, self.outputs = views.cards, views.footage, views.outputs
        self.work, self.ledger = views.work, views.ledger
        self._views: list[View] = [self.cards, self.footage, self.outputs, self.work, self.ledger]
        self._shoot, self.icons = views.shoot, views.icons
        self.tray = Tray(self.theme, self, show=self.come_back, leave=self._leave)
        self._fill_rail()
        self._filled = True
        self.setAcceptDrops(True)
        self._fit()
        self._add_actions()
        desk.cards.on_change = self._cards_changed
        desk.cards.on_line = self._show_line
        desk.work.on_change = self._work_changed
        # In a turn of its own: what is judged is seen first, and then what that means for the other views.
        self._summaries = QTimer(self)
        self._summaries.setSingleShot(True)
        self._summaries.timeout.connect(self._show_summaries)
        desk.shelf.listeners.append(lambda _change: self._summaries.start(_SUMMARIES_MS))
        self._silent: Path | None = None
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._sample)
        self._timer.start(_SAMPLE_MS)
        self.go_to(0)
        self._cards_changed()

    def take_size(self, size_px: tuple[int, int], *, filled: bool) -> None:
        """As large as it was once, as far as the screen of today has room; never less than all of it needs."""
        width, height = within_screen(self.screen(), size_px)
        if width > 0 and height > 0:
            self.resize(width, height)
        if filled:
            self.setWindowState(self.windowState() | Qt.WindowState.WindowMaximized)

    def column_widths(self) -> dict[str, dict[str, int]]:
        """How wide the person made columns of tables, by the tables' names; of those too that were not on show."""
        return self._widths | {
            each.accessibleName(): each.chosen for each in self.findChildren(RowsTable) if each.chosen
        }

    def take_column_widths(self, widths: Mapping[str, Mapping[str, int]]) -> None:
        """Columns as wide as they were made once."""
        for each in self.findChildren(RowsTable):
            each.take_chosen(widths.get(each.accessibleName(), {}))
        self.outputs.take_column_widths(widths)
        self._widths = {name: dict(chosen) for name, chosen in widths.items()}

    def _build(self) -> None:
        self._rail.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        body = QHBoxLayout()
        body.setSpacing(0)
        body.addWidget(self._rail)
        body.addWidget(self.stack, 1)
        outer = QVBoxLayout()
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.watch_line)
        outer.addLayout(body, 1)
        whole = QWidget()
        whole.setLayout(outer)
        self.setCentralWidget(whole)

    def _fill_rail(self) -> None:
        column = QVBoxLayout(self._rail)
        column.setContentsMargins(0, 12, 0, 12)
        column.setSpacing(4)
        for number, view in enumerate(self._views):
            item = RailItem(self.theme, view.title)
            item.setToolTip(plain(f"{view.title} (Ctrl+{number + 1})"))
            item.toggled.connect(partial(self._rail_toggled, number))
            self._group.addButton(item)
            self._items.append(item)
            column.addWidget(item)
            self.stack.addWidget(view)
        column.addStretch(1)
        foot = QVBoxLayout()
        foot.setContentsMargins(14, 0, 6, 0)
        foot.addWidget(self._shoot)
        foot.addWidget(WindowMenuButton(lambda: self._window_actions))
        column.addLayout(foot)

    def _add_actions(self) -> None:
        text, cards, outputs = self._asks.text, self._desk.cards, self._desk.outputs
        doing = [
            Action("Offload every card", self.cards.offload, "Ctrl+Return", lambda: cards.can_offload_any),
            Action("Unattended", self.cards.switch_unattended, "Ctrl+U"),
            Action("Choose a folder as a card", self.cards.choose_card, "Ctrl+O"),
            Action("Type an address", self.cards.type_address, "Ctrl+L"),
            Action("Add a place for copies", self.cards.choose_place, "Ctrl+P"),
            Action("Make every output", outputs.make, "Ctrl+M"),
            Action("Hand off to the editing program", self.outputs.hand, "Ctrl+H", lambda: outputs.can_hand_off),
            Action("Find in what is on show, else in the ledger", self._search, "Ctrl+F"),
        ]
        self._window_actions = [
            [Action("Help: all keys, and the guide", self.show_help, "F1")],
            [Action("Take back the last change", self.take_back, "Ctrl+Z")],
            [
                Action("Light or dark", self._asks.scheme, "Ctrl+D"),
                Action("Larger text", partial(text, 1), "Ctrl++"),
                Action("Smaller text", partial(text, -1), "Ctrl+-"),
                Action("Usual text", partial(text, 0), "Ctrl+0"),
                Action("Fill the screen, or not", self._fill_screen, "F11"),
            ],
            [Action("Quit", self._leave, "Ctrl+Q")],
        ]
        showing = [
            Action(view.title, partial(self.go_to, number), f"Ctrl+{number + 1}")
            for number, view in enumerate(self._views)
        ]
        self.everywhere = [*doing, *itertools.chain(*self._window_actions), *showing]
        add_shortcuts(self, self.everywhere, Qt.ShortcutContext.WindowShortcut)

    def take_back(self) -> None:
        """Takes back what the person changed last, and says what that was."""
        what = self._desk.undo.take_back()
        self.watch_line.say(f"Taken back: {what}." if what else "There is nothing to take back.")

    def show_help(self) -> HelpDialog:
        """Tells all keys, and shows the guide."""
        clips, outputs = self.footage.actions_with_keys(), self.outputs.actions_with_keys()
        # With the guide and the player's keys: not before it is asked for.
        from diadoche.ui.help_dialog import HelpDialog

        dialog = HelpDialog(self, self.everywhere, clips, outputs)
        dialog.open()
        return dialog

    def _fill_screen(self) -> None:
        self.setWindowState(self.windowState() ^ Qt.WindowState.WindowFullScreen)

    def go_to(self, number: int) -> None:
        """Shows a view."""
        self.stack.setCurrentIndex(number)
        show_chosen(self._items[number], True)
        view = self._views[number]
        view.shown()
        # Where work begins there; the rail where nothing can be done yet. Never on what takes something away.
        begin = view.first_focus()
        (begin if begin is not None else self._items[number]).setFocus(Qt.FocusReason.ShortcutFocusReason)

    def _rail_toggled(self, number: int, on: bool) -> None:
        if on:
            self.go_to(number)

    def _fit(self) -> None:
        """What is as large as its text."""
        self.watch_line.fit()
        for item in self._items:
            item.updateGeometry()
        self._rail.setFixedWidth(max(_RAIL_PX, *(item.sizeHint().width() for item in self._items)))

    def look_again(self) -> None:
        """Colours or text sizes changed."""
        self._fit()
        for view in self._views:
            view.look_again()
        self._show_summaries()

    def _cards_changed(self) -> None:
        self.cards.refresh()
        self._show_summaries()

    def _work_changed(self) -> None:
        if self.stack.currentWidget() is self.work:
            self.work.refresh()
        self._show_summaries()

    def _show_silence(self) -> None:
        """What was known of a place before it fell silent is shown no longer."""
        silent = self._desk.station.silent_place()
        place = None if silent is None else silent[0]
        if place != self._silent:
            self._silent = place
            self.cards.refresh()
            self._desk.files_changed()

    def _show_line(self) -> None:
        line = self._desk.watch_line()
        self.watch_line.show_line(line)
        self.tray.show_line(line)

    def _show_summaries(self) -> None:
        self._show_line()
        for item, view in zip(self._items, self._views, strict=True):
            item.show_summary(view.summary())
        self._shoot.show_name()

    def _sample(self) -> None:
        """Ten times a second: the newest progress while something runs, else only what lies on the bench."""
        if not self._desk.work.running():
            self.cards.refresh_bench()
            # A place may have stopped answering, or began again: nobody else tells of that.
            self._show_line()
            self._show_silence()
            return
        self._show_silence()
        self._show_summaries()
        self._views[self.stack.currentIndex()].follow()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:  # Qt's name
        assert event is not None
        mime = event.mimeData()
        if mime is not None and mime.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:  # Qt's name
        assert event is not None
        mime = event.mimeData()
        paths = [Path(url.toLocalFile()) for url in mime.urls()] if mime is not None else []
        self.go_to(0)
        self._desk.cards.sources.dropped([path for path in paths if path != Path()], self.cards.say)

    def _search(self) -> None:
        if self.stack.currentWidget() is self.footage:
            self.footage.search_field.setFocus()
            return
        self.go_to(len(self._views) - 1)
        self.ledger.show_page(0)
        self.ledger.search.setFocus()

    def come_back(self) -> None:
        """Shows the window; only ever called because the person asked for it."""
        self.show()
        self.raise_()
        self.activateWindow()

    def _leave(self) -> None:
        self.leaving = True
        self.close()

    def closeEvent(self, event: QCloseEvent | None) -> None:  # Qt's name
        assert event is not None
        if self._filled and not self._may_close():
            event.ignore()
            return
        super().closeEvent(event)
        app = QApplication.instance()
        if app is not None:
            app.quit()

    def _may_close(self) -> bool:
        """Whether the window closes now; what ends with it has ended then."""
        if not self.leaving and self._desk.work.running() and self.tray.works:
            # Closing the window does not end what is at work; the tray says how it stands.
            self.hide()
            return False
        if not self.leaving and not self._may_leave():
            return False
        self._timer.stop()
        self._summaries.stop()
        self.footage.player.close_process()
        self.icons.close()
        return True

    def _may_leave(self) -> bool:
        """Whether the person means it, where cards are being read."""
        if not any(card.stage.being_read for card in self._desk.station.cards.values()):
            return True
        answer = QMessageBox.question(
            self,
            "Diadoche",
            "Cards are being read. What has arrived is kept, and it goes on at the next start. Quit now?",
        )
        return answer is QMessageBox.StandardButton.Yes


def first_window(app: QApplication, places: StatePlaces) -> MainWindow:
    """The window as it is before anything fills it: as large as it was once, in the person's colours and text size."""
    theme = Theme(app)
    settings = load_settings(places.config)
    theme.apply(settings.scheme, settings.text_percent)
    window = MainWindow(theme)
    if settings.window_px is not None:
        window.take_size(settings.window_px, filled=settings.filled)
    return window
