"""How takes are stitched: rigs of bodies, what is chosen for each take, and what comes of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from diadoche.core.convert.formats import PictureFormat, SoundFormat
from diadoche.core.convert.recipes import Recipe
from diadoche.core.convert.record import OutputRecord
from diadoche.core.errors import RequestError
from diadoche.core.identify.telemetry import MOTION
from diadoche.core.names import safe_name
from diadoche.core.sizes import count_text
from diadoche.core.sphere.rig import Rig, rig_of, supplied_rigs
from diadoche.core.sphere.shape import SHARED, SphereShape
from diadoche.screens.clip_formats import Alike
from diadoche.screens.marks import Mark
from diadoche.services.jobs.calibrate import CalibrateRequest
from diadoche.services.jobs.lens_take import LensTake, StitchSettings, proposed_size
from diadoche.services.jobs.stitch import AlignedRig, StitchRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import recall_all, remember
from diadoche.services.ledger.rigs import kept_rigs
from diadoche.services.ledger.takes import Take
from diadoche.services.queue.runner import Runner
from diadoche.services.station.station import Station
from diadoche.services.wire import from_text

_SETTINGS, _CHOICES = "stitch", "rig choice"
# The rig as the body's own footage has it, among the names of rigs.
OWN = "aligned"
# Widths that are asked for, beside what the lenses justify.
WIDTHS_PX = (3840, 4096, 5760, 7680)


@dataclass(frozen=True, slots=True)
class RigChoice:
    """A rig that fits a take: how it is chosen, and for people."""

    name: str
    title: str


@dataclass(frozen=True, slots=True)
class TakeRow:
    """A take in the table: whether its rig is aligned, and what it becomes."""

    name: str
    rig: str
    size: str
    mark: Mark


class Stitching:
    """What is chosen for the takes of a shoot; kept in the ledger."""

    def __init__(self, station: Station, ledger: Ledger, runner: Runner) -> None:
        self._station, self._ledger, self._runner = station, ledger, runner
        self._settings: dict[str, StitchSettings] = dict(recall_all(ledger, _SETTINGS, StitchSettings))
        self._choices: dict[str, str] = dict(recall_all(ledger, _CHOICES, str))
        self._kept = kept_rigs(ledger)
        self._aligning: dict[int, str] = {}
        # Rigs by what names them: rows of a table ask for them again and again.
        self._loaded: dict[tuple[str, int, int], Rig | None] = {}
        self._own: Mapping[str, Rig | None] = {}
        self.said = ""
        self.listeners: list[Callable[[], None]] = []

    # -- rigs ----------------------------------------------------------------------------------

    def rig_choices(self, take: Take) -> list[RigChoice]:
        """Rigs that fit a take, the body's own first."""
        found = []
        kept = self._kept.get(take.body)
        if kept is not None:
            found.append(RigChoice(OWN, f"Aligned by its own footage, to {kept.residual_px:.2f} px"))
        names = self._own_rigs()
        for name in (*names, *supplied_rigs()):
            title = f"{name}, {'yours' if name in names else 'supplied'}"
            if all(each.name != name for each in found) and self._fits(name, take):
                found.append(RigChoice(name, title))
        # Two pictures are a pair of eyes more seldom than they are lenses back to back.
        return sorted(found, key=lambda each: each.name != OWN and self._is_pair(each.name, take))

    def _is_pair(self, name: str, take: Take) -> bool:
        rig = self._load(name, take)
        return rig is not None and rig.is_stereo

    def _fits(self, name: str, take: Take) -> bool:
        rig = self._load(name, take)
        return rig is not None and rig.pictures == take.pictures + len(take.missing)

    def _own_rigs(self) -> Mapping[str, Rig | None]:
        found = self._station.own.rigs.value
        if found is not self._own:
            self._own = found
            self._loaded.clear()
        return found

    def rig_name(self, take: Take) -> str:
        """The rig by which a take is stitched; nothing where none fits."""
        choices = [each.name for each in self.rig_choices(take)]
        chosen = self._choices.get(take.body, "")
        return chosen if chosen in choices else next(iter(choices), "")

    def aligned(self, take: Take) -> AlignedRig | None:
        """How its body was aligned, where that rig is used."""
        return self._kept.get(take.body) if self.rig_name(take) == OWN else None

    def rig(self, take: Take) -> Rig | None:
        """The rig itself, for pictures of the take's size."""
        return self._load(self._rig_text(take), take)

    def _load(self, rig: str, take: Take) -> Rig | None:
        first, own = take.facts.video[0], self._own_rigs()
        key = (rig, first.width, first.height)
        if key not in self._loaded:
            try:
                found = own[rig] if rig in own else rig_of(rig)
                self._loaded[key] = found.for_size(first.width, first.height) if found is not None else None
            except RequestError:
                self._loaded[key] = None
        return self._loaded[key]

    def _rig_text(self, take: Take) -> str:
        name = self.rig_name(take)
        return self._kept[take.body].text if name == OWN else name

    def choose_rig(self, takes: Sequence[Take], name: str) -> None:
        """Another rig for the bodies of some takes, as far as it fits them."""
        for take in takes:
            if any(each.name == name for each in self.rig_choices(take)):
                self._choices[take.body] = name
                self._remember(_CHOICES, take.body, name)
        self._tell()

    # -- settings ------------------------------------------------------------------------------

    def settings(self, take: Take) -> StitchSettings:
        """What is chosen for a take."""
        return self._settings.get(_key(take), StitchSettings())

    def change(self, takes: Sequence[Take], **changes: Any) -> None:
        """Chooses for some takes at once. The moment they are aligned by is not among it: each take has its own."""
        for take in takes:
            changed = replace(self.settings(take), **changes)
            self._settings[_key(take)] = changed
            self._remember(_SETTINGS, _key(take), changed)
        self._tell()

    def size(self, take: Take) -> tuple[int, int] | None:
        """The size of its result; None where no rig fits."""
        settings, rig = self.settings(take), self.rig(take)
        if settings.size is not None or rig is None:
            return settings.size
        return proposed_size(rig, settings.layout, settings.width_deg)

    def sizes(self, take: Take) -> list[tuple[tuple[int, int] | None, str]]:
        """Sizes to choose from, the one that the lenses justify first; those larger say so."""
        settings, rig = self.settings(take), self.rig(take)
        if rig is None:
            return []
        own = proposed_size(rig, settings.layout, settings.width_deg)
        found: list[tuple[tuple[int, int] | None, str]] = [(None, f"{own[0]}×{own[1]}, what the lenses hold")]
        wide, high = (1 + (settings.layout == "side-by-side"), 1 + (settings.layout == "top-bottom"))
        for width in WIDTHS_PX:
            size = (width * wide, round(width * 180 / float(settings.width_deg)) * high)
            more = "" if width <= own[0] // wide else ", larger than the lenses hold"
            found.append((size, f"{size[0]}×{size[1]}{more}"))
        return found

    def mistake(self, take: Take) -> str:
        """Why a take cannot be stitched as it is chosen; nothing where it can."""
        rig, settings, size = self.rig(take), self.settings(take), self.size(take)
        if take.missing and not settings.with_hole:
            gone = " and ".join(map(str, take.missing))
            return f"Lens {gone} is missing: offload its card, or have it stitched with a hole."
        if rig is None or size is None:
            return f"No rig for {take.lens_words} is known: put one of your own into {self._station.own.rigs.folder}."
        if settings.layout != "mono" and not rig.has_two_eyes:
            return f"The rig has one eye: it gives no {settings.layout} picture."
        if settings.level != "no":
            if not self.can_be_levelled(take):
                return "It has no motion track to be levelled by: choose “As it was held”, and turn it by its roll."
            if settings.layout != "mono":
                return "A picture for two eyes cannot be levelled: eyes stand level in the rig, not in the world."
            if settings.level == "each picture" and (settings.fill_poles or settings.cover_deg):
                return "What is filled from around would wander where each picture is levelled: level once."
        shared = SHARED.get(PictureFormat.of(take.facts).chroma, (1, 1))
        return SphereShape(*size, settings.layout, settings.width_deg).mistake(shared)

    def can_be_levelled(self, take: Take) -> bool:
        """Whether its files tell how the camera leaned."""
        return any(clip.facts is not None and MOTION in clip.facts.data for clip in take.clips)

    # -- what comes of it ----------------------------------------------------------------------

    def row(self, take: Take) -> TakeRow:
        """A take as a row of the table."""
        size, wrong = self.size(take), self.mistake(take)
        kept, layout = self.aligned(take), self.settings(take).layout
        if take.body in self._aligning.values():
            rig, mark = "being aligned", Mark.UNDER_WAY
        elif kept is not None:
            rig, mark = f"aligned, {kept.residual_px:.2f} px", Mark.DONE
        else:
            words = "as chosen, not aligned" if take.body in self._kept else "not aligned yet"
            rig, mark = words if self.rig_name(take) else "no rig fits", Mark.EXPECTED
        if wrong:
            mark = Mark.PROBLEM
        return TakeRow(take.name, rig, f"{size[0]}×{size[1]} {layout}" if size is not None else "", mark)

    def alike(self, takes: Sequence[Take]) -> list[Alike]:
        """What recipes get of some takes: pictures of the result's size."""
        found = []
        for take in takes:
            size = self.size(take)
            if size is not None and not self.mistake(take):
                picture = replace(
                    PictureFormat.of(take.facts),
                    width=size[0],
                    height=size[1],
                    pixel_aspect=Fraction(1),
                    rotation=0,
                    mirrored=False,
                )
                found.append(Alike(picture, tuple(SoundFormat.of(track) for track in take.facts.audio), 1))
        return found

    def lens_take(self, take: Take) -> LensTake:
        """The files with the rig, for whoever opens them."""
        facts = tuple(clip.facts for clip in take.clips if clip.facts is not None)
        whole = len(facts) == len(take.lenses)
        rig, own = self._rig_text(take), self._station.own.rigs.folder
        return LensTake(take.lenses, rig, facts if whole else (), own, take.missing)

    def request(self, take: Take, recipe: Recipe, folder: Path) -> StitchRequest:
        """What one start would stitch. A body that nobody aligned yet is aligned by the take itself."""
        return StitchRequest(
            self.lens_take(take),
            recipe,
            folder,
            self.settings(take),
            _stem(take),
            # Whose body was aligned and who still chose other values wants these as they are.
            # By a part of its lenses, no rig of the whole is found.
            align="no" if take.body in self._kept or take.missing else "may",
            camera=take.clip.card,
            clip_id=take.clip.id,
            body=take.body,
        )

    def again(self, take: Take, record: OutputRecord, folder: Path) -> StitchRequest | None:
        """The request that made a stitched output, by rig, settings and recipe as they were; None if it cannot be."""
        assert record.stitch is not None
        if not isinstance(record.recipe, Recipe):
            return None
        try:
            settings = from_text(StitchSettings, record.stitch["settings"])
            lens_take = replace(self.lens_take(take), rig=record.stitch["rig"])
        except (KeyError, ValueError):
            # The ledger is of another version.
            return None
        if take.missing and not settings.with_hole:
            return None
        return StitchRequest(
            lens_take,
            record.recipe,
            folder,
            settings,
            _stem(take),
            marks=record.marks,
            camera=take.clip.card,
            clip_id=take.clip.id,
        )

    def align(self, take: Take, moment_s: Fraction | None) -> int:
        """Aligns a take's body by one of its moments; its number in the queue."""
        base = replace(self.lens_take(take), rig=self._base(take))
        request = CalibrateRequest(base, take.body, moment_s)
        self.said = ""
        number = self._runner.add("calibrate", f"Align {take.body}", "encode", request)
        self._aligning[number] = take.body
        self._tell()
        return number

    def _base(self, take: Take) -> str:
        """The rig that an alignment begins by: the chosen one, or that by which the body was aligned before.

        Not the aligned values themselves: what they got wrong must not be where another alignment begins.
        """
        chosen = self.rig_name(take)
        if chosen != OWN:
            return chosen
        names = [each.name for each in self.rig_choices(take) if each.name != OWN]
        aligned = self.rig(take)
        for name in names:
            rig = self._load(name, take)
            if rig is not None and aligned is not None and rig.name == aligned.name:
                return name
        return names[0] if names else self._rig_text(take)

    def aligning(self, take: Take) -> int | None:
        """The number of the job that aligns its body now."""
        return next((number for number, body in self._aligning.items() if body == take.body), None)

    def calibrated(self, number: int, found: AlignedRig | None, problem: str) -> None:
        """A job that aligns a body has ended: with a rig, with a problem, or stopped with neither."""
        body = self._aligning.pop(number, "")
        self.reload()
        if body and found is not None:
            self._choices[body] = OWN
            self._remember(_CHOICES, body, OWN)
            places = count_text(found.matches, "place")
            self.said = f"{body}: aligned by {places}; those held out fit to {found.residual_px:.2f} px."
            if found.unknown:
                self.said += f" Not told by the footage, as supplied: {', '.join(found.unknown)}."
        elif problem:
            self.said = problem
        self._tell()

    def reload(self) -> None:
        """Takes rigs as the ledger and the person's own folder have them now."""
        self._kept = kept_rigs(self._ledger)
        self._loaded.clear()

    def _remember(self, scope: str, key: str, value: object) -> None:
        self._ledger.writer.do(lambda: remember(self._ledger, scope, key, value))

    def _tell(self) -> None:
        for listener in list(self.listeners):
            listener()


def _stem(take: Take) -> str:
    """The output's name: of lenses on cards of their own, not the first card's; nothing where the clip names it."""
    if len(take.clips) < 2:
        return ""
    begun = take.clip.clip.start
    return safe_name(f"{begun:%Y-%m-%d_%H%M%S}_{take.recording}" if begun is not None else take.recording, "sphere")


def _key(take: Take) -> str:
    return f"clip:{take.clip.id}"
