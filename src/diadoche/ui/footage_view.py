"""Footage: the table, and beside it the player with what is known of a clip, or several clips compared."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QKeyEvent, QPixmap, QResizeEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from diadoche.screens.actions import Action
from diadoche.screens.browsing import GROUPINGS, SHOWINGS
from diadoche.screens.footage import SPHERE_CHOICES, FootageScreen
from diadoche.screens.lines import ALL_COLUMNS
from diadoche.services.ledger.opinions import Verdict
from diadoche.ui.actions import Groups, add_shortcuts, fill, opens_menu
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.compare_view import CompareView
from diadoche.ui.file_manager import copy_paths, show_in_files
from diadoche.ui.footage_table import FootageTable
from diadoche.ui.parts import (
    ElidedLabel,
    label,
    leaves_by_escape,
    menu_button,
    panel,
    scrolled,
    selectable,
    show_chosen,
    with_arrow,
)
from diadoche.ui.plain_text import plain
from diadoche.ui.player import PlayerView
from diadoche.ui.theme import Theme
from diadoche.ui.view import View

_PLAYER_KEYS = {Qt.Key.Key_Space, Qt.Key.Key_J, Qt.Key.Key_K, Qt.Key.Key_L, Qt.Key.Key_Left, Qt.Key.Key_Right}
_VERDICTS: tuple[tuple[Verdict, str, str], ...] = (("keep", "Keep", "1"), ("maybe", "Maybe", "2"), ("no", "No", "3"))
_TABLE_PX, _TABLE_BESIDE_COMPARED_PX, _TABLE_LEAST_PX = 716, 470, 300
_FACTS_LEAST_PX = 72
# What the player and the margins need beside it.
_BESIDE_PX, _MARGINS_PX = 420, 60


class FootageView(View):
    """One selection for table, player and facts."""

    def __init__(self, theme: Theme, screen: FootageScreen, icons: ClipIcons) -> None:
        super().__init__("Footage", screen.summary)
        self._screen = screen
        self.player = PlayerView(theme)
        self._headline = ElidedLabel()
        self._headline.setObjectName("soft")
        self.table = FootageTable(theme, screen, icons, self._other_keys)
        self.table.chosen.connect(self._select)
        self.table.doubleClicked.connect(lambda _index: self.player.toggle())
        self.compare = CompareView(theme, screen)
        self._empty = label("", "soft")
        self._actions = self._all_actions()
        add_shortcuts(self.table, self.actions_with_keys(), Qt.ShortcutContext.WidgetShortcut)
        # Marks are set while the player has the keyboard, too.
        add_shortcuts(self.player, self._part_actions(), Qt.ShortcutContext.WidgetShortcut)
        opens_menu(self.table, lambda: self._actions if self._screen.chosen_count else ())
        self._build()
        screen.on_change = self.refresh
        self.refresh()

    def _all_actions(self) -> Groups:
        """What can be done with the selected clips."""
        screen = self._screen
        verdicts = [
            Action(title, partial(screen.judge, verdict), key, chosen=partial(self._is_judged, verdict))
            for verdict, title, key in _VERDICTS
        ]
        return (
            (*verdicts, Action("No verdict", partial(screen.judge, ""), "0", chosen=partial(self._is_judged, ""))),
            (Action("Play or stop", self.player.toggle),),
            self._part_actions(),
            (
                Action("Fetch from a proven copy…", self._fetch),
                Action("Show in files", lambda: show_in_files(screen.selected_paths())),
                Action("Copy where it lies", lambda: copy_paths(screen.selected_paths())),
            ),
        )

    def _part_actions(self) -> list[Action]:
        """What can be done with parts of clips."""
        screen = self._screen

        def marking(doing: Callable[[], object]) -> Callable[[], None]:
            def mark() -> None:
                doing()
                self._show_part()
                self._show_detail()

            return mark

        def can_mark() -> bool:
            return screen.can_mark

        return [
            Action("Part begins here", marking(lambda: screen.begin_part(self.player.picture)), "I", can_mark),
            Action("Part ends here", marking(lambda: screen.end_part(self.player.picture)), "O", can_mark),
            Action("No part: all of it", marking(screen.forget_part), "X", lambda: screen.can_forget_part),
            Action("Convert the marked parts", screen.convert_parts, "C", lambda: screen.can_convert_parts),
        ]

    def _show_part(self) -> None:
        part = self._screen.part
        self.player.show_part(None if part is None else (part.first, part.end), self._screen.part_words())

    def actions_with_keys(self) -> list[Action]:
        """What its keys do, in the table."""
        return [each for group in self._actions for each in group if each.keys]

    def _fetch(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Where the selected clips go")
        if folder:
            self._screen.fetch(Path(folder))

    def _is_judged(self, verdict: Verdict) -> bool:
        detail = self._screen.detail()
        return detail is not None and detail.verdict == verdict

    # -- how it is laid out --------------------------------------------------------------------

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 14, 24, 16)
        column.setSpacing(10)
        top = QHBoxLayout()
        top.setSpacing(12)
        top.addWidget(label("Clips", "heading"))
        top.addWidget(self._headline, 1)
        column.addLayout(top)
        column.addLayout(self._tools())
        column.addWidget(self._empty)
        below = QHBoxLayout()
        below.setSpacing(12)
        self._below = below
        self.table.setMinimumWidth(_TABLE_LEAST_PX)
        below.addWidget(self.table, 1)
        self._beside = QStackedWidget()
        one = QWidget()
        right = QVBoxLayout(one)
        right.setContentsMargins(0, 0, 0, 0)
        right.setSpacing(12)
        right.addWidget(self.player, 0)
        right.addWidget(self._facts_panel(), 1)
        self._beside.addWidget(one)
        self._beside.addWidget(self.compare)
        beside = QVBoxLayout()
        beside.setSpacing(8)
        beside.addWidget(self._beside, 1)
        # Below one clip and below several: what is said is said of all that is selected.
        beside.addLayout(self._verdict_row())
        beside.addLayout(self._words_row())
        below.addLayout(beside, 3)
        column.addLayout(below, 1)

    def resizeEvent(self, event: QResizeEvent | None) -> None:  # Qt's name
        super().resizeEvent(event)
        self._fit_table()

    def _fit_table(self) -> None:
        """The table has its usual width where the player beside it keeps enough; no least width holds the window."""
        several = self._beside.currentIndex() == 1
        usual = _TABLE_BESIDE_COMPARED_PX if several else _TABLE_PX
        table = max(_TABLE_LEAST_PX, min(usual, self.width() - _BESIDE_PX))
        self._below.setStretch(0, table)
        self._below.setStretch(1, max(1, self.width() - table - _MARGINS_PX))

    def first_focus(self) -> QWidget | None:
        """The clips."""
        return self.table if self._screen.clips else None

    def _leave_search(self) -> None:
        self.search_field.clear()
        self.table.setFocus()

    def _tools(self) -> QHBoxLayout:
        """Find, show, group, columns: all that changes what the table holds."""
        row = QHBoxLayout()
        row.setSpacing(8)
        self.search_field = QLineEdit()
        self.search_field.setPlaceholderText("Find by any word: card, codec, tag, note")
        self.search_field.setAccessibleName("Find clips")
        self.search_field.setToolTip("Shows the clips in which every word occurs (Ctrl+F)")
        self.search_field.setClearButtonEnabled(True)
        self.search_field.textChanged.connect(self._screen.find)
        leaves_by_escape(self.search_field, self._leave_search)
        row.addWidget(self.search_field, 1)
        screen = self._screen
        self._show_button = self._menu(
            row, "Show", SHOWINGS, screen.show_only, lambda: screen.browsing.showing, "Which clips are shown"
        )
        self._group_button = self._menu(
            row, "Group", GROUPINGS, screen.group_by, lambda: screen.look.grouping, "Puts alike clips together"
        )
        button, menu = menu_button("Columns", tip="Which columns the table has")
        for each in ALL_COLUMNS:
            action = menu.addAction(each.name)
            assert action is not None
            action.setCheckable(True)
            action.setChecked(each.name in self._screen.look.columns)
            action.setToolTip(plain(each.tip))
            action.setEnabled(each.name != "Clip")
            action.toggled.connect(partial(self._screen.choose_column, each.name))
        row.addWidget(button)
        return row

    @staticmethod
    def _menu(
        row: QHBoxLayout,
        title: str,
        choices: Sequence[tuple[str, str]],
        choose: object,
        chosen: Callable[[], str],
        tip: str,
    ) -> QPushButton:
        """A button with a menu in which what is chosen has a tick."""
        assert callable(choose)
        button, menu = menu_button(title, tip=tip)

        def action(name: str, words: str) -> Action:
            return Action(words[:1].upper() + words[1:], partial(choose, name), chosen=lambda: chosen() == name)

        def show() -> None:
            menu.clear()
            fill(menu, [[action(name, words) for name, words in choices]])

        menu.aboutToShow.connect(show)
        row.addWidget(button)
        return button

    def _facts_panel(self) -> QWidget:
        sheet = panel()
        sheet.setMinimumHeight(_FACTS_LEAST_PX)
        column = QVBoxLayout(sheet)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(3)
        self._title, self._reasons = label(name="title", wrap=True), label(wrap=True)
        self._facts, self._kept, self._problems = (
            label(name="soft", wrap=True),
            label(name="proven", wrap=True),
            label(name="problem", wrap=True),
        )
        selectable(self._title, self._reasons, self._facts, self._kept, self._problems)
        # Much can be known of a clip: what does not fit is scrolled to, and never cut.
        inside = QWidget()
        known = QVBoxLayout(inside)
        known.setContentsMargins(0, 0, 0, 0)
        known.setSpacing(3)
        for part in (self._title, self._reasons, self._facts, self._kept, self._problems):
            known.addWidget(part)
        known.addLayout(self._sphere_row())
        known.addLayout(self._combing_row())
        known.addStretch(1)
        column.addWidget(scrolled(inside, "What is known of the clip"), 1)
        return sheet

    def _sphere_row(self) -> QHBoxLayout:
        """For footage that is a sphere and does not say so, or says it wrong."""
        row = QHBoxLayout()
        self.sphere_button, menu = menu_button(
            "Write what it is", tip="Makes a copy among the outputs, packets untouched, that says so to players"
        )
        for stereo, words in SPHERE_CHOICES:
            action = menu.addAction(words)
            assert action is not None
            action.triggered.connect(lambda _on=False, stereo=stereo: self._screen.write_sphere(stereo))
        row.addWidget(self.sphere_button)
        row.addStretch(1)
        return row

    def _verdict_row(self) -> QHBoxLayout:
        """Keep, maybe, no: pressed again, it is taken back."""
        row = QHBoxLayout()
        row.setSpacing(6)
        self._verdicts: dict[Verdict, QPushButton] = {}
        group = QButtonGroup(self)
        group.setExclusive(False)
        for verdict, title, key in _VERDICTS:
            made = QPushButton(title)
            made.setObjectName("choice")
            made.setCheckable(True)
            made.setToolTip(plain(f"Key {key}; 0 takes it back"))
            made.toggled.connect(lambda on, verdict=verdict: self._screen.judge(verdict if on else ""))
            group.addButton(made)
            row.addWidget(made)
            self._verdicts[verdict] = made
        row.addStretch(1)
        return row

    def _words_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(6)
        self.tags, self.note = QLineEdit(), QLineEdit()
        for part, words, tip, doing, stretch in (
            (self.tags, "Tags", "Your own words for it, with commas between them", self._screen.tag, 2),
            (self.note, "Note", "Your own note on it", self._screen.note, 3),
        ):
            part.setPlaceholderText(words)
            part.setAccessibleName(words)
            part.setToolTip(plain(tip))
            part.editingFinished.connect(lambda part=part, doing=doing: self._written(part, doing))
            row.addWidget(part, stretch)
        return row

    def _written(self, part: QLineEdit, doing: object) -> None:
        """Leaving the field writes it down, if it was changed."""
        assert callable(doing)
        if part.isModified():
            part.setModified(False)
            doing(part.text())

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

    # -- what it shows -------------------------------------------------------------------------

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
        self.table.fit()

    def refresh(self, changed: Sequence[int] | None = None) -> None:
        """Shows the rows as they are now; the first clip is selected when none is.

        Args:
            changed: the rows that say something else; None where all may, and stand elsewhere.
        """
        self.table.refresh(changed)
        headline = self._screen.headline()
        self._headline.setText(headline)
        self._headline.setToolTip(plain(headline))
        self._show_empty()
        selected, first = self._screen.chosen_count, self._screen.first_row()
        if not selected and first is not None:
            self.table.choose_row(first)
        elif selected:
            self._show_selected()
        else:
            self.player.open(None)
            self._show_detail()

    def _show_empty(self) -> None:
        words = "" if self._screen.rows else "Offload a card, and its clips stand here."
        if not self._screen.rows and self._screen.clips:
            words = "No clip is like that. Take words out of the search, or show all clips."
        self._empty.setText(words)
        self._empty.setVisible(bool(words))
        title = next(words for name, words in SHOWINGS if name == self._screen.browsing.showing)
        self._show_button.setText(with_arrow("Show" if self._screen.browsing.showing == "all" else f"Show {title}"))
        title = next(words for name, words in GROUPINGS if name == self._screen.look.grouping)
        group = title.partition(":")[0]
        self._group_button.setText(with_arrow(f"Group {group}" if self._screen.look.grouping else "Group"))

    def _select(self, rows: list[int]) -> None:
        before = self._screen.selection.current
        self._screen.select(rows)
        if self._screen.selection.current != before:
            self._show_combing(QImage())
        self._show_selected()

    def _show_selected(self) -> None:
        several = self._screen.chosen_count > 1
        self._beside.setCurrentIndex(1 if several else 0)
        # Facts side by side need the room more than the table does.
        self._fit_table()
        if several:
            self.compare.refresh()
        self.player.open(self._screen.current)
        self._show_part()
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
        self.sphere_button.setVisible(self._screen.can_write_sphere)
        for verdict, button in self._verdicts.items():
            button.setEnabled(detail is not None)
            show_chosen(button, detail is not None and detail.verdict == verdict)
        for field, text in ((self.tags, detail.tags if detail else ""), (self.note, detail.note if detail else "")):
            field.setEnabled(detail is not None)
            if not field.isModified() and field.text() != text:
                field.setText(text)

    def _other_keys(self, event: QKeyEvent) -> bool:
        """Keys that mean nothing to the table: the player's; Return takes the focus there."""
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            return False
        if event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter}:
            self.player.setFocus()
            return True
        return event.key() in _PLAYER_KEYS and self.player.obey_key(event.key())
