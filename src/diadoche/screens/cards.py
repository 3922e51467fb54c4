"""The crossing board: cards on one side, places for copies on the other, ribbons between them."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.answering import HANGS_S
from diadoche.core.errors import RequestError
from diadoche.core.sizes import count_text, size_text
from diadoche.core.watch import Progress
from diadoche.screens.glance import GlanceScreen
from diadoche.screens.marks import Mark
from diadoche.screens.results import format_words, numbers
from diadoche.screens.undo import Undo
from diadoche.screens.watch_line import WatchLine, watch_line
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all, remember
from diadoche.services.ledger.shoots import Shoot, all_shoots, change_shoot, open_shoot
from diadoche.services.ledger.waybills import waybills
from diadoche.services.station.card_in import FOLDER_READER, CardIn, Stage, can_dismiss, can_recognise
from diadoche.services.station.station import Station

NEVER = "Diadoche never changes, moves or erases anything on a card or among your originals."
_RATE_OVER_S = 5.0
_SOURCES = "source"
_MOST_SOURCES = 8


@dataclass(frozen=True, slots=True)
class CardRow:
    """A card as the board shows it."""

    key: str
    name: str
    mark: Mark
    may_come_out: str
    layout: str
    remark: str
    advice: str
    contents: str
    dates: str
    kept: str
    reader: str
    can_offload: bool
    can_stop: bool
    can_dismiss: bool
    size_bytes: int
    can_pause: bool = False
    can_resume: bool = False
    can_complete: bool = False
    can_recognise: bool = False
    can_take_whole: bool = False
    can_eject: bool = False
    numbers: str = ""
    # Whether something that it waits for does not answer: then advice is shown wherever the card stands.
    is_silent: bool = False


@dataclass(frozen=True, slots=True)
class PlaceRow:
    """A destination as the board shows it."""

    path: Path
    name: str
    where: str
    free: str
    used_share: float
    coming_share: float
    kept: str
    there: bool


@dataclass(frozen=True, slots=True)
class Ribbon:
    """What goes from a card to a place: shares of the card copied and read back, 0 to 1."""

    key: str
    place: Path
    copied: float
    proven: float
    mark: Mark
    weight_bytes: int


class CardsScreen:
    """What the first view shows and allows."""

    def __init__(self, station: Station, ledger: Ledger, undo: Undo) -> None:
        self._undo = undo
        self._station = station
        self._ledger = ledger
        self.on_change: Callable[[], None] = lambda: None
        self._samples: list[tuple[float, int]] = []
        self._waybills = waybills(ledger)
        self.glance = GlanceScreen(station, ledger)
        self.let_out: Callable[[str], None] = lambda _key: None

    # -- what is shown -------------------------------------------------------------------------

    def refresh(self) -> None:
        """Reads the ledger anew; called when an offload has ended."""
        self._waybills = waybills(self._ledger)

    def rows(self) -> list[CardRow]:
        """Cards in the order in which they were put in."""
        return [self._row(card) for card in self._station.cards.values()]

    def places(self) -> list[PlaceRow]:
        """Destinations of the shoot."""
        coming = sum(
            card.card.tree.size_bytes
            for card in self._station.cards.values()
            if card.card and card.stage not in {Stage.PROVEN, Stage.PARTLY}
        )
        return [self._place(path, coming) for path in self._station.shoot.settings.places]

    def ribbons(self) -> list[Ribbon]:
        """One for each card and place where something goes or has gone over."""
        found = []
        for card in self._station.cards.values():
            size = card.card.tree.size_bytes if card.card else 0
            progress = self._station.progress(card.medium.key)
            for place in self._station.shoot.settings.places:
                found.append(_ribbon(card, place, size, progress))
        return found

    def watch_line(self, at_work: int) -> WatchLine:
        """The sentence on top."""
        cards = list(self._station.cards.values())
        silent_s = {key: self._station.silent_for_s(key) for key in self._station.cards}
        places, silent_place = len(self._station.shoot.settings.places), self._station.silent_place()
        return watch_line(cards, places, self.wait_s(), at_work, silent_s, silent_place)

    def summary(self) -> str:
        """The words under the view's name."""
        cards = list(self._station.cards.values())
        reading = sum(card.stage.being_read for card in cards)
        if not cards:
            return "none in"
        return f"{len(cards)} in, {reading} being read" if reading else f"{len(cards)} in"

    def wait_s(self) -> float | None:
        """How long running offloads still take, from the speed of the last seconds."""
        todo = done = 0
        for key, card in self._station.cards.items():
            progress = self._station.progress(key) if card.stage is Stage.CROSSING else None
            if progress is not None and progress.parts:
                todo += progress.total - progress.done
                done += progress.done
            elif card.stage is Stage.WAITING and card.card:
                todo += 2 * card.card.tree.size_bytes * len(self._station.shoot.settings.places)
        if todo <= 0:
            self._samples.clear()
            return None
        now = time.monotonic()
        self._samples = [sample for sample in self._samples if now - sample[0] < _RATE_OVER_S and sample[1] <= done]
        self._samples.append((now, done))
        passed, moved = now - self._samples[0][0], done - self._samples[0][1]
        return todo * passed / moved if passed > 0.5 and moved > 0 else None

    @property
    def shoot_name(self) -> str:
        """The name of the shoot."""
        return self._station.shoot.name

    @property
    def is_first_start(self) -> bool:
        """Whether nothing was ever set up: the first page is shown then."""
        return not self._station.shoot.settings.places and not self._waybills

    @property
    def can_offload_any(self) -> bool:
        """Whether the one button does something."""
        return bool(self._station.about_to_cross())

    def offload_hint(self) -> str:
        """Why the button can not be used, or what it will do."""
        if not self._station.shoot.settings.places:
            return "Add a place for copies first."
        waiting = [self._station.cards[key].name for key in self._station.about_to_cross()]
        if waiting:
            places = count_text(len(self._station.shoot.settings.places), "place")
            return f"{', '.join(waiting)} to {places}, as part of {self.shoot_name}."
        cards = list(self._station.cards.values())
        silent = [card.name for card in cards if self._station.silent_for_s(card.medium.key) > HANGS_S]
        if silent:
            return f"{', '.join(silent)}: stop it, or wait for its reader."
        if any(card.stage.being_read for card in cards):
            return "Nothing to do for you: it runs."
        if cards and all(_waits_for_word(card) for card in cards):
            return "All of this was proven before, by names, sizes and times. Read it to be sure, or take it again."
        if cards and all(card.stage is Stage.PROVEN for card in cards):
            return "All of this is proven. What its clips need next stands under Outputs (Ctrl+3)."
        return "Put a card in, or choose a folder."

    # -- what is done --------------------------------------------------------------------------

    def offload_all(self) -> None:
        """Starts everything that can be started, without a glance before."""
        self._station.offload_all()

    def offload_whole(self, key: str) -> None:
        """Takes a whole card, whatever of it was proven before."""
        self._station.offload_whole(key)

    def recognise(self, key: str) -> None:
        """Reads a card that was here before, to be sure of it."""
        self._station.recognise(key)

    def complete(self, key: str) -> None:
        """Completes what is not whole from a proven copy."""
        self._station.complete(key)

    def pause(self, key: str, *, paused: bool) -> None:
        """Lets a card's offload stand still, or go on."""
        self._station.pause(key, paused=paused)

    @property
    def unattended(self) -> bool:
        """Whether a card that goes in is offloaded with no click and no question."""
        return self._station.shoot.settings.unattended

    def set_unattended(self, wanted: bool) -> None:
        """Switches unattended on or off; what is in already is not started by that."""
        self._station.change_settings(unattended=wanted)

    @property
    def copies_wanted(self) -> int:
        """On how many different disks a card of this shoot is to be before its camera may format it."""
        return self._station.shoot.settings.copies_wanted

    def want_copies(self, count: int) -> None:
        """Changes that, for cards that are on disks already too."""
        before = self.copies_wanted
        self._undo.note(
            f"the shoot wants {count_text(before, 'disk')}", lambda: self._station.change_settings(copies_wanted=before)
        )
        self._station.change_settings(copies_wanted=count)

    def offload(self, key: str) -> None:
        """One card alone; one that is proven is taken again in full."""
        self._station.offload(key)

    def stop(self, key: str) -> None:
        """Stops a card's offload."""
        self._station.stop(key)

    def dismiss(self, key: str) -> None:
        """Takes a pulled card off the board."""
        self._station.dismiss(key)

    def add_place(self, path: Path) -> None:
        """Adds a destination.

        Raises:
            RequestError: it is there already.
        """
        settings = self._station.shoot.settings
        path = path.absolute()
        if path in settings.places:
            raise RequestError(f"{path} is a place for copies already.", path=path, do="Choose another folder.")
        self._change_places((*settings.places, path))

    def eject(self, key: str) -> None:
        """Lets a card out that is not being read; how that went is told later."""
        card = self._station.cards.get(key)
        if card is not None and not card.stage.being_read:
            self.let_out(key)

    def remove_place(self, path: Path) -> None:
        """Takes a destination off the shoot; what lies there stays. It can be taken back."""
        before = self._station.shoot.settings.places
        if path not in before:
            return
        number = before.index(path)

        def put_back() -> None:
            # Among those that are there by then: what was added meanwhile stays.
            now = self._station.shoot.settings.places
            if path not in now:
                self._change_places((*now[:number], path, *now[number:]))

        self._undo.note(f"{path.name or path} is a place for this shoot again", put_back)
        self._change_places(tuple(each for each in before if each != path))

    def _change_places(self, places: tuple[Path, ...]) -> None:
        self._station.change_settings(places=places)

    def open_folder(self, path: Path) -> None:
        """Takes a folder as if it were a card that was put in, and remembers it as a source.

        Where it is none, its listing says so.
        """
        path = path.absolute()
        self._station.put_in(Medium(str(path), path, path.name, FOLDER_READER))
        remember(self._ledger, _SOURCES, str(path), str(path))

    def open_medium(self, medium: Medium) -> None:
        """Takes what was connected by its address."""
        self._station.put_in(medium)
        remember(self._ledger, _SOURCES, medium.key, medium.key.removeprefix("network:"))

    def earlier_sources(self) -> list[str]:
        """Folders and addresses that were used before, the newest first."""
        return [value for _key, value in recall_all(self._ledger, _SOURCES, str)][:_MOST_SOURCES]

    def dropped(self, paths: Sequence[Path], say: Callable[[str], None]) -> None:
        """Takes what was dropped on the window; says how many came, which were refused, and why."""

        def came(found: tuple[list[Path], list[str]] | Exception) -> None:
            say(str(found) if isinstance(found, Exception) else self._take_folders(*found))

        self._station.in_background(lambda: _folders_of(paths), came)

    def _take_folders(self, folders: list[Path], refused: list[str]) -> str:
        places = self._station.shoot.settings.places
        for folder in list(folders):
            if any(place.is_relative_to(folder) for place in places):
                refused.append(f"{folder.name} holds a place for copies")
                folders.remove(folder)
        for folder in folders:
            self.open_folder(folder)
        words = f"{count_text(len(folders), 'folder')} came" if folders else "Nothing came"
        return f"{words}. Refused: {'; '.join(refused)}." if refused else f"{words}."

    def shoots(self) -> list[Shoot]:
        """Every shoot, the newest first."""
        return all_shoots(self._ledger)

    def go_to_shoot(self, name: str) -> str:
        """Another shoot; a new one starts with the settings of this one. Gives why not, where it cannot be done."""
        if not name.strip():
            return "A shoot needs a name."
        if any(card.stage.being_read for card in self._station.cards.values()):
            return "Cards are being read for this shoot. Wait for them, or stop them."
        self._station.change_shoot(open_shoot(self._ledger, name.strip(), self._station.shoot.settings))
        return ""

    def rename_shoot(self, name: str) -> None:
        """Gives the shoot another name; originals that stand keep their folders."""
        if name.strip() and name.strip() != self.shoot_name:
            self._station.change_shoot(change_shoot(self._ledger, self._station.shoot, name=name.strip()))

    # -- wording -------------------------------------------------------------------------------

    def _row(self, card: CardIn) -> CardRow:
        progress = self._station.progress(card.medium.key)
        found, key = card.card, card.medium.key
        busy = card.stage in {Stage.WAITING, Stage.CROSSING, Stage.COMPARING} and not card.pulled
        paused = self._station.is_paused(key)
        remark = _remark(card, self._station.clock_remark(key))
        advice = f"{card.problem.safe} {card.problem.do}" if card.problem is not None else ""
        silent_s = self._station.silent_for_s(key)
        silence = _silence(card, silent_s, progress)
        if silence is not None:
            remark, advice = silence
        settings = self._station.shoot.settings
        kept = _kept(card, progress, len(settings.places), settings.copies_wanted)
        if not remark:
            advice = format_words(card, settings.copies_wanted)
        return CardRow(
            key,
            card.name,
            Mark.PROBLEM if silent_s > HANGS_S else _mark(card),
            "Pulled out" if card.pulled else "Leave it in" if card.stage.being_read else "May come out",
            _layout_words(card),
            remark or self._set_remark(card),
            advice,
            _contents(card),
            _dates(card),
            f"Paused. {kept}" if paused else kept,
            card.medium.reader,
            self._station.can_offload(key),
            busy,
            can_dismiss(card),
            found.tree.size_bytes if found else 0,
            busy and card.stage is not Stage.WAITING and not paused,
            paused,
            card.stage is Stage.PARTLY and card.proven > 0,
            can_recognise(card),
            card.stage is Stage.PROVEN or _waits_for_word(card),
            card.medium.can_eject and not card.stage.being_read and not card.pulled,
            numbers(card),
            silence is not None,
        )

    def _set_remark(self, card: CardIn) -> str:
        """What the card's set lacks, said of the card that it concerns, or of the whole set."""
        if card.card is None:
            return ""
        found = next((each for each in self._station.card_sets() if card.card in each.cards), None)
        if found is None:
            return ""
        paths = {span for clip in card.card.clips for span in clip.spans}
        mine = next((problem.what for problem in found.problems if problem.path in paths), "")
        return mine or (f"Of its set there are {found.words}." if found.missing else "")

    def _place(self, path: Path, coming_bytes: int) -> PlaceRow:
        here = [copy for waybill in self._waybills for copy in waybill.copies if copy.destination == str(path)]
        proven = sum(copy.status == "proven" for copy in here)
        kept = f"kept here: {count_text(proven, 'card')}" if proven else "nothing kept here yet"
        room = self._station.room(path)
        if room is None or not room.here:
            silent = "does not answer" if self._station.is_silent(path) else "being looked at"
            words = silent if room is None else "not here now"
            return PlaceRow(path, path.name, str(path), words, 0, 0, kept, False)
        after = max(0, room.free - coming_bytes)
        free = f"{size_text(after)} free after this" if coming_bytes else f"{size_text(room.free)} free"
        return PlaceRow(
            path,
            path.name or str(path),
            str(path.parent),
            free,
            1 - room.free / max(1, room.total),
            coming_bytes / max(1, room.total),
            kept,
            True,
        )


