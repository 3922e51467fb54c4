"""Actions as Qt's: shortcuts of a part of the window, and context menus."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QAbstractScrollArea, QMenu, QTableView, QWidget

from diadoche.screens.actions import Action

# What belongs together; a line stands between two groups.
Groups = Sequence[Sequence[Action]]


def add_shortcuts(part: QWidget, actions: Sequence[Action], context: Qt.ShortcutContext) -> None:
    """Binds the keys of actions, where a part of the window has the focus."""
    for each in actions:
        if each.keys:
            made = QAction(each.title, part)
            made.setShortcut(QKeySequence(each.keys))
            made.setShortcutContext(context)
            made.triggered.connect(lambda _on=False, each=each: each.do() if each.enabled() else None)
            part.addAction(made)


def fill(menu: QMenu, groups: Groups) -> None:
    """Puts actions into a menu, as they can be done now."""
    for number, group in enumerate(each for each in groups if each):
        if number:
            menu.addSeparator()
        for each in group:
            # The keys are told, not bound a second time: that would make them ambiguous.
            made = menu.addAction(f"{each.title}\t{each.keys}" if each.keys else each.title)
            assert made is not None
            made.setEnabled(each.enabled())
            if each.chosen is not None:
                made.setCheckable(True)
                made.setChecked(each.chosen())
            made.triggered.connect(lambda _on=False, each=each: each.do())


def opens_menu(part: QWidget, groups: Callable[[], Groups]) -> None:
    """Opens a context menu on a part, by the mouse, the menu key or Shift+F10; none where nothing can be done."""

    def show(at: QPoint) -> None:
        # By a key Qt gives the middle of the part: a table's menu belongs beside its row.
        if isinstance(part, QTableView) and not part.indexAt(at).isValid():
            at = part.visualRect(part.currentIndex()).bottomLeft()
        offered = groups()
        if not any(offered):
            return
        menu = QMenu(part)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        fill(menu, offered)
        inside = part.viewport() if isinstance(part, QAbstractScrollArea) else part
        assert inside is not None
        menu.popup(inside.mapToGlobal(at))

    part.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    part.customContextMenuRequested.connect(show)
