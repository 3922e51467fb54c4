"""The one glance before the start: what crosses, under which names, to where. Return starts it, Escape goes back."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QInputDialog, QLineEdit, QMessageBox, QVBoxLayout, QWidget

from diadoche.screens.glance import Glance, GlanceCard, GlanceGroup, GlanceScreen
from diadoche.screens.marks import Mark
from diadoche.ui.clip_strip import ClipStrip
from diadoche.ui.marks import MarkWidget
from diadoche.ui.parts import ChoiceBox, ElidedLabel, TickBox, button, emptied, label, panel, scrolled, show_chosen
from diadoche.ui.plain_text import plain
from diadoche.ui.theme import Theme

_NAME_PX = 230
_SIDE_PX = 400


class GlanceView(QWidget):
    """Cards at the left with what is decided for each, places and the shoot's ways at the right."""

    def __init__(self, theme: Theme, screen: GlanceScreen, done: Callable[[], None]) -> None:
        """`done` is called when the person has started it, or gone back."""
        super().__init__()
        self._theme = theme
        self._screen = screen
        self._done = done
        self._sheets: dict[str, _CardSheet] = {}
        self._title = label(name="heading")
        self._cards, self._places, self._advice = QVBoxLayout(), QVBoxLayout(), QVBoxLayout()
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 16, 24, 16)
        column.setSpacing(12)
        column.addWidget(self._title)
        middle = QHBoxLayout()
        middle.setSpacing(18)
        middle.addWidget(self._left(), 1)
        middle.addWidget(self._right())
        column.addLayout(middle, 1)
        column.addWidget(self._foot())
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def _left(self) -> QWidget:
        inside = QWidget()
        inside.setLayout(self._cards)
        self._cards.setContentsMargins(0, 0, 0, 0)
        self._cards.setSpacing(10)
        self._cards.addStretch(1)
        scroll = scrolled(inside)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        return scroll

    def _right(self) -> QWidget:
        side = panel()
        side.setMinimumWidth(_SIDE_PX)
        side.setMaximumWidth(round(_SIDE_PX * max(1.0, self._theme.scale)))
        column = QVBoxLayout(side)
        column.setContentsMargins(16, 14, 16, 14)
        column.setSpacing(8)
        column.addWidget(label("To these places", "strong"))
        column.addLayout(self._places)
        column.addLayout(self._advice)
        column.addSpacing(8)
        column.addWidget(label("Folders in each place", "strong"))
        self._folders = QLineEdit(self._screen.folders)
        self._folders.setAccessibleName("Pattern of the folders")
        self._folders.textEdited.connect(self._name_folders)
        column.addWidget(self._folders)
        self._wrong = label(name="problem", wrap=True)
        column.addWidget(self._wrong)
        self._twice = TickBox(self._theme, "Read each card a second time before it is free")
        self._twice.setToolTip("Finds what a reader got wrong the first time; takes as long again as reading did")
        self._twice.toggled.connect(self._screen.set_read_twice)
        column.addWidget(self._twice)
        column.addSpacing(8)
        self._made = label(name="soft", wrap=True)
        column.addWidget(self._made)
        column.addStretch(1)
        return side

    def _foot(self) -> QWidget:
        bar = panel()
        row = QHBoxLayout(bar)
        row.setContentsMargins(14, 10, 14, 10)
        self._wait = label(name="strong", wrap=True)
        row.addWidget(self._wait, 1)
        row.addWidget(button("Back", self._done, tip="Nothing has been started (Esc)"))
        self.start_button = button("Start", self._start, name="main", tip="Copy and prove (Return)")
        row.addWidget(self.start_button)
        return bar

    def begin(self) -> None:
        """Shows the sheet anew."""
        self._screen.begin()
        self._folders.setText(self._screen.folders)
        self.refresh()
        self.start_button.setFocus()

    def refresh(self) -> None:
        """Shows what is true now."""
        glance = self._screen.glance()
        if not glance.cards and self._screen.being_listed():
            self._wait.setText("It is being listed anew.")
            self.start_button.setEnabled(False)
            return
        if not glance.cards:
            # The last card was pulled: there is nothing to look at any more.
            self._done()
            return
        self._title.setText(f"Before it starts: as part of {glance.shoot}")
        self._show_cards(glance)
        self._show_places(glance)
        self._folders.setToolTip(plain(f"These words in braces stand for:\n{self._screen.tokens}"))
        self._wrong.setText(self._screen.naming_problem)
        self._wrong.setVisible(bool(self._screen.naming_problem))
        show_chosen(self._twice, self._screen.read_twice)
        self._made.setText(glance.made)
        self._wait.setText(glance.wait)
        self.start_button.setEnabled(glance.can_start and not self._screen.naming_problem)

    def _show_cards(self, glance: Glance) -> None:
        for key in set(self._sheets) - {card.key for card in glance.cards}:
            self._sheets.pop(key).deleteLater()
        for place, card in enumerate(glance.cards):
            if card.key not in self._sheets:
                self._sheets[card.key] = _CardSheet(self._theme, self._screen, card.key, self.refresh)
                self._cards.insertWidget(place, self._sheets[card.key])
            self._sheets[card.key].show_card(card)

    def _show_places(self, glance: Glance) -> None:
        emptied(self._places)
        emptied(self._advice)
        for place in glance.places:
            line = QWidget()
            grid = QGridLayout(line)
            grid.setContentsMargins(0, 0, 0, 0)
            grid.setHorizontalSpacing(8)
            mark = MarkWidget(self._theme, 16)
            mark.show_mark(Mark.PROBLEM if place.hindered else Mark.EXPECTED)
            grid.addWidget(mark, 0, 0)
            grid.addWidget(label(place.name, "strong"), 0, 1)
            grid.addWidget(label(place.words, "problem" if place.hindered else "small", wrap=True), 1, 1)
            grid.setColumnStretch(1, 1)
            self._places.addWidget(line)
        for words in glance.advice:
            self._advice.addWidget(label(words, "problem", wrap=True))

    def _name_folders(self, text: str) -> None:
        self._screen.name_folders(text)
        self.refresh()

    def _start(self) -> None:
        if self.start_button.isEnabled():
            self._screen.start()
            self._done()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:  # Qt's name
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self._done()
        elif event.key() in {Qt.Key.Key_Return, Qt.Key.Key_Enter}:
            self._start()
        else:
            super().keyPressEvent(event)


