"""The cards of one many-lens camera as a set: which lenses are there, and what each take lacks."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from diadoche.core.cards.card import Card
from diadoche.core.cards.clips import Clip
from diadoche.core.cards.joining import lens_problems
from diadoche.core.cards.layout import Layout, matched
from diadoche.core.errors import Problem


@dataclass(frozen=True, slots=True)
class CardSet:
    """Cards that recorded together. `missing` names the lenses whose card is not among them."""

    cards: tuple[Card, ...]
    lenses: tuple[int, ...]
    missing: tuple[int, ...]
    takes: int
    stitched: bool
    problems: tuple[Problem, ...]

    @property
    def words(self) -> str:
        """What is at hand, in a few words."""
        have = len(self.lenses)
        stitched = " and the stitched files" if self.stitched else ""
        if not self.missing:
            return f"all {have} lenses{stitched}"
        wanting = " and ".join(str(lens) for lens in self.missing[:3]) + (" and more" if len(self.missing) > 3 else "")
        return f"{have} of {have + len(self.missing)} lenses{stitched}; without lens {wanting}"


def card_sets(cards: Sequence[Card], layouts: Sequence[Layout]) -> list[CardSet]:
    """Puts cards of the same rig together: those of one layout that have a take in common."""
    by_name = {layout.name: layout for layout in layouts if layout.cards_a_set}
    groups: list[tuple[set[str], list[Card], Layout]] = []
    for card in cards:
        layout = by_name.get(card.layout)
        if layout is None:
            continue
        takes = set(_takes(card, layout))
        joined = next((group for group in groups if group[2] is layout and group[0] & takes), None)
        if joined is None:
            groups.append((takes, [card], layout))
        else:
            joined[0].update(takes)
            joined[1].append(card)
    return [_card_set(found, layout) for _, found, layout in groups]


def _takes(card: Card, layout: Layout) -> dict[str, tuple[int, Clip]]:
    """A card's clips by their take, each with its lens; 0 is the rig's own stitched file."""
    found = {}
    for clip in card.clips:
        if lens := matched(layout.lenses, clip.spans[0]):
            found[lens["recording"].upper()] = (int(lens["lens"]), clip)
        elif low := matched(layout.stitched, clip.spans[0]):
            found[low["recording"].upper()] = (0, clip)
    return found


def _card_set(cards: Sequence[Card], layout: Layout) -> CardSet:
    takes: dict[str, dict[int, Clip]] = defaultdict(dict)
    stitched = False
    for card in cards:
        for take, (lens, clip) in _takes(card, layout).items():
            if lens:
                takes[take][lens] = clip
            else:
                stitched = True
    lenses = sorted({lens for take in takes.values() for lens in take})
    problems = [problem for take, clips in sorted(takes.items()) for problem in lens_problems(take, clips, lenses)]
    missing = tuple(lens for lens in range(1, layout.lens_count + 1) if lens not in lenses)
    return CardSet(tuple(cards), tuple(lenses), missing, len(takes), stitched, tuple(problems))
