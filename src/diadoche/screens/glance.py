"""The one glance before the start: what crosses, under which names, to where, and what follows."""

from __future__ import annotations

import base64
import statistics
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.cards.clips import Clip
from diadoche.core.cards.groups import groups_of
from diadoche.core.cards.layout import folder_purposes
from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.names import shown
from diadoche.core.offload.naming import TOKENS, Naming, NamingValues, card_folder, folder_parts
from diadoche.core.offload.plan import OffloadPlan
from diadoche.core.sizes import clock_text, count_text, size_text, wait_text
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot, all_shoots
from diadoche.services.ledger.waybills import waybills
from diadoche.services.station.card_in import CardIn, Stage
from diadoche.services.station.station import Station

_RATE_FROM = 5
_SAYS_SOMETHING_BYTES = 1_000_000


@dataclass(frozen=True, slots=True)
class GlanceGroup:
    """Clips of one job on a card, and the shoot they go to."""

    words: str
    names: tuple[str, ...]
    shoot_id: int


@dataclass(frozen=True, slots=True)
class GlanceClip:
    """A clip as the strip shows it; `picture` is a JPEG, or nothing."""

    name: str
    length: str
    began: str
    picture: bytes


@dataclass(frozen=True, slots=True)
class GlanceCard:
    """A card that is about to cross."""

    key: str
    name: str
    words: str
    folder: str
    is_partly_known: bool
    new_only: bool
    new_words: str
    stills: int
    stills_left_out: bool
    groups: tuple[GlanceGroup, ...]
    clips: tuple[GlanceClip, ...] = ()
    own_folders: str = ""
    purposes: str = ""
    evidence: str = ""
    layout: str = ""
    sequences: int = 0
    stills_apart: bool = False
    set_words: str = ""


@dataclass(frozen=True, slots=True)
class GlancePlace:
    """A place that it goes to; `hindered` when nothing can be written there."""

    name: str
    words: str
    hindered: bool


@dataclass(frozen=True, slots=True)
class Glance:
    """Everything of it."""

    shoot: str
    cards: tuple[GlanceCard, ...]
    places: tuple[GlancePlace, ...]
    advice: tuple[str, ...]
    made: str
    wait: str
    can_start: bool