class _CardSheet(QFrame):
    """One card that is about to cross."""

    def __init__(self, theme: Theme, screen: GlanceScreen, key: str, changed: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._theme, self._screen, self._key, self._changed = theme, screen, key, changed
        self._shown_groups: tuple[GlanceGroup, ...] = ()
        self._own_folders = ""
        self._name = QLineEdit()
        self._name.setFixedWidth(_NAME_PX)
        self._name.setToolTip("A name of your own; the card is known by it from now on")
        self._name.editingFinished.connect(self._rename)
        self._words, self._folder = ElidedLabel(), ElidedLabel()
        self._folder.setObjectName("soft")
        self._new = TickBox(self._theme)
        self._new.toggled.connect(lambda on: self._set(screen.set_new_only, on))
        self._stills = TickBox(self._theme)
        self._stills.setToolTip("Their folders stay, and the waybill says that they were left out")
        self._stills.toggled.connect(lambda on: self._set(screen.set_stills_left_out, on))
        self._apart = TickBox(self._theme)
        self._apart.setToolTip("Numbered stills that came evenly in time are one clip, unless they stay single")
        self._apart.toggled.connect(lambda on: self._set(screen.set_stills_apart, on))
        self._kind = ChoiceBox(self._theme)
        self._kind.setAccessibleName("What this card is")
        for name, title in screen.layouts():
            self._kind.addItem(title, name)
        self._kind.activated.connect(lambda _index: self._correct())
        self._set_words = label(name="soft", wrap=True)
        self._groups = QGridLayout()
        self._strip = ClipStrip(theme)
        top = QHBoxLayout()
        top.setSpacing(12)
        top.addWidget(self._name)
        top.addWidget(self._words, 1)
        self._own = button(
            "Own folders…", self._name_folders, name="link", tip="Other folders for this camera, in this shoot only"
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(6)
        column.addLayout(top)
        goes = QHBoxLayout()
        goes.setSpacing(12)
        goes.addWidget(self._folder, 1)
        goes.addWidget(self._kind)
        goes.addWidget(self._own)
        column.addLayout(goes)
        for part in (self._set_words, self._strip, self._new, self._stills, self._apart):
            column.addWidget(part)
        column.addLayout(self._groups)

    def _set(self, change: Callable[[str, bool], None], wanted: bool) -> None:
        change(self._key, wanted)
        self._changed()

    def _correct(self) -> None:
        self._screen.correct_layout(self._key, self._kind.currentData())
        self._changed()

    def _name_folders(self) -> None:
        before = self._own_folders or self._screen.folders
        text, sure = QInputDialog.getText(
            self, "Folders of this camera", "Nothing: as the shoot has it", QLineEdit.EchoMode.Normal, before
        )
        if sure and (why_not := self._screen.name_own_folders(self._key, text)):
            QMessageBox.information(self, "Diadoche", plain(why_not))
        self._changed()

    def _rename(self) -> None:
        self._screen.name_card(self._key, self._name.text())
        self._changed()

    def show_card(self, card: GlanceCard) -> None:
        """Shows what is decided for it now."""
        if not self._name.hasFocus():
            self._name.setText(card.name)
        self._words.setText(card.words)
        self._folder.setText(f"goes to  {card.folder}" if card.folder else "")
        self.setToolTip(plain(f"On the card:\n{card.purposes}" if card.purposes else ""))
        self._own_folders = card.own_folders
        self._own.setText("Own folders" if card.own_folders else "Own folders…")
        self._strip.show_clips(card.clips)
        self._new.setText(card.new_words)
        self._new.setVisible(card.is_partly_known)
        show_chosen(self._new, card.new_only)
        still_words = "1 still" if card.stills == 1 else f"{card.stills:,} stills"
        self._stills.setText(f"Leave out {still_words}")
        self._stills.setVisible(card.stills > 0)
        show_chosen(self._stills, card.stills_left_out)
        self._kind.setCurrentIndex(self._kind.findData(card.layout))
        self._kind.setToolTip(plain(f"{card.evidence}. If that is wrong, say what it is: it is listed anew."))
        self._set_words.setText(card.set_words)
        self._set_words.setVisible(bool(card.set_words))
        self._apart.setText("Stills that follow each other stay single pictures")
        self._apart.setVisible(card.sequences > 0 or card.stills_apart)
        show_chosen(self._apart, card.stills_apart)
        # Every card has these: which one is meant is seen by where they stand, and heard only by its name.
        self._name.setAccessibleName(f"Name of the card {card.name}")
        for part in (self._own, self._new, self._stills, self._apart):
            part.setAccessibleName(f"{part.text()}: {card.name}")
        if card.groups != self._shown_groups:
            self._shown_groups = card.groups
            self._show_groups()

    def _show_groups(self) -> None:
        emptied(self._groups)
        shoots = self._screen.shoots()
        for row, group in enumerate(self._shown_groups):
            choice = ChoiceBox(self._theme)
            choice.setAccessibleName(f"Shoot of {group.words}")
            for shoot in shoots:
                choice.addItem(shoot.name, shoot.id)
            choice.setCurrentIndex(max(0, choice.findData(group.shoot_id)))
            choice.activated.connect(lambda _index, group=group, choice=choice: self._send(group, choice.currentData()))
            self._groups.addWidget(label(group.words), row, 0)
            self._groups.addWidget(choice, row, 1)

    def _send(self, group: GlanceGroup, shoot_id: int) -> None:
        self._screen.send(self._key, group, shoot_id)
        self._changed()