def _folders_of(paths: Sequence[Path]) -> tuple[list[Path], list[str]]:
    """The folders that are meant by what was dropped, each once, and what is not there. It looks at disks."""
    folders: dict[Path, None] = {}
    refused = []
    for path in paths:
        if not path.exists():
            refused.append(f"{path.name or path} is not there")
        else:
            folders[path if path.is_dir() else path.parent] = None
    return list(folders), refused


_SILENT_S = 15.0


def _silence(card: CardIn, silent_s: float, progress: Progress | None) -> tuple[str, str] | None:
    """Who does not answer, reader or place, and what can be done about it."""
    if silent_s > _SILENT_S:
        remark = f"Nothing has come from {card.medium.reader} for {round(silent_s)} s."
        return remark, "The card is unchanged. Wait, or stop it and try another reader."
    parts = progress.parts if progress is not None else ()
    place = max(parts, key=lambda part: part.silent_s, default=None)
    if place is None or place.state != "silent" or place.silent_s <= _SILENT_S:
        return None
    remark = f"{place.name} has not answered for {round(place.silent_s)} s."
    return remark, f"After {HANGS_S:.0f} s it is left behind, and the other copies go on."


def _mark(card: CardIn) -> Mark:
    if card.stage.being_read:
        return Mark.UNDER_WAY
    return {Stage.PROVEN: Mark.PROVEN, Stage.PROBLEM: Mark.PROBLEM, Stage.PARTLY: Mark.PROBLEM}.get(
        card.stage, Mark.EXPECTED
    )


