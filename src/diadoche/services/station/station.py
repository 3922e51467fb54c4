"""The one owner of what is in the readers, and of what happens to it.

All methods are called on one thread. The truth that the watch line shows is changed here before the
work that makes it true is started, and changed back only after that work has ended.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from diadoche.core.cards.card import LookChoice
from diadoche.core.cards.cardset import CardSet, card_sets
from diadoche.core.cards.layout import Layout
from diadoche.core.convert.recipes import Recipe
from diadoche.core.disks import Disk
from diadoche.core.errors import LedgerError
from diadoche.core.names import shown
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.plan import OffloadPlan
from diadoche.core.sizes import count_text, size_text
from diadoche.core.watch import Progress
from diadoche.services.background import InBackground, at_once
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.devices.place_watch import SILENT_S, PlaceWatch, Room
from diadoche.services.jobs.card_pictures import PictureRequest
from diadoche.services.jobs.compare_card import CompareCardRequest
from diadoche.services.jobs.copy_on import CopyOnRequest
from diadoche.services.jobs.offload import OffloadRequest
from diadoche.services.ledger.copies import last_disks
from diadoche.services.ledger.happenings import HappeningKind, note_soon
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot, change_shoot, recipe_or_usual
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.station.camera_memory import recalled, remember_card, remember_folders, remember_name
from diadoche.services.station.card_board import CardBoard
from diadoche.services.station.card_in import (
    FOLDER_READER,
    CameraSettings,
    CardChoices,
    Stage,
    after_offload,
    can_recognise,
    is_surely_card,
    other_content,
    stopped,
)
from diadoche.services.station.card_listing import Listing
from diadoche.services.station.clocks import Clocks
from diadoche.services.station.new_footage import NewFootage
from diadoche.services.station.own_files import OwnFiles
from diadoche.services.station.plans import Plans


class Station:
    """Cards and what is done with them, for one shoot."""

    def __init__(
        self,
        ledger: Ledger,
        runner: Runner,
        places: StatePlaces,
        shoot: Shoot,
        known_disk: Callable[[Path], Disk | None] = lambda _place: None,
        in_background: InBackground = at_once,
        on_room: Callable[[], None] = lambda: None,
        on_files: Callable[[], None] = lambda: None,
        on_noted: Callable[[], None] = lambda: None,
        on_own: Callable[[], None] = lambda: None,
    ) -> None:
        """
        Args:
            ledger, runner, places, shoot: what it works with.
            known_disk: the disk of a place, where that is known without looking; it must not touch one.
            in_background: does what may hang.
            on_room, on_files: called on any thread when something else is known of places' room, or of files.
            on_noted: called on any thread when what happened has been written down.
            on_own: called on any thread when the person's own recipes, profiles, rigs or layouts are others.
        """
        self.in_background = in_background
        self.own = OwnFiles(places, on_own)
        self._rooms = PlaceWatch(on_room, on_files)
        self._on_noted = on_noted
        self._plans = Plans(in_background)
        self._known_disk = known_disk
        self.ledger = ledger
        self.runner = runner
        self._places = places
        self.shoot = shoot
        self._board = CardBoard()
        self.cards, self.listeners = self._board.cards, self._board.listeners
        self._listing = Listing(self._board, runner, places, self._listed, self._note)
        self._new_footage = NewFootage(ledger, runner, places, in_background, self.is_there)
        self._clocks = Clocks(ledger)
        self._rigs = {layout.name: layout for layout in self.layouts() if layout.cards_a_set}

    # -- places --------------------------------------------------------------------------------

    def room(self, place: Path) -> Room | None:
        """What is known of a place for copies or outputs; None while it has not answered, or is silent."""
        return self._rooms.room(self._place_of(place) or place)

    def _place_of(self, path: Path) -> Path | None:
        """The place of the shoot that something lies in: one thread asks each disk, whatever is asked of it."""
        own = (self.shoot.settings.outputs, *self.shoot.settings.places)
        return next((each for each in own if each is not None and path.is_relative_to(each)), None)

    def is_silent(self, place: Path) -> bool:
        """Whether a place was asked and does not answer."""
        return self._rooms.silent_for_s(place) > SILENT_S

    def silent_place(self) -> tuple[Path, float] | None:
        """The place of the shoot that has not answered for longest, and for how many seconds; None where all do."""
        silent = [(self._rooms.silent_for_s(place), place) for place in self.shoot.settings.places]
        longest_s, place = max(silent, default=(0.0, Path()))
        return (place, longest_s) if longest_s > SILENT_S else None

    def is_there(self, path: Path, place: Path | None = None, *, now: bool = False, wait: bool = True) -> bool | None:
        """Whether a file or folder is there, as it was seen moments ago; None while its disk does not answer.

        Args:
            path: what is asked for.
            place: the place that it lies in, where that is known; any thread may ask.
            now: it is looked anew, for something is to be started by it.
            wait: for a moment, where nothing is known yet; what is on show never does, and is told when it is known.
        """
        return self._rooms.is_there(path, place or self._place_of(path) or path.parent, now=now, wait=wait)

    def close(self) -> None:
        """Looks after no place any more, nor after what is the person's own."""
        self._rooms.close()
        self.own.close()

    def recipe_named(self, name: str) -> Recipe:
        """The recipe of that name, or the usual one where it has gone."""
        return recipe_or_usual(name, self.own.recipes.value.known)

    def layouts(self) -> tuple[Layout, ...]:
        """All card layouts; without the person's own where one of those has a mistake, which is told with the card."""
        return self.own.layouts.value

    # -- media ---------------------------------------------------------------------------------

    def put_in(self, medium: Medium) -> None:
        """A card is there: it is listed at once. A disk that copies go to is no card."""
        if not any(place.is_relative_to(medium.path) for place in self.shoot.settings.places):
            # A label comes from whoever formatted the medium; it is shown, and written down.
            self._listing.put_in(replace(medium, label=shown(medium.label)))

    def correct(self, key: str, choice: LookChoice) -> None:
        """The person says what a card is, or how its stills are to be taken: it is listed anew."""
        if choice.layout and key in self.cards:
            card, shoot_id = self.cards[key], self.shoot.id
            self.ledger.writer.do(lambda: remember_card(self.ledger, card, shoot_id))
        self._listing.correct(key, choice)

    def pulled_out(self, key: str) -> None:
        """A card is gone. One that was being read stays on show until that is settled."""
        self._listing.pulled_out(key)

    def dismiss(self, key: str) -> None:
        """Takes a card that is gone, or a folder that nothing reads any more, off the board."""
        self._listing.dismiss(key)

    def _listed(self, key: str) -> None:
        self._clocks.judge(self.cards, self.shoot.id)
        self._name_it(key)
        self._board.tell()
        self._by_itself(key)

    # -- what the person wants -----------------------------------------------------------------

    def can_offload(self, key: str) -> bool:
        """Whether a card can be offloaded now."""
        card = self.cards.get(key)
        return (
            card is not None
            and not card.pulled
            and card.card is not None
            and bool(card.card.tree.files)
            and (card.stage is Stage.PICTURING or not card.stage.being_read)
            and bool(self.shoot.settings.places)
        )

    def request_for(self, key: str) -> OffloadRequest:
        """What an offload of this card would be asked to do."""
        card = self.cards[key]
        settings, choices = self.shoot.settings, card.choices
        remembered = self.remembered_for(key)
        naming = replace(settings.naming, folders=remembered.folders) if remembered.folders else settings.naming
        return OffloadRequest(
            card.medium.path,
            settings.places,
            self.shoot.id,
            self.shoot.name,
            card.given_name or card.medium.label,
            settings.digests,
            leave_out=card.familiar.paths if choices.new_only and card.familiar else frozenset(),
            own_layouts=self._places.own_layouts,
            pace_bytes_s=card.medium.pace_bytes_s,
            naming=naming,
            person=settings.person,
            read_twice=settings.read_twice,
            stills_left_out=choices.stills_left_out,
            disks=tuple(self._known_disk(place) for place in settings.places),
            coming_bytes=self._coming_bytes(key),
            outputs_bytes=0 if settings.outputs else sum(each.outputs_bytes for each in self.cards.values()),
            sent=choices.sent,
            last_disks=last_disks(self.ledger),
            look=choices.look,
            fill_slow=False,
            fingerprint=card.card.tree.fingerprint() if card.card is not None else "",
        )

    def _coming_bytes(self, key: str) -> int:
        """What other cards, in the queue or on their way, will still take at every place."""
        return sum(self._still_to_come(other) for other in self.cards if other != key)

    def _still_to_come(self, key: str) -> int:
        card = self.cards[key]
        if card.card is None or card.stage not in {Stage.WAITING, Stage.CROSSING}:
            return 0
        progress = self.progress(key)
        written = min((part.copied for part in progress.parts), default=0) if progress is not None else 0
        return max(0, card.card.tree.size_bytes - written)

    def plan(self, key: str) -> OffloadPlan | None:
        """What an offload of this card would do, fit to be shown; None while places are being looked at.

        Raises:
            RequestError: it makes no sense for this card.
        """
        card = self.cards[key].card
        assert card is not None
        return self._plans.plan(key, self.request_for(key), card, self._board.tell)

    def remembered_for(self, key: str) -> CameraSettings:
        """What is remembered of this card or its camera."""
        return recalled(self.ledger, self.cards[key], self.shoot.id)

    def name_card(self, key: str, name: str) -> None:
        """Gives a card a name of the person's own, and remembers it."""
        card, shoot_id = self.cards[key], self.shoot.id
        self.ledger.writer.do(lambda: remember_name(self.ledger, card, shoot_id, name.strip()))
        self._board.put(replace(card, given_name=name.strip()))

    def name_folders(self, key: str, folders: str) -> None:
        """Gives this card's camera a naming of its own in this shoot; an empty one gives it back to the shoot."""
        remember_folders(self.ledger, self.cards[key], self.shoot.id, folders.strip())
        self._board.tell()

    def clock_remark(self, key: str) -> str:
        """What is odd about a card's clock, or nothing."""
        return self._clocks.remark(key)

    def choose(self, key: str, choices: CardChoices) -> None:
        """Changes what is decided for one card."""
        self._board.put(replace(self.cards[key], choices=choices))

    def offload(self, key: str) -> None:
        """Starts the offload of a card; what makes no sense is shown on the card."""
        if not self.can_offload(key):
            return
        card = self.cards[key]
        # Places are looked at by the job: one of them may hang.
        request = self.request_for(key)
        if card.stage is Stage.PICTURING:
            # Copying comes before all other work on a card.
            self.runner.stop(card.job)
        self._board.put(replace(card, stage=Stage.WAITING, problem=None, outcome=None, recognised=False, job=0))
        self._note("begun", f"The offload of {card.name} began.")
        job = self._begin(key, "offload", f"Offload {card.name}", request)
        current = self.cards[key]
        if current.stage.being_read:
            self._board.put(replace(current, job=job))

    def _begin(self, key: str, kind: str, title: str, request: object) -> int:
        """Puts a job for a card into the queue; 0, and the card stands with a problem, where that cannot be done."""
        card = self.cards[key]
        try:
            return self.runner.add(kind, title, _resource(card.medium), request)
        except LedgerError as error:
            self._board.put(replace(card, stage=Stage.PROBLEM, problem=error.problem, job=0))
            return 0

    def look_at_pictures(self, key: str) -> None:
        """Reads the first picture of each clip from the card, once; copying puts an end to it."""
        card = self.cards[key]
        if card.card is None or card.pictures is not None or card.stage is not Stage.LISTED or card.pulled:
            return
        self._board.put(replace(card, stage=Stage.PICTURING, pictures={}))
        settings = self.shoot.settings
        request = PictureRequest(
            card.card.root,
            card.card.clips,
            settings.profile,
            self.recipe_named(settings.recipe),
            self._places.own_profiles,
        )
        job = self._begin(key, "pictures", f"Look at the clips of {card.name}", request)
        current = self.cards[key]
        if current.stage is Stage.PICTURING:
            self._board.put(replace(current, job=job))

    def offload_all(self) -> None:
        """Starts every card that the one button would start."""
        for key in self.about_to_cross():
            self.offload(key)

    def about_to_cross(self) -> list[str]:
        """The cards that the one button starts: not those that are proven, or were before by all that is known."""
        return [
            key
            for key, card in self.cards.items()
            if self.can_offload(key)
            and card.stage is not Stage.PROVEN
            and not (card.is_known and card.stage is Stage.LISTED)
        ]

    def card_sets(self) -> list[CardSet]:
        """The cards of many-lens cameras that are in, put together."""
        if not any(card.card is not None and card.card.layout in self._rigs for card in self.cards.values()):
            return []
        cards = [card.card for card in self.cards.values() if card.card is not None and not card.pulled]
        return card_sets(cards, list(self._rigs.values()))

    def change_settings(self, **settings: Any) -> None:
        """Other settings for this shoot."""
        changed = replace(self.shoot, settings=replace(self.shoot.settings, **settings))
        self.change_shoot(changed)
        # Another program may hold the ledger: it counts from now on, and is written as soon as that can be done.
        self.ledger.writer.do(lambda: self._write_settings(changed))

    def _write_settings(self, shoot: Shoot) -> None:
        change_shoot(self.ledger, shoot, settings=shoot.settings)

    def offload_new(self, key: str) -> None:
        """Copies only what was not proven before."""
        card = self.cards[key]
        self._board.put(replace(card, choices=replace(card.choices, new_only=True)))
        self.offload(key)

    def offload_whole(self, key: str) -> None:
        """Copies everything, whatever was proven before."""
        card = self.cards[key]
        self._board.put(replace(card, choices=replace(card.choices, new_only=False)))
        self.offload(key)

    def recognise(self, key: str) -> None:
        """Reads a card that was here before in full, to be sure that its copies are of this very content."""
        card = self.cards.get(key)
        if card is None or card.card is None or card.familiar is None or not can_recognise(card):
            return
        self._board.put(replace(card, stage=Stage.COMPARING, problem=None))
        request = CompareCardRequest(card.medium.path, card.card.tree.files, card.familiar.digests)
        job = self._begin(key, "recognise", f"Compare {card.name} with its copies", request)
        if self.cards[key].stage is Stage.COMPARING:
            self._board.put(replace(self.cards[key], job=job))

    def complete(self, key: str, *, only_slow: bool = False) -> int:
        """Completes the copies that are not whole from a proven one, without reading the card; gives how many.

        Args:
            key: the card's.
            only_slow: those alone that were too slow for the card to wait.
        """
        card = self.cards.get(key)
        copies = card.outcome.result.copies if card is not None and card.outcome is not None else ()
        good = next((Path(copy.root) for copy in copies if copy.status is CopyState.PROVEN), None)
        wanting = [copy for copy in copies if copy.status is not CopyState.PROVEN and copy.root]
        wanting = [copy for copy in wanting if copy.fell_behind or not only_slow]
        if good is None or card is None:
            return 0
        for copy in wanting:
            request = CopyOnRequest(good, ((Path(copy.destination), Path(copy.root)),))
            with suppress(LedgerError):
                self.runner.add("copy on", f"Complete {card.name} in {copy.destination}", "copies", request)
        return len(wanting)

    def pause(self, key: str, *, paused: bool) -> None:
        """Lets what is done with a card stand still, or go on; the card stays in."""
        card = self.cards.get(key)
        if card is not None and card.job:
            self.runner.pause(card.job, paused=paused)
            self._board.tell()

    def is_paused(self, key: str) -> bool:
        """Whether it stands still because the person wants it to."""
        card = self.cards.get(key)
        return card is not None and bool(card.job) and self.runner.is_paused(card.job)

    def silent_for_s(self, key: str) -> float:
        """For how long a card that is read has not answered a call, in seconds."""
        card = self.cards.get(key)
        crossing = card is not None and card.stage in {Stage.CROSSING, Stage.LISTING, Stage.COMPARING}
        return self.runner.silent_for_s(card.job) if crossing and card is not None and card.job else 0.0

    def stop(self, key: str) -> None:
        """Stops what is done with a card; what has arrived is kept."""
        card = self.cards.get(key)
        if card is not None and card.job:
            self.runner.stop(card.job)

    def change_shoot(self, shoot: Shoot) -> None:
        """Another shoot, or the same with other settings."""
        self.shoot = shoot
        self._clocks.judge(self.cards, shoot.id)
        self._board.tell()

    # -- what the queue tells ------------------------------------------------------------------

    def job_changed(self, job: Job) -> None:
        """A job of the queue changed; only those of cards matter here."""
        if job.kind == "look":
            self._listing.job_changed(job)
        elif job.kind == "offload":
            self._offload_changed(job)
        elif job.kind == "pictures":
            self._pictures_changed(job)
        elif job.kind == "recognise":
            self._recognise_changed(job)
        elif job.kind == "copy on" and job.state is State.DONE:
            self._copied_on(job)

    def take_up(self, jobs: Sequence[Job]) -> None:
        """What an earlier run left goes on; clips that came otherwise, or were not looked at to the end, are now."""
        self._new_footage.taken_up(jobs)
        self.look_at_the_rest()

    def look_at_the_rest(self) -> None:
        """Looks at what came by the command line, or was cut short: asked at the start, and when nothing is at work."""
        self._new_footage.look_at(self.shoot.id, self.shoot.settings.profile, self.shoot.name)

    def progress(self, key: str) -> Progress | None:
        """How far a card's job is."""
        card = self.cards.get(key)
        return self.runner.progress(card.job) if card is not None and card.job else None

    def _note(self, kind: HappeningKind, words: str) -> None:
        # What is noted for later never keeps a card from being copied, or from being let go.
        note_soon(self.ledger, kind, words, self._on_noted)

    def _name_it(self, key: str) -> None:
        """The name that the person gave this card, or that its copies have."""
        card = self.cards[key]
        known = card.familiar.card if card.familiar is not None and card.is_known else ""
        name = self.remembered_for(key).name or known
        if name:
            self._board.put(replace(card, given_name=name))

    def _by_itself(self, key: str) -> None:
        """With unattended on, a card that went in is offloaded with no click and no question."""
        card = self.cards[key]
        if not self.shoot.settings.unattended or not self.can_offload(key) or card.medium.reader == FOLDER_READER:
            return
        if not is_surely_card(card) and not self.remembered_for(key).is_card:
            # Any disk can be plugged in: only what has a card's layout, or was said to be one, is copied unasked.
            return
        if card.is_known:
            # By names, sizes and times all of it is proven; reading it makes that sure.
            self.recognise(key)
        else:
            self.offload(key)

    def _pictures_changed(self, job: Job) -> None:
        """Whatever became of them, the card is not read any more; without pictures it goes on just as well."""
        card = self._board.with_job(job.number)
        if card is None or not job.state.ended:
            return
        if job.state is State.DONE:
            card = replace(card, pictures=job.result.by_clip, outputs_bytes=job.result.outputs_bytes)
        stage = Stage.LISTED if card.stage is Stage.PICTURING else card.stage
        self._board.put(replace(card, stage=stage, job=0))

    def _recognise_changed(self, job: Job) -> None:
        card = self._board.at(job.request.source)
        if card is None or card.job not in {0, job.number} or not job.state.ended:
            return
        if job.state is not State.DONE:
            self._board.put(replace(card, stage=Stage.LISTED, problem=job.problem, job=0))
        elif job.result.differing:
            self._board.put(
                replace(
                    card,
                    stage=Stage.LISTED,
                    familiar=None,
                    problem=other_content(card, len(job.result.differing)),
                    job=0,
                )
            )
        else:
            self._note("proven", f"{card.name} is what its proven copies hold.")
            self._board.put(replace(card, stage=Stage.PROVEN, recognised=True, problem=None, job=0))

    def _copied_on(self, job: Job) -> None:
        """A copy was completed: the card that it is of may be proven everywhere now."""
        done = {copy.root: copy for copy in job.result.result.copies}
        for card in list(self.cards.values()):
            if card.outcome is None or card.stage.being_read:
                continue
            copies = tuple(done.get(copy.root, copy) for copy in card.outcome.result.copies)
            if copies != card.outcome.result.copies:
                result = replace(card.outcome.result, copies=copies, stopped=False)
                self._board.put(after_offload(card, replace(card.outcome, result=result)))

    def _offload_changed(self, job: Job) -> None:
        card = self._board.at(job.request.source)
        if job.state is State.DONE:
            self._new_footage.look_at(job.request.shoot_id, self.shoot.settings.profile, job.result.name)
        if card is None:
            return
        # News of an older job may come after its card was pulled and put in again: it is not this card's.
        if job.state is not State.RUNNING and job.number != card.job:
            return
        if job.state.at_work:
            self._board.put(replace(card, stage=Stage.CROSSING, job=job.number))
        elif job.state is State.DONE:
            after = after_offload(replace(card, familiar=job.noted), job.result, job.problem)
            kind: HappeningKind = "proven" if after.stage is Stage.PROVEN else "problem"
            done = job.result.result
            words = (
                f"{card.name}: {after.proven} of {count_text(len(done.copies), 'copy', 'copies')} proven, "
                f"{count_text(len(job.result.card.clips), 'clip')}, {count_text(done.files, 'file')}, "
                f"{size_text(done.bytes)}."
            )
            self._note(kind, f"{words} {after.problem.what}" if after.problem else words)
            self._board.put(after)
            # The card did not have to wait for these: they are filled from a finished copy now.
            self.complete(card.medium.key, only_slow=True)
        elif job.state is State.STOPPED and job.result is not None:
            self._board.put(after_offload(replace(card, familiar=job.noted), job.result, job.problem))
        elif job.state.ended:
            self._board.put(replace(card, stage=Stage.PROBLEM, problem=job.problem or stopped(card), job=0))


def _resource(medium: Medium) -> str:
    """Cards in one device are read one after another; others at the same time."""
    return f"card:{medium.device or medium.path}"
