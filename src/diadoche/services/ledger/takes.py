"""Takes of several lenses: clips that one press of a button made, put together from one card or from several."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from diadoche.core.cards.layout import Layout, matched
from diadoche.core.identify.facts import Facts
from diadoche.core.sizes import count_text
from diadoche.services.ledger.kept_clips import KeptClip

# Clocks of a rig's cameras differ by seconds, takes of the same name by hours.
_SAME_TAKE = timedelta(minutes=30)


@dataclass(frozen=True, slots=True)
class Take:
    """A take: the clip that leads, with which its output is kept, and where each lens's pictures are.

    Args:
        clip: the first lens's, or the only one.
        lenses: the spans of each lens, or of the one file that holds several.
        clips: all clips that belong to it, on all cards.
        missing: lenses of which there is no file, from 1.
        stitched: a version that the camera stitched itself.
    """

    clip: KeptClip
    lenses: tuple[tuple[Path, ...], ...]
    clips: tuple[KeptClip, ...]
    missing: tuple[int, ...] = ()
    stitched: KeptClip | None = None
    # What cards of one rig call it; nothing where one card holds all of it.
    recording: str = ""

    @property
    def facts(self) -> Facts:
        """Of the first lens."""
        assert self.clip.facts is not None
        return self.clip.facts

    @property
    def name(self) -> str:
        """For people."""
        if len(self.clips) > 1:
            return f"{self.recording}, {count_text(len(self.clips), 'card')}"
        return f"{self.clip.card} {self.clip.clip.name}"

    @property
    def pictures(self) -> int:
        """How many files or tracks hold its lenses."""
        return len(self.lenses) if len(self.lenses) > 1 else max(1, len(self.facts.video))

    @property
    def lens_count(self) -> int:
        """How many lenses: two round pictures may stand side by side in one."""
        first = self.facts.video[0]
        return 2 if self.pictures == 1 and first.width >= 2 * first.height else self.pictures

    @property
    def lens_words(self) -> str:
        """Which lenses are there."""
        have = count_text(self.lens_count, "lens", "lenses")
        gone = " and ".join(map(str, self.missing))
        return f"{have}, lens {gone} missing" if self.missing else have

    @property
    def body(self) -> str:
        """The camera body: by its serial number, or else by its card; one that tells neither has no name."""
        which = self.facts.serial or f"card {self.clip.card}"
        lenses = count_text(self.lens_count + len(self.missing), "lens", "lenses")
        return f"{self.facts.camera or 'camera'} {which}, {lenses}"


def takes_of(clips: Sequence[KeptClip], layouts: Sequence[Layout]) -> list[Take]:
    """Clips whose route is to be stitched, as takes, in their order; lenses on cards of their own are put together."""
    if not any(clip.facts is not None and clip.facts.route.name == "stitch" for clip in clips):
        # Ten thousand clips are looked through at every change: most shoots have no lens files at all.
        return []
    rigs = [layout for layout in layouts if layout.cards_a_set]
    groups: list[tuple[str, Layout, dict[int, KeptClip]]] = []
    takes: list[Take] = []
    for clip in clips:
        place = _place(clip, rigs)
        if place is not None:
            _grouped(groups, *place, clip)
        elif clip.facts is not None and clip.facts.route.name == "stitch":
            takes.append(Take(clip, _own_lenses(clip), (clip,)))
    takes += [_take(name, layout, lenses) for name, layout, lenses in groups if any(lenses)]
    order = {clip.id: number for number, clip in enumerate(clips)}
    return sorted(takes, key=lambda take: order[take.clip.id])


def _own_lenses(clip: KeptClip) -> tuple[tuple[Path, ...], ...]:
    """The spans of each lens on one card."""
    lenses: dict[str, list[Path]] = {}
    for role, path in clip.companions:
        if role.startswith("lens "):
            lenses.setdefault(role, []).append(path)
    return (clip.paths, *(tuple(spans) for _role, spans in sorted(lenses.items())))


def _place(clip: KeptClip, rigs: Sequence[Layout]) -> tuple[str, Layout, int] | None:
    """Of which take and which lens a clip of a card a lens is; the rig's own stitched file is lens 0."""
    for layout in rigs:
        if lens := matched(layout.lenses, clip.clip.spans[0]):
            is_lens = clip.facts is not None and clip.facts.route.name == "stitch"
            return (lens["recording"].upper(), layout, int(lens["lens"])) if is_lens else None
        if low := matched(layout.stitched, clip.clip.spans[0]):
            return low["recording"].upper(), layout, 0
    return None


def _grouped(
    groups: list[tuple[str, Layout, dict[int, KeptClip]]], name: str, layout: Layout, lens: int, clip: KeptClip
) -> None:
    for other, own, lenses in groups:
        first = next(iter(lenses.values()))
        if other == name and own is layout and lens not in lenses and _close(first, clip):
            lenses[lens] = clip
            return
    groups.append((name, layout, {lens: clip}))


def _close(one: KeptClip, other: KeptClip) -> bool:
    begun, later = one.clip.start, other.clip.start
    return begun is None or later is None or abs(begun - later) < _SAME_TAKE


def _take(name: str, layout: Layout, lenses: dict[int, KeptClip]) -> Take:
    there = sorted(number for number in lenses if number)
    missing = tuple(number for number in range(1, layout.lens_count + 1) if number not in lenses)
    clips = [lenses[number] for number in there]
    return Take(clips[0], tuple(clip.paths for clip in clips), tuple(clips), missing, lenses.get(0), name)