def _waits_for_word(card: CardIn) -> bool:
    """Whether all of it was proven before: nothing is copied twice unless the person says so."""
    return card.is_known and card.stage is Stage.LISTED


def _layout_words(card: CardIn) -> str:
    if card.card is None:
        return "Being listed" if card.stage is Stage.LISTING else ""
    if not card.card.layout:
        return "No card structure"
    lens = f", lens {card.card.lens}" if card.card.lens else ""
    return f"{card.card.title}{lens} · {'complete' if card.card.complete else 'not complete'}"


def _remark(card: CardIn, clock: str) -> str:
    if card.problem is not None:
        return card.problem.what
    if card.card is None:
        return ""
    return card.card.problems[0].what if card.card.problems else clock


def _contents(card: CardIn) -> str:
    if card.card is None:
        return ""
    parts = [count_text(len(card.card.clips), "clip")]
    if card.card.stills:
        parts.append(count_text(len(card.card.stills), "still"))
    known = card.familiar
    if known is not None and known.files and card.stage in {Stage.LISTED, Stage.PICTURING}:
        files = len(card.card.tree.files)
        parts.append("proven before" if known.files == files else f"{files - known.files} of {files} files new")
    return f"{', '.join(parts)} · {size_text(card.card.tree.size_bytes)}"


