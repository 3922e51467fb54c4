"""Outputs: what each clip still needs, one start for all of it, and what was made."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer, QUrl
from PyQt6.QtGui import QDesktopServices, QShowEvent
from PyQt6.QtWidgets import QFileDialog, QFrame, QHBoxLayout, QVBoxLayout, QWidget

from diadoche.core.errors import DiadocheError
from diadoche.core.sizes import count_text
from diadoche.screens.actions import Action
from diadoche.screens.output_rows import ClipRow, GroupRow
from diadoche.screens.outputs import OutputsScreen, problem_words
from diadoche.screens.places import OutputPlaces
from diadoche.ui.actions import Groups, add_shortcuts, opens_menu
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.file_manager import copy_paths, show_in_files
from diadoche.ui.flow_layout import flowing
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import (
    ChoiceBox,
    ElidedLabel,
    ShareBar,
    TickBox,
    button,
    label,
    menu_button,
    panel,
    scrolled,
    with_arrow,
)
from diadoche.ui.places_dialog import PlacesDialog
from diadoche.ui.plain_text import plain
from diadoche.ui.recipe_dialog import RecipeDialog
from diadoche.ui.rows_table import Pictures, RowsModel, RowsTable
from diadoche.ui.stitch_dialog import StitchDialog
from diadoche.ui.theme import Theme
from diadoche.ui.view import View

_CHOICE_WIDTH_PX, _STITCH_WIDTH_PX = 300, 190
_MOST_LINES = 8


class GroupPanel(QFrame):
    """Clips with one route: the choice, the size, and whether they are made."""

    def __init__(self, theme: Theme, screen: OutputsScreen, icons: ClipIcons, route: str) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._mark = MarkWidget(theme, 18)
        self._count = ""
        self._theme = theme
        self._title = label(name="title")
        self._route = route
        self._screen = screen
        self._icons = icons
        self.unfold = button("", self._turn, name="link", tip="Show the clips of this group, each with its reason")
        self._clips: list[ClipRow] = []
        self._model = RowsModel(
            theme,
            ("Clip", "Why", "Size", "What comes of it"),
            lambda: len(self._clips),
            lambda row: _texts(self._clips[row]),
            lambda row: self._clips[row].mark,
            pictures=Pictures(icons, lambda row: self._clips[row].path),
        )
        self.clips = RowsTable(self._model, f"Clips of the group {route}", 1, (270, 300, 90, 240))
        self.clips.hide()
        self._reason, self._warning = label(name="soft", wrap=True), label(name="problem", wrap=True)
        self._size = label(name="title")
        self._size.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._size.setMinimumWidth(150)
        self.included = TickBox(theme)
        policy = self.included.sizePolicy()
        policy.setRetainSizeWhenHidden(True)
        self.included.setSizePolicy(policy)
        # Not when it is `toggled`: it is that too where the panel shows what was chosen before.
        self.included.clicked.connect(lambda on: screen.include(route, on))
        self.choice = ChoiceBox(theme)
        self.choice.setFixedWidth(_CHOICE_WIDTH_PX)
        self.choice.activated.connect(lambda _index: screen.choose(route, self.choice.currentData()))
        self.recipe = button("", self.choose_recipe)
        self.recipe.setFixedWidth(_CHOICE_WIDTH_PX)
        self.stitch = button("", self.choose_stitch, tip="Rig, size and quality of each take; a picture of its seams")
        self.stitch.setFixedWidth(_STITCH_WIDTH_PX)
        head = QHBoxLayout()
        head.setSpacing(10)
        head.addWidget(self._mark)
        head.addWidget(self._title)
        head.addWidget(self.unfold)
        head.addStretch(1)
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addLayout(head)
        words.addWidget(self._reason)
        words.addWidget(self._warning)
        sheet = QVBoxLayout(self)
        sheet.setContentsMargins(14, 10, 14, 10)
        sheet.setSpacing(10)
        row = QHBoxLayout()
        row.setSpacing(14)
        sheet.addLayout(row)
        sheet.addWidget(self.clips)
        row.addWidget(self.included)
        row.addLayout(words, 1)
        row.addWidget(flowing(self.choice, self.stitch, self.recipe, self._size, right=True))

    def choose_recipe(self) -> RecipeDialog:
        """Opens the table of recipes; what is accepted there is taken over."""
        chooser = self._screen.recipe_chooser(self._route)
        dialog = RecipeDialog(self, self._theme, chooser)
        dialog.accepted.connect(lambda: self._screen.take(chooser, self._route))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()
        return dialog

    def choose_stitch(self) -> StitchDialog:
        """Opens how takes are stitched; what is chosen there counts at once."""
        dialog = StitchDialog(self, self._theme, self._screen.stitching, self._screen.takes(), self._icons)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()
        return dialog

    def want_no_pictures(self) -> None:
        """Called before it goes."""
        self._model.want_no_pictures()

    def _turn(self) -> None:
        """Unfolds the group, or folds it up."""
        self.clips.setVisible(self.clips.isHidden())
        self._show_clips()
        self._name_unfold()

    def _show_clips(self) -> None:
        # A group may hold ten thousand: they are computed only while somebody looks.
        self._clips = self._screen.clips_of(self._route) if not self.clips.isHidden() else []
        self._model.changed()
        lines = min(_MOST_LINES, len(self._clips))
        header, vertical = self.clips.horizontalHeader(), self.clips.verticalHeader()
        if header is not None and vertical is not None:
            high = header.sizeHint().height() + lines * vertical.defaultSectionSize() + 2 * self.clips.frameWidth()
            self.clips.setFixedHeight(high)

    def _name_unfold(self) -> None:
        folded = self.clips.isHidden()
        self.unfold.setText(f"{self._count} \u25be" if folded else f"{self._count} \u25b4")
        self.unfold.setAccessibleName(f"{'Show' if folded else 'Hide'} the {self._count} of {self._title.text()}")

    def show_row(self, row: GroupRow) -> None:
        """Shows the group as it is now."""
        self._mark.show_mark(row.mark)
        self._title.setText(row.title)
        made = f", {row.made} made" if row.made else ""
        self._count = count_text(row.clips, "take" if row.stitch else "clip") + made
        self._name_unfold()
        self._show_clips()
        self._reason.setText(row.reason)
        self._warning.setText(row.warning)
        self._warning.setVisible(bool(row.warning))
        self._size.setText(row.size)
        self.included.setVisible(bool(row.choices or row.recipe))
        self.included.setChecked(row.included)
        self.included.setAccessibleName(f"Make the clips to {row.title.lower()}")
        self.included.setToolTip("Made with the next start")
        self.stitch.setVisible(bool(row.stitch))
        self.stitch.setText(with_arrow(row.stitch) if row.stitch else "")
        self.recipe.setVisible(bool(row.recipe))
        self.recipe.setText(with_arrow(row.recipe))
        self.recipe.setAccessibleName(f"{row.recipe}, recipe for the clips to {row.title.lower()}")
        self.recipe.setToolTip(plain(f"One recipe for {row.clips} clips: what each holds, how large it becomes"))
        self.choice.setVisible(bool(row.choices))
        self.choice.setAccessibleName(f"Recipe for the clips to {row.title.lower()}")
        self.choice.setToolTip(plain(f"One choice for {row.clips} clips"))
        if [self.choice.itemData(place) for place in range(self.choice.count())] != [each.name for each in row.choices]:
            self.choice.clear()
            for each in row.choices:
                self.choice.addItem(each.title, each.name)
        self.choice.setCurrentIndex(max(0, self.choice.findData(row.chosen)))
        self.setAccessibleName(f"{row.title}, {self._count}. {row.reason} {row.size}")


def _texts(row: ClipRow) -> tuple[str, ...]:
    return row.name, row.reason, row.size, row.words


class OutputsView(View):
    """Groups above, the start below them, what was made at the foot."""

    def __init__(self, theme: Theme, screen: OutputsScreen, icons: ClipIcons) -> None:
        super().__init__("Outputs", screen.summary)
        self._theme = theme
        self._icons = icons
        self._screen = screen
        self._groups: dict[str, GroupPanel] = {}
        # How wide columns of tables were made once; groups come later.
        self._widths: Mapping[str, Mapping[str, int]] = {}
        self._rows: list[tuple[str, str]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(10)
        self.profile, self._profiles = menu_button(
            "Judged for", tip="What your editing program takes well decides which clips need work"
        )
        self._profiles.aboutToShow.connect(self._list_profiles)
        column.addWidget(flowing(label("What each clip still needs", "heading"), self.profile, spread=True))
        words = "Offload a card. When its copies are proven, what its clips need stands here."
        self._empty = label(words, "soft", wrap=True)
        column.addWidget(self._empty)
        inside = QWidget()
        self._stack = QVBoxLayout(inside)
        self._stack.setContentsMargins(0, 0, 0, 0)
        self._stack.setSpacing(8)
        self._stack.addStretch(1)
        self._area = scrolled(inside)
        column.addWidget(self._area, 3)
        column.addWidget(self._start_bar())
        self._add_made(column)
        self._profile_shown = ""
        self._stale = False
        self._refreshes = QTimer(self)
        self._refreshes.setSingleShot(True)
        self._refreshes.timeout.connect(self._refresh_stale)
        screen.on_change = self._changed
        self.refresh()

    def first_focus(self) -> QWidget | None:
        """What makes the outputs, or what was made."""
        return next(
            (part for part in (self.make_button, self.made_table) if part.isEnabled() and part.isVisible()), None
        )

    def _add_made(self, column: QVBoxLayout) -> None:
        """What was made, and what can be done with it."""
        screen, theme = self._screen, self._theme
        self._made_heading = label("Made", "heading")
        self.look_button = button(
            "Look at its places", self.look_at_places, tip="Step through what was found in the chosen output (P)"
        )
        made_row = QHBoxLayout()
        made_row.addWidget(self._made_heading)
        made_row.addStretch(1)
        made_row.addWidget(self.look_button)
        self.again_button = button(
            "Make again",
            self._make_again,
            tip="Makes the chosen output anew by its record, beside the one that stands (R)",
        )
        made_row.addWidget(self.again_button)
        column.addLayout(made_row)
        self._model = RowsModel(
            theme,
            ("Output", "Checked"),
            lambda: len(screen.made()),
            lambda row: (screen.made()[row].name, screen.made()[row].words),
            lambda row: screen.made()[row].mark,
            pictures=Pictures(self._icons, lambda row: Path(path) if (path := screen.made()[row].path) else None),
        )
        self.made_table = RowsTable(self._model, "Outputs that were made", 1, (440, 300))
        self.made_table.doubleClicked.connect(self._open_chosen)
        column.addWidget(self.made_table, 2)
        selection = self.made_table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._show_look_button)
        self._actions = self._all_actions()
        add_shortcuts(self.made_table, self.actions_with_keys(), Qt.ShortcutContext.WidgetShortcut)
        opens_menu(self.made_table, lambda: self._actions if self._chosen_path() is not None else ())

    def _all_actions(self) -> Groups:
        """What can be done with the chosen output."""
        return (
            (
                Action("Play it", self._open_chosen, "Return", self._is_delivered),
                Action("Step through its places", self.look_at_places, "P", self.look_button.isEnabled),
                Action("Make it again", self._make_again, "R", self.again_button.isEnabled),
            ),
            (
                Action("Show in files", lambda: show_in_files(self._chosen_paths()), "", self._is_delivered),
                Action("Copy where it lies", lambda: copy_paths(self._chosen_paths()), "", self._is_delivered),
            ),
        )

    def actions_with_keys(self) -> list[Action]:
        """What its keys do, in the table of outputs."""
        return [each for group in self._actions for each in group if each.keys]

    def _chosen_path(self) -> str | None:
        """Where the chosen output lies; nothing for one that was not delivered, None where none is chosen."""
        row, made = self.made_table.currentIndex().row(), self._screen.made()
        return made[row].path if 0 <= row < len(made) else None

    def _chosen_paths(self) -> list[Path]:
        path = self._chosen_path()
        return [Path(path)] if path else []

    def _is_delivered(self) -> bool:
        return bool(self._chosen_path())

    def _start_bar(self) -> QWidget:
        bar = panel()
        row = QHBoxLayout(bar)
        row.setContentsMargins(14, 10, 14, 10)
        row.setSpacing(12)
        words = QVBoxLayout()
        words.setSpacing(4)
        self._where, self._room, self._bar = ElidedLabel(), ElidedLabel(), ShareBar(self._theme)
        self._room.setObjectName("soft")
        self._where.setObjectName("strong")
        words.addWidget(self._where)
        words.addWidget(self._room)
        row.addLayout(words, 1)
        self._bar.setMinimumWidth(80)
        self._bar.setMaximumWidth(200)
        row.addWidget(self._bar)
        self._hand_off = button(
            "Hand off…", self.hand, tip="Write an OpenTimelineIO file for the editing program (Ctrl+H)"
        )
        row.addWidget(self._hand_off)
        self.make_button = button("Make", self._screen.make, name="main", tip="Make and check every output (Ctrl+M)")
        row.addWidget(self.make_button)
        return bar

    def look_again(self) -> None:
        """Colours or sizes of text changed."""
        self.refresh()

    def refresh(self) -> None:
        """Shows what is true now."""
        groups = self._screen.groups()
        for route in set(self._groups) - {row.route for row in groups}:
            gone = self._groups.pop(route)
            gone.want_no_pictures()
            gone.deleteLater()
        for place, row in enumerate(groups):
            if row.route not in self._groups:
                new = self._groups[row.route] = GroupPanel(self._theme, self._screen, self._icons, row.route)
                new.clips.take_chosen(self._widths.get(new.clips.accessibleName(), {}))
                self._stack.insertWidget(place, self._groups[row.route])
            self._groups[row.route].show_row(row)
        self._empty.setVisible(not groups)
        self._show_profile()
        count = self._screen.to_make()
        making = self._screen.being_made()
        nothing = f"{making} being made" if making else "Nothing to make"
        self.make_button.setText(f"Make {count}" if count else nothing)
        self.make_button.setEnabled(count > 0)
        folder = self._screen.folder()
        self._where.setText(f"Outputs go to {folder}" if folder else "")
        words, used, coming = self._screen.room()
        self._room.setText(words)
        self._bar.show_shares(used, coming)
        self._hand_off.setEnabled(self._screen.can_hand_off)
        self._model.changed()
        made = bool(self._screen.made())
        self.made_table.setVisible(made)
        self._made_heading.setVisible(made)
        self._show_look_button()

    def _show_profile(self) -> None:
        """The profile's name. Its file is read when another one is chosen, not whenever a clip changes."""
        if self._profile_shown == self._screen.profile:
            return
        self._profile_shown = self._screen.profile
        title = next((each.title for each in self._screen.profiles() if each.name == self._screen.profile), "")
        self.profile.setText(with_arrow(f"Judged for: {title[:1].lower()}{title[1:]}"))

    def _changed(self) -> None:
        """What nobody sees is shown when it is next looked at.

        The rest is shown in a turn of its own: to ask for thousands of outputs takes long enough, and so does counting.
        """
        self._stale = True
        if self.isVisible() and not self._refreshes.isActive():
            self._refreshes.start(0)

    def showEvent(self, event: QShowEvent | None) -> None:  # Qt's name
        super().showEvent(event)
        self._refresh_stale()

    def _refresh_stale(self) -> None:
        if self._stale and self.isVisible():
            self._stale = False
            self.refresh()

    def _show_look_button(self) -> None:
        places = self._chosen_places()
        self.look_button.setVisible(
            any(row.places is not None and row.places.can_be_looked_at for row in self._screen.made())
        )
        self.look_button.setEnabled(places is not None)
        rows, row = self._screen.made(), self.made_table.currentIndex().row()
        self.again_button.setVisible(bool(rows))
        self.again_button.setEnabled(0 <= row < len(rows) and rows[row].again is not None)

    def _make_again(self) -> None:
        row = self.made_table.currentIndex().row()
        if 0 <= row < len(self._screen.made()):
            self._screen.make_again(row)

    def _chosen_places(self) -> OutputPlaces | None:
        rows, row = self._screen.made(), self.made_table.currentIndex().row()
        places = rows[row].places if 0 <= row < len(rows) else None
        return places if places is not None and places.can_be_looked_at else None

    def look_at_places(self) -> PlacesDialog | None:
        """Opens the places of the chosen output; nothing where it has none."""
        places = self._chosen_places()
        if places is None:
            return None
        dialog = PlacesDialog(self, self._theme, places)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()
        return dialog

    def _list_profiles(self) -> None:
        """All profiles, and the way to one's own; one with a mistake says so in its place."""
        self._profiles.clear()
        for each in self._screen.profiles():
            action = self._profiles.addAction(each.title)
            assert action is not None
            action.setEnabled(bool(each.name))
            action.setCheckable(True)
            action.setChecked(each.name == self._screen.profile)
            action.triggered.connect(lambda _on=False, name=each.name: self.choose_profile(name))
        self._profiles.addSeparator()
        edit = self._profiles.addAction("Change this one…")
        assert edit is not None
        edit.setToolTip("Opens it as a text file of your own; it counts from the next time it is chosen")
        edit.triggered.connect(lambda _on=False: self._edit_profile())

    def unfold(self, route: str) -> None:
        """Shows the clips of a group, or folds it up again."""
        self.group(route).unfold.click()

    def group(self, route: str) -> GroupPanel:
        """The panel of a route that occurs."""
        return self._groups[route]

    def choose_profile(self, name: str) -> None:
        """Judges all clips anew; a mistake in a profile of one's own is said in the bar."""
        # Its own file may have another title by now.
        self._profile_shown = ""
        try:
            self._screen.choose_profile(name)
        except DiadocheError as error:
            self._where.setText(problem_words(error))

    def _edit_profile(self) -> None:
        self._screen.own_profile(self._edit_profile_file)

    def _edit_profile_file(self, written: Path | Exception) -> None:
        if isinstance(written, OSError):
            self._where.setText(f"A profile of your own cannot be written: {written.strerror}.")
        elif isinstance(written, Path):
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(written)))

    def take_column_widths(self, widths: Mapping[str, Mapping[str, int]]) -> None:
        """Columns of groups as wide as they were made once, by the names of their tables."""
        self._widths = widths
        for group in self._groups.values():
            group.clips.take_chosen(widths.get(group.clips.accessibleName(), {}))

    def hand(self) -> None:
        """Asks where the hand-off goes, and writes it."""
        if not self._screen.can_hand_off:
            return
        target, _ = QFileDialog.getSaveFileName(
            self, "Hand off to the editing program", self._screen.proposed_hand_off, "OpenTimelineIO (*.otio)"
        )
        if target:
            self.hand_off_to(Path(target))

    def hand_off_to(self, target: Path) -> None:
        """Writes the hand-off and says so in the bar."""
        self._screen.hand_off(target, self._where.setText)

    def _open_chosen(self) -> None:
        """In the desktop's own player."""
        if path := self._chosen_path():
            QDesktopServices.openUrl(QUrl.fromLocalFile(path))
