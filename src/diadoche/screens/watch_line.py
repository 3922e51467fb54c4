"""The watch line: what a person across the room must know. Is a card being read, and is it kept?"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.answering import HANGS_S
from diadoche.core.sizes import count_text, wait_text
from diadoche.screens.marks import Mark
from diadoche.services.station.card_in import CardIn, Stage

_NONE: Mapping[str, float] = {}
_MOST_NAMED = 3
# In the large words that are read across the room.
_MOST_NAMED_LARGE = 2
_TROUBLED = frozenset({Stage.PROBLEM, Stage.PARTLY})
_NUMBERS = ("No", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")


@dataclass(frozen=True, slots=True)
class WatchLine:
    """The sentence, what goes with it, and the shape in front."""

    mark: Mark
    first: str
    second: str
    aside: str
    aside_small: str


def watch_line(
    cards: Sequence[CardIn],
    places: int,
    wait_s: float | None,
    at_work: int,
    silent_s: Mapping[str, float] = _NONE,
    silent_place: tuple[Path, float] | None = None,
) -> WatchLine:
    """What is true of all cards at this moment.

    Args:
        cards: what is in the readers, and what was pulled too early.
        places: how many destinations the shoot has.
        wait_s: how long offloads still take, where that is known.
        at_work: jobs of any kind that run.
        silent_s: for how long nothing has come from the readers of cards that are read, by the cards' keys.
        silent_place: a place for copies that does not answer, and for how many seconds.
    """
    reading = [card for card in cards if card.stage.being_read]
    troubled = [card for card in cards if card.stage in _TROUBLED]
    aside = wait_text(wait_s) if wait_s is not None else ("at work" if at_work else "nothing at work")
    small = f"{count_text(len(cards), 'card')} · {count_text(places, 'place')} for copies"
    hanging = [card for card in reading if silent_s.get(card.medium.key, 0.0) > HANGS_S]
    if hanging:
        others = [card for card in cards if card not in hanging]
        return _does_not_answer(hanging, others, silent_s, aside, small)
    if silent_place is not None:
        # What it holds up is not what is said of the cards: that stays first.
        small = f"{silent_place[0].name} has not answered for {round(silent_place[1])} s"
    if reading:
        second = " ".join(filter(None, (_doing(reading), _standing(cards))))
        return WatchLine(Mark.UNDER_WAY, _leave_in(reading, cards), second, aside, small)
    if troubled:
        first = f"Look at {_together([card.name for card in troubled])}."
        what = troubled[0].problem.what if troubled[0].problem else ""
        if what and len(troubled) > 1:
            what = f"{troubled[0].name}: {what}"
        rest = _standing([card for card in cards if card not in troubled])
        return WatchLine(Mark.PROBLEM, first, " ".join(filter(None, (what, rest))), aside, small)
    if not cards:
        return WatchLine(Mark.EXPECTED, "No card is in.", "Put one in, or choose a folder.", aside, small)
    return _may_come_out(cards, aside, small)


def _does_not_answer(
    cards: Sequence[CardIn], others: Sequence[CardIn], silent_s: Mapping[str, float], aside: str, small: str
) -> WatchLine:
    """A reader that hangs needs a person: which one it is, and what can be done; the other cards are not forgotten."""
    card = cards[0]
    first = (
        f"{card.name} does not answer."
        if len(cards) == 1
        else f"{_count(len(cards)).capitalize()} cards do not answer."
    )
    seconds = round(silent_s[card.medium.key])
    words = f"Nothing has come from {card.medium.reader} for {seconds} s: stop it, and try another reader."
    reading = [card for card in others if card.stage.being_read]
    stay = f"Leave {_together([card.name for card in reading])} in." if reading else ""
    return WatchLine(Mark.PROBLEM, first, " ".join(filter(None, (words, stay, _standing(others)))), aside, small)


def _may_come_out(cards: Sequence[CardIn], aside: str, small: str) -> WatchLine:
    """Of cards that nothing reads: what is not copied first, then what was here before, then what is proven."""
    proven = [card for card in cards if card.stage is Stage.PROVEN]
    known = [card for card in cards if _is_known(card)]
    fresh = [card for card in cards if _is_fresh(card)]
    if not fresh and not known:
        first = "The card can come out." if len(cards) == 1 else "All cards can come out."
        return WatchLine(Mark.PROVEN, first, _proven_words(cards), aside, small)
    if len(cards) == 1:
        first = "The card is not copied yet." if fresh else "The card was here before."
        second = "Nothing is reading it." if fresh else "It is not read again."
        return WatchLine(Mark.EXPECTED, first, second, aside, small)
    parts = []
    if fresh:
        first = f"{_cards(len(fresh))} {_is(fresh)} not copied yet."
        # So many that only their number is told: it was told already.
        if len(fresh) <= _MOST_NAMED:
            parts.append(_together([card.name for card in fresh]))
    else:
        first = f"{_cards(len(known))} {_was(known)} here before."
        parts.append(f"{_together([card.name for card in known])} {_is(known)} not read again")
    if fresh and known:
        parts.append(f"{_together([card.name for card in known])} {_was(known)} here before")
    if proven:
        parts.append(f"{_together([card.name for card in proven])} can come out")
    return WatchLine(Mark.EXPECTED, first, f"{'; '.join(parts) or 'Nothing is reading them'}.", aside, small)


def _cards(count: int) -> str:
    return "One card" if count == 1 else f"{_count(count).capitalize()} cards"


def _is(cards: Sequence[CardIn]) -> str:
    return "is" if len(cards) == 1 else "are"


def _was(cards: Sequence[CardIn]) -> str:
    return "was" if len(cards) == 1 else "were"


def _proven_words(cards: Sequence[CardIn]) -> str:
    """In how many places, and plainly when those are one disk: two copies on it are lost together."""
    copies, disks = min(card.proven for card in cards), min(card.disks for card in cards)
    if copies == 1:
        return "Its copy is proven." if len(cards) == 1 else "One copy of each is proven."
    if disks < 2:
        return f"Proven in {_count(copies)} places, but on one disk."
    return f"Proven in {_count(copies)} places."


def _together(names: Sequence[str]) -> str:
    if len(names) > _MOST_NAMED:
        return f"{_count(len(names)).capitalize()} cards"
    return " and ".join(filter(None, [", ".join(names[:-1]), names[-1]]))


def _leave_in(reading: Sequence[CardIn], cards: Sequence[CardIn]) -> str:
    """Which cards stay in: by name where others may come out."""
    if len(reading) < len(cards) and len(reading) <= _MOST_NAMED_LARGE:
        return f"Leave {_together([card.name for card in reading])} in."
    return "Leave the card in." if len(reading) == 1 else f"Leave {_count(len(reading))} cards in."


def _standing(cards: Sequence[CardIn]) -> str:
    """How cards stand that nothing reads, in a sentence: what needs a person first, what may come out last."""
    parts = []
    for found, one, several in (
        ([card for card in cards if card.stage in _TROUBLED], "needs you", "need you"),
        ([card for card in cards if _is_fresh(card)], "is not copied yet", "are not copied yet"),
        ([card for card in cards if _is_known(card)], "was here before", "were here before"),
        ([card for card in cards if card.stage is Stage.PROVEN], "can come out", "can come out"),
    ):
        if found:
            parts.append(f"{_together([card.name for card in found])} {one if len(found) == 1 else several}")
    return f"{'; '.join(parts)}." if parts else ""


def _is_quiet(card: CardIn) -> bool:
    return not card.stage.being_read and card.stage not in _TROUBLED and card.stage is not Stage.PROVEN


def _is_fresh(card: CardIn) -> bool:
    return _is_quiet(card) and not card.is_known


def _is_known(card: CardIn) -> bool:
    return _is_quiet(card) and card.is_known


def _count(number: int) -> str:
    return _NUMBERS[number] if number < len(_NUMBERS) else f"{number:,}"


def _doing(reading: Sequence[CardIn]) -> str:
    parts: list[str] = []
    for stage, word in (
        (Stage.LISTING, "being listed"),
        (Stage.PICTURING, "being looked at"),
        (Stage.WAITING, "waiting its turn"),
        (Stage.CROSSING, "being copied and read back"),
        (Stage.COMPARING, "being compared with its copies"),
    ):
        count = sum(card.stage is stage for card in reading)
        if count:
            parts.append(
                f"{_count(count).capitalize() if not parts else _count(count)} {'is' if count == 1 else 'are'} {word}"
            )
    return ", ".join(parts) + "."
