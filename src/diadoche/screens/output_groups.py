"""What each clip still needs: the clips of a shoot by route."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import islice

from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.clip_formats import Alike, ClipFormats, FormatCount
from diadoche.screens.marks import Mark
from diadoche.screens.output_plan import MADE, OutputPlan, is_unwanted
from diadoche.screens.output_rows import Choice, ClipRow, GroupRow
from diadoche.screens.recipe_chooser import outlook
from diadoche.screens.route_tally import RouteTally, Standing, kind_of
from diadoche.screens.shelf import Shelf
from diadoche.screens.stitch_group import StitchGroup
from diadoche.services.ledger.kept_clips import KeptClip

_ORDER = ("ready", "rewrap", "join", "convert", "stitch", "develop", "unsupported")
_WORDS = {
    "ready": ("Ready", "Nothing to do: they play as they are."),
    "rewrap": ("Rewrap", "Only the container is in the way; packets are proven equal."),
    "join": ("Join", "Cut by the camera into several files; joined without encoding."),
    "convert": ("Convert", "An editor would render these at every step."),
    "develop": ("Develop", "The sensor's own values; they are kept as they are until they are developed."),
    "unsupported": ("Unsupported", "Nothing here can decode them; they are kept as they are."),
}
# Of how many clips at once it is asked whether their outputs are still there.
_OUTPUTS_AT_ONCE = 500
_NOTHING_TO_MAKE = {"ready": "nothing to make", "develop": "waits", "unsupported": "kept as it is"}
_CONTAINERS = {
    "mov": "MOV, picture and sound as they are",
    "mp4": "MP4, picture and sound as they are",
    "mkv": "Matroska, picture and sound as they are",
}


class OutputGroups:
    """Clips by what they need. They are counted when somebody asks, and of them those alone of which something new was
    told: which these are is known by their ids, and all are counted anew where all may be others."""

    def __init__(self, plan: OutputPlan, stitch: StitchGroup, shelf: Shelf) -> None:
        self._plan = plan
        self._stitch = stitch
        self._shelf = shelf
        self._formats = ClipFormats()
        self._tallies: dict[str, RouteTally] = {}
        self._standings: dict[int, Standing] = {}
        # Of which clips something new was told since they were counted; None where that may be all.
        self._uncounted: set[int] | None = None
        # Those of which anything was made, beginning with the one that was counted longest ago.
        self._with_outputs: dict[int, None] = {}
        # What was in the queue when they were counted.
        self._asked: set[int] = set()
        self._by_route: dict[str, list[KeptClip]] | None = None
        self._groups: list[GroupRow] | None = None

    def clips_changed(self, clip_ids: Iterable[int] | None) -> None:
        """Something else is known or said of some clips; with None all may be others, or stand elsewhere."""
        if clip_ids is None:
            self._uncounted = None
        elif self._uncounted is not None:
            self._uncounted.update(clip_ids)
        self._by_route = None
        self.forget()

    def forget(self) -> None:
        """Something else was chosen, or asked for."""
        self._groups = None

    @property
    def known(self) -> int:
        """How many clips were looked at."""
        self._count()
        return len(self._standings)

    @property
    def asked(self) -> int:
        """Of how many clips outputs are in the queue."""
        self._count()
        return sum(tally.asked for tally in self._tallies.values())

    def _count(self) -> None:
        if self._uncounted is None:
            self._tallies, self._standings, self._with_outputs = {}, {}, {}
            self._asked = set(self._plan.asked)
            lines = self._shelf.lines
        else:
            changed = self._uncounted | (self._asked ^ self._plan.asked)
            if not changed:
                return
            self._asked = set(self._plan.asked)
            # Most of ten thousand are sooner looked at in their order than looked up.
            few = 2 * len(changed) < len(self._standings)
            lines = self._shelf.chosen(changed) if few else self._shelf.lines
        self._uncounted = set()
        standings, asked = self._standings, self._asked
        for line in lines:
            clip = line.clip
            facts, before = clip.facts, standings.get(clip.id)
            # Ten thousand are judged by one key, and most verdicts change nothing here. Facts are compared by what
            # they are, which is much: what was found anew is another value.
            if facts is not None and (
                before is None
                or clip.outputs
                or before.facts is not facts
                or before.unwanted != is_unwanted(clip)
                or before.asked != (clip.id in asked)
            ):
                self._count_clip(clip, facts, before)

    def _count_clip(self, clip: KeptClip, facts: Facts, before: Standing | None) -> None:
        is_same = before is not None and before.facts is facts
        unwanted, asked = is_unwanted(clip), clip.id in self._asked
        made = bool(clip.outputs) and self._plan.delivered(clip) is not None
        standing = Standing(
            facts,
            kind_of(made=made, unwanted=unwanted, asked=asked),
            unwanted,
            asked,
            before.sound_apart if before is not None and is_same else clip.has_sounds and not facts.sound_apart,
        )
        self._standings[clip.id] = standing
        if clip.outputs:
            self._with_outputs.pop(clip.id, None)
            self._with_outputs[clip.id] = None
        name = facts.route.name
        if before is not None and is_same:
            self._tallies[name].change(clip.id, before, standing)
            return
        if before is not None:
            self._tallies[before.facts.route.name].take_out(clip.id, before)
        if name not in self._tallies:
            self._tallies[name] = RouteTally(self._formats)
        self._tallies[name].put_in(clip.id, standing)

    def of(self, route: str) -> list[KeptClip]:
        """The clips of a route, in the shoot's order: those that were counted, so that as many are made as was said."""
        if route == "stitch":
            return [take.clip for take in self._stitch.takes]
        self._count()
        if self._by_route is None:
            self._by_route = {}
            for line in self._shelf.lines:
                standing = self._standings.get(line.clip.id)
                if standing is not None:
                    self._by_route.setdefault(standing.facts.route.name, []).append(line.clip)
        return self._by_route.get(route, [])

    def open_clips(self, route: str) -> list[KeptClip]:
        """Those of which something is to be made still."""
        return [clip for clip in self.of(route) if self._plan.is_open(clip)]

    def can_be_made(self, route: str) -> list[KeptClip]:
        """Those of which the next start would make something: a recipe may not hold all of them."""
        clips = self.open_clips(route)
        if route != "convert":
            return clips
        with_picture = _with_picture(clips)
        held = self._held(self._formats.count(with_picture))
        numbers = {clip_id for clip_id, facts in with_picture if self._formats.of(clip_id, facts)[0] in held}
        return [clip for clip in clips if clip.id in numbers]

    def _held(self, counts: Mapping[int, FormatCount]) -> set[int]:
        """Which formats the recipe holds, by their numbers."""
        recipe, changes = self._plan.recipe, self._plan.changes
        return {
            number
            for number, count in counts.items()
            if not outlook([self._formats.alike_of(number, count)], recipe, changes).refused
        }

    def groups(self) -> list[GroupRow]:
        """Routes that occur, in the order of the work; put together once for every change."""
        if self._groups is None:
            if self._uncounted is not None:
                # Anybody may take outputs away, and that is only seen where somebody asks for them: some at a time,
                # for thousands would keep the window waiting. What is found to be otherwise has all counted anew.
                self._uncounted.update(islice(self._with_outputs, _OUTPUTS_AT_ONCE))
            self._count()
            there = ((route, self._tallies.get(route)) for route in _ORDER)
            self._groups = [self._group(route, tally) for route, tally in there if tally is not None and tally.clips]
        return self._groups

    def clips_of(self, route: str) -> list[ClipRow]:
        """The clips of a group, each by itself; lenses of one take together."""
        if route == "stitch":
            return self._stitch.rows()
        return [replace(self._clip_row(route, clip), path=clip.first_file) for clip in self.of(route)]

    def _clip_row(self, route: str, clip: KeptClip) -> ClipRow:
        assert clip.facts is not None
        name, reason = f"{clip.card} {clip.clip.name}", " ".join(clip.facts.route.reasons)
        if self._plan.delivered(clip) is not None:
            return ClipRow(name, reason, "", "made", Mark.DONE)
        if is_unwanted(clip):
            return ClipRow(name, reason, "", "marked no: left out", Mark.EXPECTED)
        if route not in MADE:
            return ClipRow(name, reason, "", _NOTHING_TO_MAKE.get(route, ""), Mark.EXPECTED)
        size, warning = self._estimate(route, [clip])
        if clip.id in self._plan.asked:
            return ClipRow(name, reason, size_text(size), "being made", Mark.UNDER_WAY)
        words = warning or ("to make" if route not in self._plan.left_out else "left out with its group")
        return ClipRow(name, reason, size_text(size), words, Mark.EXPECTED)

    def _group(self, route: str, tally: RouteTally) -> GroupRow:
        if route == "stitch":
            return self._stitch.group()
        title, reason = _WORDS[route]
        to_make, size, warning, left_out = 0, 0, "", ""
        if route in MADE:
            to_make, size, warning = self._open_words(route, tally)
            left_out = f"{count_text(tally.unwanted, 'clip')} marked no: left out." if tally.unwanted else ""
        mark = Mark.DONE if route == "ready" or tally.made == tally.clips else Mark.EXPECTED
        if tally.asked:
            mark = Mark.UNDER_WAY
        if route == "unsupported":
            mark = Mark.PROBLEM
        if route == "convert" and len(tally.reasons) == 1:
            reason = next(iter(tally.reasons))[0]
        return GroupRow(
            route,
            title,
            f"{reason} {left_out}".strip(),
            tally.clips,
            to_make,
            tally.made,
            f"about {size_text(size)}" if to_make else "",
            size,
            self._choices(route),
            self._plan.containers.get(route, ""),
            self._plan.recipe.title if route == "convert" else "",
            route not in self._plan.left_out,
            warning,
            mark,
        )

    def _open_words(self, route: str, tally: RouteTally) -> tuple[int, int, str]:
        """How many clips a start would make, how many bytes these become, and what there is to say of them."""
        to_make, size, warning = tally.open, tally.open_bytes, ""
        if route == "convert":
            to_make = sum(tally.open_formats[number].clips for number in self._held(tally.open_formats))
            size, warning = self._outlook_of(self._formats.alike(tally.open_formats), tally.open)
        return to_make, size, " ".join(filter(None, (self._sound_apart(route, tally.sounds_apart), warning)))

    def _sound_apart(self, route: str, clip_ids: set[int]) -> str:
        """What is said where a camera kept more sound in files of its own: beside a picture that has sound, it stays.
        The first of them is named."""
        first = next((clip.clip.name for clip in self.of(route) if clip.id in clip_ids), "") if clip_ids else ""
        if not first:
            return ""
        names = f"{first} and {len(clip_ids) - 1} more" if len(clip_ids) > 1 else first
        return (
            f"{names}: a second sound lies in files of its own and does not come along; it is kept beside the original."
        )

    def _choices(self, route: str) -> tuple[Choice, ...]:
        if route in self._plan.containers:
            return tuple(Choice(name, title) for name, title in _CONTAINERS.items())
        return ()

    def _estimate(self, route: str, clips: list[KeptClip]) -> tuple[int, str]:
        if route != "convert":
            return sum(clip.facts.size_bytes for clip in clips if clip.facts), ""
        return self._outlook_of(self.alike(clips), len(clips))

    def _outlook_of(self, alike: Sequence[Alike], clips: int) -> tuple[int, str]:
        """How large some clips become by the recipe, and what it does not hold of them."""
        found = outlook(alike, self._plan.recipe, self._plan.changes)
        few = f"{found.refused} of {clips}: " if 0 < found.refused < clips else ""
        refusal = f"{few}{found.refusal}" if found.refused else ""
        return found.size_bytes, " ".join(filter(None, (refusal, *found.losses)))

    def alike(self, clips: Sequence[KeptClip]) -> list[Alike]:
        """Some clips by format."""
        return self._formats.alike(self._formats.count(_with_picture(clips)))


def _with_picture(clips: Sequence[KeptClip]) -> list[tuple[int, Facts]]:
    """Those that have a picture, by their ids."""
    return [(clip.id, clip.facts) for clip in clips if clip.facts is not None and clip.facts.video]
