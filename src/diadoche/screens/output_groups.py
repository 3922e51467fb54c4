"""What each clip still needs: the clips of a shoot by route."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.marks import Mark
from diadoche.screens.output_plan import MADE, OutputPlan, is_unwanted
from diadoche.screens.output_rows import Choice, ClipRow, GroupRow
from diadoche.screens.recipe_chooser import Alike, Outlook, alike_with_places, outlook
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
_NOTHING_TO_MAKE = {"ready": "nothing to make", "develop": "waits", "unsupported": "kept as it is"}
_CONTAINERS = {
    "mov": "MOV, picture and sound as they are",
    "mp4": "MP4, picture and sound as they are",
    "mkv": "Matroska, picture and sound as they are",
}


class OutputGroups:
    """Clips by what they need, put together once for every change."""

    def __init__(self, plan: OutputPlan, stitch: StitchGroup) -> None:
        self._plan = plan
        self._stitch = stitch
        self._clips: Sequence[KeptClip] = ()
        self._by_route: dict[str, list[KeptClip]] | None = {}
        self._groups: list[GroupRow] | None = None
        self._known_alike: tuple[list[Facts], list[Alike], list[int]] = [], [], []

    def take(self, clips: Sequence[KeptClip]) -> None:
        """The clips as they are now, all of them looked at; they are told apart when somebody asks."""
        self._clips, self._by_route = clips, None
        self.forget()

    def forget(self) -> None:
        """Something else was chosen, asked for or made."""
        self._groups = None

    def of(self, route: str) -> list[KeptClip]:
        """The clips of a route."""
        if route == "stitch":
            return [take.clip for take in self._stitch.takes]
        if self._by_route is None:
            self._by_route = {}
            for clip in self._clips:
                assert clip.facts is not None
                self._by_route.setdefault(clip.facts.route.name, []).append(clip)
        return self._by_route.get(route, [])

    def open_clips(self, route: str) -> list[KeptClip]:
        """Those of which something is to be made still."""
        return [clip for clip in self.of(route) if self._plan.is_open(clip)]

    def can_be_made(self, route: str) -> list[KeptClip]:
        """Those of which the next start would make something: a recipe may not hold all of them."""
        return self._makeable(route, self.open_clips(route))

    def _makeable(self, route: str, clips: list[KeptClip]) -> list[KeptClip]:
        if route != "convert":
            return clips
        with_picture = [clip for clip in clips if clip.facts is not None and clip.facts.video]
        kinds, places = self._alike_with_places(with_picture)
        held = [outlook([kind], self._plan.recipe, self._plan.changes).refused == 0 for kind in kinds]
        return [clip for clip, place in zip(with_picture, places, strict=True) if held[place]]

    def groups(self) -> list[GroupRow]:
        """Routes that occur, in the order of the work; put together once for every change."""
        if self._groups is None:
            self._groups = [self._group(route) for route in _ORDER if self.of(route)]
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

    def _group(self, route: str) -> GroupRow:
        if route == "stitch":
            return self._stitch.group()
        clips = self.of(route)
        title, reason = _WORDS[route]
        made, unwanted, open_clips = self._told_apart(clips)
        if route not in MADE:
            unwanted, open_clips = 0, []
        to_make = len(self._makeable(route, open_clips))
        size, warning = self._estimate(route, open_clips)
        left_out = f"{count_text(unwanted, 'clip')} marked no: left out." if unwanted else ""
        warning = " ".join(filter(None, (_sound_apart(open_clips), warning)))
        mark = Mark.DONE if route == "ready" or (made == len(clips) and made) else Mark.EXPECTED
        if any(clip.id in self._plan.asked for clip in clips):
            mark = Mark.UNDER_WAY
        if route == "unsupported":
            mark = Mark.PROBLEM
        if (
            route == "convert"
            and len({clip.facts.route.reasons for clip in clips if clip.facts}) == 1
            and clips[0].facts
        ):
            reason = clips[0].facts.route.reasons[0]
        return GroupRow(
            route,
            title,
            f"{reason} {left_out}".strip(),
            len(clips),
            to_make,
            made,
            f"about {size_text(size)}" if to_make else "",
            size,
            self._choices(route),
            self._plan.containers.get(route, ""),
            self._plan.recipe.title if route == "convert" else "",
            route not in self._plan.left_out,
            warning,
            mark,
        )

    def _told_apart(self, clips: Sequence[KeptClip]) -> tuple[int, int, list[KeptClip]]:
        """How many are made and how many unwanted, and what is to be made still: of ten thousand, looked at once."""
        made = unwanted = 0
        open_clips = []
        for clip in clips:
            if self._plan.delivered(clip) is not None:
                made += 1
            elif is_unwanted(clip):
                unwanted += 1
            elif clip.id not in self._plan.asked:
                open_clips.append(clip)
        return made, unwanted, open_clips

    def _choices(self, route: str) -> tuple[Choice, ...]:
        if route in self._plan.containers:
            return tuple(Choice(name, title) for name, title in _CONTAINERS.items())
        return ()

    def _estimate(self, route: str, clips: list[KeptClip]) -> tuple[int, str]:
        if route != "convert":
            return sum(clip.facts.size_bytes for clip in clips if clip.facts), ""
        found: Outlook = outlook(self.alike(clips), self._plan.recipe, self._plan.changes)
        few = f"{found.refused} of {len(clips)}: " if 0 < found.refused < len(clips) else ""
        refusal = f"{few}{found.refusal}" if found.refused else ""
        return found.size_bytes, " ".join(filter(None, (refusal, *found.losses)))

    def alike(self, clips: Sequence[KeptClip]) -> list[Alike]:
        """Clips by format. The same clips are asked for at every refresh: ten thousand are put together once."""
        return self._alike_with_places(clips)[0]

    def _alike_with_places(self, clips: Sequence[KeptClip]) -> tuple[list[Alike], list[int]]:
        facts: list[Facts] = [clip.facts for clip in clips if clip.facts is not None and clip.facts.video]
        known, found, places = self._known_alike
        if len(facts) != len(known) or any(mine is not theirs for mine, theirs in zip(facts, known, strict=True)):
            found, places = alike_with_places(facts)
            if len(facts) > 1:
                self._known_alike = facts, found, places
        return found, places


def _sound_apart(clips: Sequence[KeptClip]) -> str:
    """What is said where a camera kept more sound in files of its own: beside a picture that has sound, it stays."""
    apart = [
        clip.clip.name for clip in clips if clip.has_sounds and clip.facts is not None and not clip.facts.sound_apart
    ]
    if not apart:
        return ""
    names = f"{apart[0]} and {len(apart) - 1} more" if len(apart) > 1 else apart[0]
    return f"{names}: a second sound lies in files of its own and does not come along; it is kept beside the original."
