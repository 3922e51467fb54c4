"""What a person should know of an output that is right: what stands twice, was missing, too loud or left behind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction

from diadoche.core.convert.sound import SoundTrack
from diadoche.core.convert.sound_coding import layout_name
from diadoche.core.convert.stages.timing import PictureMap
from diadoche.core.errors import Problem
from diadoche.core.sizes import count_text
from diadoche.core.sound_layouts import is_ambisonic, lists_channels, names_places

_NAMED_PLACES = 3
# Shorter than this, a gap or an overlap between two parts is the length of a codec's frame, and nobody hears it.
_HEARD_S = Fraction(1, 10)


def remark(name: str, what: str, do: str = "Look at these places before the clip is cut.") -> Problem:
    """Something about an output that is no failure."""
    return Problem(what, name, "The original is untouched.", do)


def guessed_colours(name: str, matrix: str) -> Problem:
    """That a source does not say how its colours are written."""
    return remark(
        name,
        f"The original of {name} does not say how its colours are written: they are read as {matrix}, "
        "as its size means, and the output says so.",
        "Compare the colours of both if that matters.",
    )


def picture_remarks(
    name: str, found: PictureMap, first: int, rate: Fraction, *, is_part: bool = False
) -> Iterator[Problem]:
    """What had to be done so that every picture keeps its time.

    Args:
        name: of the output.
        found: which picture of the source stands where.
        first: the place in the source that became the output's first.
        rate: places a second.
        is_part: whether only a part was wanted.
    """
    if first and not is_part:
        count = count_text(first, "picture")
        yield remark(
            name, f"At its beginning the original does not decode for {count}; {name} begins with the first that does."
        )
    # After the last that decodes, nothing has to stand in: the output ends there.
    ends_s = max(found.times_s, default=Fraction(0))
    missing = [time_s for time_s in found.missing_s if time_s * rate >= first and time_s < ends_s]
    last = [time_s for time_s in found.missing_s if time_s >= ends_s]
    for times, then in (
        (missing, "the one before stands there instead, so that sound stays in step"),
        (last, f"{name} ends before"),
    ):
        if times:
            count, verb = count_text(len(times), "picture"), "does" if len(times) == 1 else "do"
            yield remark(name, f"{count} of the original {verb} not decode, at {places(times)}; {then}.")
    again = len(found.again) - len(missing)
    if again > 0:
        yield remark(
            name,
            f"{count_text(again, 'place')} of the output, at a constant rate, show the picture before once more: the "
            "original has none there, and every picture keeps its time.",
        )
    if found.left_out_s:
        count = count_text(len(found.left_out_s), "picture")
        yield remark(name, f"{count} came too soon after another to have a place, at {places(found.left_out_s)}.")
    if found.damaged:
        times = [number / rate for number in sorted(found.damaged)]
        yield remark(name, f"{count_text(len(times), 'picture')} damaged in the original, at {places(times)}.")


def tags_lost(name: str, tags: Sequence[str]) -> Iterator[Problem]:
    """That an output does not say of the recording what its original does."""
    if tags:
        words = f"{name} has no place for what the original says of: {', '.join(tags)}."
        yield remark(name, words, "Keep the original beside it if that is needed, or choose MOV.")


def early_sound(name: str, number: int, early_s: Fraction, then: str) -> Iterator[Problem]:
    """That a sound track, counted from 1, begins before the first picture, if it can be heard.

    Args:
        name: of the output.
        number: of the track.
        early_s: by how much, in seconds.
        then: what became of that sound.
    """
    if early_s >= _HEARD_S:
        words = f"Sound track {number} of the original begins {float(early_s):.2f} s before the first picture; {then}."
        yield remark(name, words, "Look at the original if that sound is needed.")


def sound_remarks(name: str, sounds: Sequence[SoundTrack], *, is_part: bool = False) -> Iterator[Problem]:
    """What had to be done so that every sample keeps its place."""
    for number, sound in enumerate(sounds, start=1):
        early = sum(each.samples for each in sound.remarks if each.kind == "early")
        if not is_part:
            yield from early_sound(name, number, Fraction(early, sound.rate), f"{name} begins with the picture")
        for kind, words in (("silence", "has no sound"), ("cut", "holds a stretch twice"), ("layout", "changes")):
            met = [each for each in sound.remarks if each.kind == kind]
            if kind != "layout":
                met = [each for each in met if Fraction(each.samples, sound.rate) >= _HEARD_S]
            if met:
                detail = f" ({met[0].words})" if met[0].words else ""
                where = places([each.at_s for each in met])
                yield remark(name, f"Sound track {number} of the original {words} at {where}{detail}.")
        if sound.cut_behind_s >= _HEARD_S:
            yield remark(
                name,
                f"Sound track {number} goes on for {float(sound.cut_behind_s):.2f} s behind the last picture, where "
                "this container holds none.",
                "Choose a recipe in MOV if that is needed.",
            )
        if sound.clipped:
            at_s = next(each.at_s for each in sound.remarks if each.kind == "clipped")
            yield remark(
                name,
                f"{count_text(sound.clipped, 'sample')} of sound track {number} louder than full scale, the first at "
                f"{places([at_s])}: they stand at full scale in the output.",
            )


def layouts_told(name: str, layouts: Sequence[str], told: Sequence[str]) -> Iterator[Problem]:
    """Where an output says something else of its channels than the original, or nothing.

    Args:
        name: of the output.
        layouts: of the original's sound tracks that went in, by the media library's names.
        told: of the output's, as it was read back.
    """
    for number, (before, after) in enumerate(zip(layouts, told, strict=False), start=1):
        if _same_places(before, after):
            continue
        says = f"says {after}" if names_places(after) or is_ambisonic(after) else "does not say what each of them is"
        yield remark(
            name,
            f"The channels of sound track {number} are {before} in the original: {name} holds them in this order, and "
            f"{says}.",
            "Name them where sound is edited, or choose MOV.",
        )


def _same_places(before: str, after: str) -> bool:
    """Whether two names mean the same places; codecs make no difference between back and side [RFC9639, 9.1.3]."""
    one, other = (layout_name(layout).replace("(side)", "") for layout in (before, after))
    # What was never named has nothing to lose.
    return one == other or not (names_places(before) or lists_channels(before) or is_ambisonic(before))


def places(times_s: Sequence[Fraction]) -> str:
    """The first few of some places, in words."""
    named = ", ".join(f"{float(time_s):.2f} s" for time_s in times_s[:_NAMED_PLACES])
    return named + (f" and {len(times_s) - _NAMED_PLACES} more" if len(times_s) > _NAMED_PLACES else "")