class GlanceScreen:
    """What the sheet before the start shows and allows."""

    def __init__(self, station: Station, ledger: Ledger) -> None:
        self._station = station
        self._ledger = ledger
        self.naming_problem = ""

    def begin(self) -> None:
        """Takes the sensible choice for each card: of one that was here before, only what is new."""
        for key in self._station.about_to_cross():
            card = self._station.cards[key]
            self._station.look_at_pictures(key)
            card = self._station.cards[key]
            if card.is_partly_known and not card.choices.new_only:
                self._station.choose(key, replace(card.choices, new_only=True))

    def glance(self) -> Glance:
        """What is true now."""
        keys = self._station.about_to_cross()
        plans: dict[str, OffloadPlan] = {}
        problems: list[Problem] = []
        for key in keys:
            try:
                plan = self._station.plan(key)
            except DiadocheError as error:
                problems.append(error.problem)
                continue
            if plan is not None:
                plans[key] = plan
        advice = [each.what for plan in plans.values() for each in plan.advice]
        clocks = {key: self._station.clock_remark(key) for key in keys}
        advice += [f"{self._station.cards[key].name}: {words}" for key, words in clocks.items() if words]
        size = sum(plan.size_bytes for plan in plans.values())
        places = self._places(list(plans.values()))
        # A place that does not answer yet holds nobody up: the offload itself looks at it, too.
        usable = any(plan.usable for plan in plans.values()) or len(plans) + len(problems) < len(keys)
        return Glance(
            self._station.shoot.name,
            tuple(self._card(key, plans.get(key)) for key in keys),
            places,
            tuple(dict.fromkeys([*(each.what for each in problems), *advice])),
            self._made(),
            self._wait(size),
            usable and not problems,
        )

    def _places(self, plans: list[OffloadPlan]) -> tuple[GlancePlace, ...]:
        """Every place once; one that hinders a card says so."""
        found: dict[Path, GlancePlace] = {}
        for plan in plans:
            for target in plan.targets:
                place = target.place
                if target.problem is not None:
                    found[place] = GlancePlace(place.name, target.problem.what, True)
                elif place not in found:
                    found[place] = GlancePlace(place.name, f"{place} · {self._free(place)}{target.disk.words}", False)
        if not plans:
            for place in self._station.shoot.settings.places:
                found[place] = GlancePlace(place.name, f"{place} · {self._free(place)}its disk is looked at", False)
        return tuple(found.values())

    def _free(self, place: Path) -> str:
        room = self._station.room(place)
        return f"{size_text(room.free)} free · " if room is not None and room.here else ""

    def _card(self, key: str, plan: OffloadPlan | None) -> GlanceCard:
        card = self._station.cards[key]
        found = card.card
        assert found is not None
        known = card.familiar.files if card.familiar is not None else 0
        total = len(found.tree.files)
        folder = ""
        if plan is not None and plan.targets:
            target = plan.targets[0]
            folder = str(target.root.relative_to(target.place))
        size = size_text(plan.size_bytes if plan is not None else found.tree.size_bytes)
        length = sum(clip.duration_s or 0 for clip in found.clips)
        clips = count_text(len(found.clips), "clip") + (f", {clock_text(length)}" if length else "")
        words = f"{clips} · {size}"
        if found.times is not None:
            first = found.times[0]
            words += f" · filmed {first.day} {first:%B %Y}"
        return GlanceCard(
            key,
            card.name,
            words,
            folder,
            card.is_partly_known,
            card.choices.new_only,
            f"Only what is new: {total - known} of {count_text(total, 'file')}",
            len(found.stills),
            card.choices.stills_left_out,
            self._groups(card),
            tuple(_clip(clip, card.pictures or {}) for clip in found.clips),
            self._station.remembered_for(key).folders,
            "\n".join(
                f"{folder}: {purpose}"
                for folder, purpose in folder_purposes(
                    [each.path for each in found.tree.folders], self._station.layouts(), found.layout
                )
            ),
            f"Known by {found.evidence}" if found.evidence else "",
            found.layout,
            self._optional_sequences(found),
            card.choices.look.stills_apart,
            self._set_words(found),
        )

    def _optional_sequences(self, card: Card) -> int:
        """How many runs of stills there are that could stay single pictures as well."""
        layout = next((each for each in self._station.layouts() if each.name == card.layout), None)
        always = layout is not None and layout.sequences
        return 0 if always else sum(clip.kind == "sequence" for clip in card.clips)

    def being_listed(self) -> bool:
        """Whether a card is being listed anew, so that there is more to come than is shown."""
        return any(card.stage is Stage.LISTING and card.card is not None for card in self._station.cards.values())

    def _set_words(self, card: Card) -> str:
        """Which cards of its rig are there, and what a take lacks."""
        found = next((each for each in self._station.card_sets() if card in each.cards), None)
        if found is None:
            return ""
        mine = {span for clip in card.clips for span in clip.spans}
        problems = " ".join(problem.what for problem in found.problems if problem.path in mine)
        return f"Card set: {found.words}. {problems}".strip()

    def layouts(self) -> list[tuple[str, str]]:
        """Names and titles of what a card can be said to be."""
        return [(layout.name, layout.title) for layout in self._station.layouts()]

    def correct_layout(self, key: str, name: str) -> None:
        """The person says what the card is; it is listed anew."""
        card = self._station.cards[key]
        if card.card is not None and card.card.layout != name:
            self._station.correct(key, replace(card.choices.look, layout=name))

    def set_stills_apart(self, key: str, wanted: bool) -> None:
        """Numbered runs of stills stay single pictures, or are clips."""
        self._station.correct(key, replace(self._station.cards[key].choices.look, stills_apart=wanted))

    def _groups(self, card: CardIn) -> tuple[GlanceGroup, ...]:
        assert card.card is not None
        sent = dict(card.choices.sent)
        groups = groups_of(card.card.clips)
        if len(groups) < 2:
            return ()
        return tuple(
            GlanceGroup(
                f"{group.first.day} {group.first:%B, %H:%M}: {count_text(len(group.clips), 'clip')}"
                if group.first
                else f"No time: {count_text(len(group.clips), 'clip')}",
                tuple(clip.name for clip in group.clips),
                sent.get(group.clips[0].name, self._station.shoot.id),
            )
            for group in groups
        )

    def _made(self) -> str:
        settings = self._station.shoot.settings
        recipe = self._station.recipe_named(settings.recipe)
        coming = sum(card.outputs_bytes for card in self._station.cards.values())
        room = f" That may take {size_text(coming)} more." if coming else ""
        return f"Then clips are looked at; what needs it is offered under Outputs as {recipe.title}.{room}"

    def _wait(self, size_bytes: int) -> str:
        rates = [
            entry.size_bytes / entry.seconds
            for entry in waybills(self._ledger)
            if entry.seconds > 0 and entry.size_bytes > _SAYS_SOMETHING_BYTES
        ][:_RATE_FROM]
        if not rates:
            return "How long it takes is measured while it runs."
        wait = wait_text(size_bytes / statistics.median(rates))
        return f"{wait.capitalize()}, at the speed of the last {count_text(len(rates), 'offload')}."

    # -- what can be changed -------------------------------------------------------------------

    @property
    def folders(self) -> str:
        """The pattern of the shoot's folders."""
        return self._station.shoot.settings.naming.folders

    @property
    def tokens(self) -> str:
        """The tokens, a line each, for a tooltip."""
        return "\n".join(f"{{{name}}}: {words}" for name, words in TOKENS.items())

    def name_folders(self, folders: str) -> None:
        """Changes the pattern; one that makes no sense is named and not taken."""
        naming = replace(self._station.shoot.settings.naming, folders=folders)
        example = NamingValues("Shoot", date.min, "Camera", clip="C0001")
        try:
            folder_parts(naming, example)
            card_folder(naming, example, 1)
        except DiadocheError as error:
            self.naming_problem = error.problem.sentence()
            return
        self.naming_problem = ""
        self._station.change_settings(naming=Naming(folders, naming.card))

    def name_own_folders(self, key: str, folders: str) -> str:
        """Gives this card's camera folders of its own in this shoot, or takes them away; gives why not."""
        if folders.strip():
            try:
                folder_parts(Naming(folders), NamingValues("Shoot", date.min, "Camera"))
            except DiadocheError as error:
                return error.problem.sentence()
        self._station.name_folders(key, folders)
        return ""

    @property
    def read_twice(self) -> bool:
        """Whether the card is read a second time before it is called free."""
        return self._station.shoot.settings.read_twice

    def set_read_twice(self, wanted: bool) -> None:
        """Changes that for the shoot."""
        self._station.change_settings(read_twice=wanted)

    def name_card(self, key: str, name: str) -> None:
        """Gives a card a name of the person's own."""
        if name.strip() and name.strip() != self._station.cards[key].name:
            self._station.name_card(key, name)

    def set_new_only(self, key: str, wanted: bool) -> None:
        """Copies only what is new, or the whole card."""
        self._station.choose(key, replace(self._station.cards[key].choices, new_only=wanted))

    def set_stills_left_out(self, key: str, wanted: bool) -> None:
        """Leaves stills out of the copy, or not."""
        self._station.choose(key, replace(self._station.cards[key].choices, stills_left_out=wanted))

    def shoots(self) -> list[Shoot]:
        """All shoots that a group can go to."""
        return all_shoots(self._ledger)

    def send(self, key: str, group: GlanceGroup, shoot_id: int) -> None:
        """Lets the clips of a group belong to a shoot; the copy lies with the card's own."""
        card = self._station.cards[key]
        kept = [(name, to) for name, to in card.choices.sent if name not in group.names]
        if shoot_id != self._station.shoot.id:
            kept += [(name, shoot_id) for name in group.names]
        self._station.choose(key, replace(card.choices, sent=tuple(kept)))

    def start(self) -> None:
        """Starts all of it."""
        for key in self._station.about_to_cross():
            self._station.offload(key)


def _clip(clip: Clip, pictures: Mapping[str, str]) -> GlanceClip:
    length = clock_text(clip.duration_s) if clip.duration_s is not None else ""
    began = f"{clip.start.day} {clip.start:%B %Y, %H:%M:%S}" if clip.start else "no time"
    return GlanceClip(shown(clip.name), length, began, base64.b64decode(pictures.get(clip.name, "")))