def _dates(card: CardIn) -> str:
    times = card.card.times if card.card is not None else None
    if times is None:
        return ""
    first, last = times
    if first.date() == last.date():
        until = f" – {last:%H:%M}" if last != first else ""
        return f"{first.day} {first:%B}, {first:%H:%M}{until}"
    return f"{first.day} {first:%B} – {last.day} {last:%B}"


def _kept(card: CardIn, progress: Progress | None, places: int, wanted: int) -> str:
    """The second of a card's two statements: how much of it is kept."""
    if card.stage.being_read:
        return _under_way(card, progress)
    if card.recognised:
        return f"It is what {_copies_words(card.proven)} hold{'s' if card.proven == 1 else ''}"
    if card.outcome is not None:
        return _proven_words(card, len(card.outcome.result.copies), wanted)
    if card.is_known and card.familiar is not None:
        return f"Proven before in {count_text(len(card.familiar.places), 'place')}, not read again"
    if card.stage is Stage.PROBLEM:
        # An offload that ended without a word may have copied some of it: of that only the copies know.
        return f"0 of {places} copies proven" if places else "Nothing proven yet"
    return "Nothing copied yet" if not card.pulled else f"0 of {places} copies proven"


def _under_way(card: CardIn, progress: Progress | None) -> str:
    if card.stage in {Stage.LISTING, Stage.PICTURING}:
        return "Nothing copied yet"
    if card.stage is Stage.COMPARING:
        return f"Compared with its copies: {progress.percent if progress else 0} %"
    if card.stage is Stage.WAITING or progress is None or not progress.parts:
        return "About to be copied"
    copied, total = min(part.copied for part in progress.parts), progress.parts[0].total
    if copied < total:
        return f"Copying: {size_text(copied)} of {size_text(total)}"
    proven = min(part.proven for part in progress.parts)
    return f"Copied. Read back: {100 * proven // max(1, total)} %" if proven < total else "Read back. Trying the clips"


