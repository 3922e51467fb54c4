"""Converting: from a picture source through one encoding pass to a checked output.

Pictures go through the stages of a plan: fields become whole pictures where that is wanted, pictures go by their times
onto the places of a constant rate, and straight from one pixel format to the other; sound goes sample by sample to its
place. What had to be repeated, left out or replaced is written down.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

from diadoche.core.convert.check import Checks, Expected, ExpectedSound, Finding
from diadoche.core.convert.check_places import all_are_there, map_findings, placed_right, shown_as
from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.kept_boxes import Kept, is_all_there
from diadoche.core.convert.new_output import new_file, output_name, size_of
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.picture_head import shown_otherwise
from diadoche.core.convert.plan import Plan, plan_conversion
from diadoche.core.convert.recipes import Changes, Recipe
from diadoche.core.convert.remarks import (
    guessed_colours,
    layouts_told,
    picture_remarks,
    remark,
    sound_remarks,
    tags_lost,
)
from diadoche.core.convert.signature import picture_digest, signature_of
from diadoche.core.convert.sources import PictureSource
from diadoche.core.convert.stages.timing import Placed
from diadoche.core.convert.targets.film import Film
from diadoche.core.convert.targets.stills import Stills
from diadoche.core.convert.targets.target import Target
from diadoche.core.errors import MediaError, Problem, RequestError
from diadoche.core.media import opened, sound_layouts
from diadoche.core.names import shown
from diadoche.core.run import Missing, Picture, Sound
from diadoche.core.sizes import count_text
from diadoche.core.timecode import Timecode
from diadoche.core.watch import Progress, Share, Watch

_BLACK = {"limited": 16, "full": 0}


@dataclass(frozen=True, slots=True)
class Marks:
    """A part of a clip: the first picture, and the one after the last."""

    first: int
    end: int

    @classmethod
    def parse(cls, begin: str, end: str, picture: PictureFormat) -> Marks:
        """Reads picture numbers, or timecodes of the clip.

        Raises:
            RequestError: they name no part of the clip.
        """
        try:
            marks = cls(_picture_number(begin, picture), _picture_number(end, picture))
        except ValueError as error:
            raise RequestError(
                f"{begin} to {end} is no part of this clip: {error}.", do="Give numbers or timecodes."
            ) from error
        if not 0 <= marks.first < marks.end:
            raise RequestError(f"{begin} to {end} is no part of this clip.", do="The out mark comes after the in mark.")
        return marks


def _picture_number(text: str, picture: PictureFormat) -> int:
    if text.isdigit():
        return int(text)
    return picture.labels.picture_of(text) if picture.labels is not None else Timecode.parse(text, picture.rate).frame


def convert(
    source: PictureSource,
    recipe: Recipe,
    folder: Path,
    watch: Watch,
    *,
    camera: str = "",
    marks: Marks | None = None,
    changes: Changes | None = None,
    stem: str = "",
) -> Output:
    """Encodes a source by a recipe, checks the result, and delivers it only when it is right.

    Args:
        source: where pictures and sound come from.
        recipe: how they are encoded.
        folder: where the output goes.
        watch: told how far it is.
        camera: put in front of the output's name.
        marks: the part that is wanted, in the source's pictures; None for all.
        changes: instead of the recipe's own.
        stem: the output's name without its ending, instead of one made of camera, time and original.

    Raises:
        RequestError: the recipe cannot hold the source, or the folder is the originals' own.
        MediaError: the source cannot be decoded.
        TargetError: the output cannot be written.
        Cancelled: nothing is left behind.
    """
    began_s = time.monotonic()
    plan = plan_conversion(recipe, source.picture, source.sounds, changes)
    provenance = source.provenance
    named = output_name(camera, provenance.start, provenance.originals[0].stem, "").removesuffix(".")
    stem = stem or named
    if marks is not None:
        stem = f"{stem}_{marks.first}-{marks.end}"
    expected = Expected(plan.whole.rate, darkest=_BLACK.get(plan.out.color.range, 16))
    target: Target
    if recipe.container.files == "stills":
        name, target = stem, Stills(plan, stem, expected)
    else:
        name, target = f"{stem}.{recipe.container.ending}", Film(plan, provenance, expected)
    losses = tuple(_loss(loss, name) for loss in plan.losses)
    room = plan.estimated_bytes if marks is None else 0
    with new_file(folder, name, room, provenance.originals, is_folder=target.is_folder) as made:
        job = _Encoding(source, plan, target, expected, marks, Share(watch, 0, 0.95))
        with target.writing(made.part):
            job.run()
        job.finish(made.part)
        checks, findings = job.check(made.part, Share(watch, 0.95, 1))
        size = size_of(made.part)
        made.withheld = not checks.passed
    if checks.passed:
        told = (*losses, *job.problems(name))
    else:
        told = (withheld(name, checks.failures(), findings, provenance.span_differences), *losses)
    return Output(
        tuple(str(path) for path in provenance.originals),
        str(made.final) if checks.passed else "",
        recipe.name,
        job.decoded,
        job.pictures if checks.passed else 0,
        checks,
        None,
        None,
        size if checks.passed else 0,
        plan.estimated_bytes,
        time.monotonic() - began_s,
        told,
        findings,
    )


def _loss(what: str, name: str) -> Problem:
    return Problem(what, name, "The original keeps everything.", "Choose a recipe that holds more if that matters.")


class _Encoding:
    """One encoding pass, and what is known of it afterwards."""

    def __init__(
        self, source: PictureSource, plan: Plan, target: Target, expected: Expected, marks: Marks | None, watch: Watch
    ) -> None:
        self._source = source
        self._plan = plan
        self._target = target
        self._watch = watch
        self._rate = plan.whole.rate
        # The places of the output that the marks mean, and the part of the source that is read for them.
        times = plan.whole.rate / plan.source.rate
        self._is_part = marks is not None
        self._end: int | None
        self._first, self._end = (round(marks.first * times), round(marks.end * times)) if marks else (0, None)
        self._scan = plan.scan()
        self._timing = plan.timing(self._first, self._end)
        self._levels = plan.levels()
        self._shape: tuple[int, int, str] | None = None
        # Shared with the target, which looks at its pictures while it writes.
        self._expected = expected
        self._begun = False
        self._waiting: list[Sound] = []
        self._more_tracks: set[int] = set()
        self._kept = Kept()
        # What the output says its channels are; known when it was checked.
        self._layouts: list[str] = []
        # And what it does not say of how its pictures are shown.
        self._unsaid: tuple[str, ...] = ()
        self._lost_tags: tuple[str, ...] = ()
        self.decoded = 0

    @property
    def pictures(self) -> int:
        """How many went to the encoder."""
        return len(self._expected.signatures)

    def run(self) -> None:
        """Encodes everything and flushes.

        Raises:
            MediaError: the source changes its size, or nothing of it decodes.
        """
        begin_s = self._first / self._rate
        # Where fields become pictures, the ones around a part are looked at too.
        around_s = 3 / self._plan.source.rate if self._plan.whole.scan != self._plan.source.scan else 0
        end_s = self._end / self._rate + around_s if self._end is not None else None
        for unit in self._source.units(max(Fraction(0), begin_s - around_s), end_s):
            if isinstance(unit, Sound):
                self._take_sound(unit)
                continue
            if isinstance(unit, Picture) and not self._fits(unit):
                continue
            for whole in self._scan.push(unit):
                self._place(whole)
            if self._begun and self._waiting:
                self._release()
        for whole in self._scan.flush():
            self._place(whole)
        for placed in self._timing.flush():
            self._encode(placed)
        if not self._begun:
            raise self._nothing()
        self._release()
        self._target.end()
        self._expected.sounds = [
            ExpectedSound(sound.digest.value(), sound.first or 0, sound.rate, sound.channels)
            for sound in self._target.sounds
        ]

    def _fits(self, unit: Picture) -> bool:
        """Whether a picture is like those before it; of a part, what lies outside of it does not matter.

        Raises:
            MediaError: it is not, or it is of another size than the clip: the library would scale it unasked.
        """
        frame, source = unit.frame, self._plan.source
        shape, before = (frame.width, frame.height, frame.format.name), self._shape
        if before is not None and shape != before:
            if self._timing.done:
                return False
            if self._begun or not self._is_part:
                raise self._changed(before, shape, unit.time_s)
            # What only led up to a part is forgotten.
            self._scan, self._timing = self._plan.scan(), self._plan.timing(self._first, self._end)
        self._shape = shape
        if shape[:2] != (source.width, source.height) and round(unit.time_s * self._rate) >= self._first:
            raise self._changed((source.width, source.height, ""), shape, unit.time_s)
        return True

    def _place(self, whole: Picture | Missing) -> None:
        for placed in self._timing.push(whole):
            self._encode(placed)

    # -- sound ---------------------------------------------------------------------------------

    def _take_sound(self, unit: Sound) -> None:
        """Sound waits until it is known with which picture the output begins."""
        if unit.track >= len(self._source.sounds):
            self._more_tracks.add(unit.track)
        elif self._timing.begins is None or not self._begun:
            self._waiting.append(unit)
        else:
            self._target.sound(unit, unit.time_s - self._timing.begins / self._rate)

    def _release(self) -> None:
        waiting, self._waiting = self._waiting, []
        for unit in waiting:
            self._take_sound(unit)

    # -- pictures ------------------------------------------------------------------------------

    def _encode(self, placed: Placed) -> None:
        if not self._begun:
            self._begin()
        total = self._end - self._first if self._end is not None else max(self._plan.whole.pictures, self.pictures + 1)
        self._watch.step(Progress(min(self.pictures + 1, total), total, "converting"))
        self.decoded += not placed.again
        for ready in self._levels.push(placed):
            self._expected.signatures.append(signature_of(ready.frame))
            if self._plan.recipe.picture.lossless:
                self._expected.digests.append(picture_digest(ready.frame))
            self._target.picture(ready.frame)

    def _begin(self) -> None:
        self._begun = True
        first = self._timing.begins or 0
        if self._target.holds_boxes:
            self._kept = self._what_to_keep()
        end_s = (self._end - first) / self._rate if self._end is not None else None
        self._target.begin(first, end_s, with_timecode=not self._kept.has_timecode)

    def _what_to_keep(self) -> Kept:
        plan, kept = self._plan, self._source.kept()
        # A part, or what begins later than its source, would be out of step with tracks that are taken as they are.
        if self._is_part or self._timing.begins:
            kept = kept.of_a_part()
        # A label counts pictures; what is said of brightness is no longer so behind a look-up table.
        return kept.without(timecode=plan.whole.rate != plan.source.rate, levels=plan.table is not None)

    def finish(self, part: Path) -> None:
        """Adds the tracks and boxes that come along as they are; when each begins is known now.

        Raises:
            TargetError: the output cannot be written.
        """
        if not self._kept.is_empty:
            self._kept = self._what_to_keep()
        self._target.finish(part, self._kept)

    # -- what is known afterwards --------------------------------------------------------------

    def check(self, part: Path, watch: Watch) -> tuple[Checks, tuple[Finding, ...]]:
        """Holds the output against what went in, and against the source's own instants."""
        checks, findings = self._target.examine(part, watch)
        if not self._target.is_folder:
            out = self._plan.out
            with opened([part]) as media:
                self._layouts = sound_layouts(media)
                self._lost_tags = self._source.provenance.tags.lost_in(media)
                self._unsaid = shown_otherwise(media.streams.video[0], out.pixel_aspect, out.color.range)
        if not self._kept.is_empty:
            checks = replace(checks, decodes=checks.decodes and is_all_there(part, self._kept))
        first, found, plan = self._timing.begins or 0, self._timing.map, self._plan
        instants = self._source.instants()
        there = None if instants is None else shown_as(instants, plan.source.rate, plan.whole.rate)
        wrong = placed_right(found, first, self._rate, there)
        complete = self._is_part or all_are_there(
            found, there, plan.whole.rate, film=plan.whole.rate < plan.source.rate
        )
        checks = replace(checks, sync=checks.sync and not wrong, frames=checks.frames and complete)
        return checks, (*findings, *wrong, *map_findings(found, self._rate, first))

    def problems(self, name: str) -> Iterator[Problem]:
        """What a person should know of an output that is right."""
        first, is_part = self._timing.begins or 0, self._is_part
        if self._levels.guessed:
            yield guessed_colours(name, self._levels.guessed)
        yield from picture_remarks(name, self._timing.map, first, self._rate, is_part=is_part)
        yield from sound_remarks(name, self._target.sounds, is_part=is_part)
        yield from layouts_told(name, [sound.layout for sound in self._source.sounds], self._layouts)
        wanted = self._end - self._first if self._end is not None else 0
        # Film that comes off its video clock may begin and end in the middle of its turns.
        if self.pictures < wanted - (self._plan.whole.rate != self._plan.source.rate):
            asked = count_text(wanted, "picture")
            what = f"Of the {asked} between the marks the clip holds {self.pictures}: {name} has those."
            yield remark(name, what, "Set the marks anew if there should be more.")
        if self._more_tracks:
            yield remark(name, "A later part of the clip has more sound tracks than the first: they are left out.")
        yield from tags_lost(name, self._lost_tags)
        if self._unsaid:
            words = f"{name} does not say of its pictures what is true of them: {'; '.join(self._unsaid)}."
            yield remark(name, words, "Set it where the film is edited, or choose a recipe in MOV.")
        for words in self._source.provenance.span_differences:
            yield remark(name, f"{words[:-1]}; {name} says what the first one says.")
        if more := self._source.provenance.more_pictures:
            yield remark(name, f"{count_text(more, 'further picture track')} of the original: {name} goes without.")
        comes_along = self._target.holds_boxes and not is_part and not first
        left = [
            each for each in (self._kept.lost if comes_along else self._source.provenance.data) if each != "timecode"
        ]
        if left:
            yield remark(name, f"{', '.join(left)}: {name} goes without; the original keeps it.")

    def _nothing(self) -> MediaError:
        original = self._source.provenance.originals[0]
        name = shown(original.name)
        return MediaError(
            f"No picture of {name} decodes" + (" between these marks." if self._is_part else "."),
            path=original,
            safe="The original is untouched; no output was kept.",
            do="Play it on the camera; if it plays there, copy the card again.",
        )

    def _changed(self, shape: tuple[int, int, str], later: tuple[int, int, str], time_s: Fraction) -> MediaError:
        before, now = (f"{width}×{height} {kind}".rstrip() for width, height, kind in (shape, later))
        original = self._source.provenance.originals[0]
        return MediaError(
            f"{shown(original.name)} changes from {before} to {now} at {float(time_s):.2f} s.",
            path=original,
            safe="The original is untouched; nothing is scaled unasked, and no output was kept.",
            do="Convert the part before that by marks.",
        )
