"""Cards as they stand together on the board: those of one rig as one set, whatever needs a person first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from diadoche.core.cards.cardset import CardSet
from diadoche.core.sizes import count_text
from diadoche.screens.card_rows import CardRow, card_row
from diadoche.screens.marks import Mark
from diadoche.services.station.station import Station


@dataclass(frozen=True, slots=True)
class CardGroup:
    """Cards that belong together; a card by itself has no title.

    Attributes:
        key: which group it is, as long as it has a card left.
        title: what the cards of a set have in common.
        words: what the set holds, and what it lacks.
        lacks: whether a lens is missing.
        rows: its cards, in the order of their lenses.
    """

    key: str
    title: str
    words: str
    lacks: bool
    rows: tuple[CardRow, ...]

    @property
    def is_urgent(self) -> bool:
        """Whether it needs a person."""
        return any(row.mark is Mark.PROBLEM or row.is_silent for row in self.rows)


def card_groups(station: Station) -> list[CardGroup]:
    """What the board shows of cards: groups in the order in which their first card was put in, urgent ones first."""
    sets = station.card_sets()
    groups: dict[str, list[CardRow]] = {}
    of_key: dict[str, CardSet] = {}
    for card in station.cards.values():
        # By identity: to compare all that was listed of two cards takes long.
        found = next((each for each in sets if any(card.card is member for member in each.cards)), None)
        alone = found is None or len(found.cards) < 2
        key = card.medium.key if found is None or alone else f"set {sets.index(found)}"
        groups.setdefault(key, []).append(card_row(station, card, found, whole=alone))
        if found is not None and not alone:
            of_key[key] = found
    made = [
        _set_group(key, of_key[key], rows) if key in of_key else CardGroup(key, "", "", False, tuple(rows))
        for key, rows in groups.items()
    ]
    return sorted(made, key=lambda group: not group.is_urgent)


def _set_group(key: str, found: CardSet, rows: Sequence[CardRow]) -> CardGroup:
    names = [row.name.split() for row in rows]
    # Words that all of them begin with are said once for all; of each name something is left.
    said = 0
    while all(len(words) > said + 1 and words[said] == names[0][said] for words in names):
        said += 1
    # A number alone says nothing: it keeps the word before it.
    said -= said > 0 and any(words[said][:1].isdigit() for words in names)
    title = " ".join(names[0][:said]) or "One set"
    words = f"{_capital(found.words)} · {count_text(found.takes, 'take')}"
    short = [replace(row, short_name=_capital(" ".join(row.name.split()[said:]))) for row in rows]
    return CardGroup(key, title, words, bool(found.missing), tuple(sorted(short, key=lambda row: row.short_name)))


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]