def _proven_words(card: CardIn, copies: int, wanted: int) -> str:
    if card.proven < copies or card.outcome is None:
        return f"{card.proven} of {copies} copies proven"
    began = card.outcome.result.started.astimezone()
    verb = "is" if card.proven == 1 else "are"
    short = "" if card.disks >= min(wanted, copies) else ", on one disk"
    return f"{_copies_words(card.proven).capitalize()} {verb} proven{short}, {began:%H:%M}"


def _copies_words(count: int) -> str:
    return {1: "the copy", 2: "both copies"}.get(count, f"all {count} copies")


def _ribbon(card: CardIn, place: Path, size: int, progress: Progress | None) -> Ribbon:
    key = card.medium.key
    if card.outcome is not None and card.stage is not Stage.WAITING:
        copy = next((each for each in card.outcome.result.copies if each.destination == str(place)), None)
        proven = copy is not None and copy.status == "proven"
        mark = Mark.PROVEN if proven else Mark.PROBLEM
        share = 1.0 if proven else 0.0
        return Ribbon(key, place, share, share, mark, size)
    if progress is not None and card.stage is Stage.CROSSING:
        part = next((each for each in progress.parts if each.name == str(place)), None)
        if part is not None and part.total:
            mark = Mark.PROBLEM if part.state == "dropped" else Mark.UNDER_WAY
            return Ribbon(
                key, place, min(1.0, part.copied / part.total), min(1.0, part.proven / part.total), mark, size
            )
    return Ribbon(key, place, 0.0, 0.0, Mark.EXPECTED, size)
