"""What is said of a finished offload: numbers to check against memory, and whether the camera may format."""

from __future__ import annotations

from diadoche.core.sizes import count_text, size_text, wait_text
from diadoche.services.station.card_in import CardIn, Stage


def numbers(card: CardIn) -> str:
    """Clips, files, bytes, time and speed, and what was left out; empty before an offload has ended."""
    outcome = card.outcome
    if outcome is None:
        return ""
    result = outcome.result
    parts = [
        count_text(len(outcome.card.clips), "clip"),
        count_text(result.files, "file"),
        size_text(result.bytes),
        _took(result.seconds),
    ]
    if result.seconds >= 1:
        parts.append(f"{size_text(result.bytes / result.seconds)} a second")
    if result.skipped:
        parts.append(f"{count_text(len(result.skipped), 'file')} left out")
    return ", ".join(parts)


def _took(seconds: float) -> str:
    return f"{max(1, round(seconds))} s" if seconds < 100 else wait_text(seconds).removeprefix("about ")


def filmed(card: CardIn) -> str:
    """The days of the recordings."""
    times = card.card.times if card.card is not None else None
    if times is None:
        return ""
    first, last = times
    until = f" to {last.day} {last:%B %Y}" if last.date() != first.date() else ""
    return f"Filmed {first.day} {first:%B}{until}." if until else f"Filmed {first.day} {first:%B %Y}."


def format_words(card: CardIn, wanted: int) -> str:
    """Whether the camera may format the card; empty where nothing was proven of it.

    Args:
        card: the card.
        wanted: on how many different disks the shoot wants it.
    """
    if card.stage is not Stage.PROVEN:
        return ""
    if not card.is_proven_whole:
        return "Only part of it was read now: read it to be sure before the camera formats it."
    if card.disks >= wanted:
        return f"The camera may format it: it is on {count_text(card.disks, 'disk')}."
    return f"Not to be formatted yet: it is on {count_text(card.disks, 'disk')}, the shoot wants {wanted}."


def done_words(card: CardIn) -> tuple[str, str]:
    """Title and text of the notice when an offload has ended."""
    assert card.outcome is not None
    copies = card.outcome.result.copies
    title = f"{card.name}: {card.proven} of {count_text(len(copies), 'copy', 'copies')} proven"
    text = f"{numbers(card)}. {filmed(card)}".strip()
    return title, f"{text} {card.problem.what}" if card.problem is not None else text
