"""How a card stands, in words: one row of the board."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from diadoche.core.answering import HANGS_S
from diadoche.core.cards.cardset import CardSet
from diadoche.core.sizes import count_text, size_text
from diadoche.core.watch import Progress
from diadoche.screens.marks import Mark
from diadoche.screens.results import format_words, numbers
from diadoche.services.station.card_in import CardIn, Stage, can_dismiss, can_recognise
from diadoche.services.station.station import Station

_SILENT_S = 15.0


@dataclass(frozen=True, slots=True)
class CardRow:
    """A card as the board shows it."""

    key: str
    name: str
    mark: Mark
    may_come_out: str
    layout: str
    remark: str
    advice: str
    contents: str
    dates: str
    kept: str
    reader: str
    can_offload: bool
    can_stop: bool
    can_dismiss: bool
    size_bytes: int
    can_pause: bool = False
    can_resume: bool = False
    can_complete: bool = False
    can_recognise: bool = False
    can_take_whole: bool = False
    can_eject: bool = False
    numbers: str = ""
    # Whether something that it waits for does not answer: then advice is shown wherever the card stands.
    is_silent: bool = False
    # Where it is mounted; the current folder where there is nothing to look at, as once it was pulled.
    root: Path = Path()
    # Its name among the cards of its set; nothing for a card by itself.
    short_name: str = ""


def card_row(station: Station, card: CardIn, of: CardSet | None = None, *, whole: bool = True) -> CardRow:
    """A card in words, as it stands now.

    Args:
        station: what is known of cards, readers and places.
        card: the card.
        of: the set that it belongs to.
        whole: whether what its set lacks is said here; else it is said of the set.
    """
    progress = station.progress(card.medium.key)
    found, key = card.card, card.medium.key
    busy = card.stage in {Stage.WAITING, Stage.CROSSING, Stage.COMPARING} and not card.pulled
    paused = station.is_paused(key)
    remark = _remark(card, station.clock_remark(key))
    advice = f"{card.problem.safe} {card.problem.do}" if card.problem is not None else ""
    silent_s = station.silent_for_s(key)
    silence = _silence(card, silent_s, progress)
    if silence is not None:
        remark, advice = silence
    settings = station.shoot.settings
    kept = _kept(card, progress, len(settings.places), settings.copies_wanted)
    if not remark:
        advice = format_words(card, settings.copies_wanted)
    return CardRow(
        key,
        card.name,
        Mark.PROBLEM if silent_s > HANGS_S else _mark(card),
        "Pulled out" if card.pulled else "Leave it in" if card.stage.being_read else "May come out",
        _layout_words(card),
        remark or _set_remark(card, of, whole=whole),
        advice,
        _contents(card),
        _dates(card),
        f"Paused. {kept}" if paused else kept,
        card.medium.reader,
        station.can_offload(key),
        busy,
        can_dismiss(card),
        found.tree.size_bytes if found else 0,
        busy and card.stage is not Stage.WAITING and not paused,
        paused,
        card.stage is Stage.PARTLY and card.proven > 0,
        can_recognise(card),
        card.stage is Stage.PROVEN or waits_for_word(card),
        card.medium.can_eject and not card.stage.being_read and not card.pulled,
        numbers(card),
        silence is not None,
        Path() if card.pulled else card.medium.path,
    )


def _set_remark(card: CardIn, found: CardSet | None, *, whole: bool) -> str:
    """What the card's set lacks, said of the card that it concerns, or of the whole set."""
    if card.card is None or found is None:
        return ""
    paths = {span for clip in card.card.clips for span in clip.spans}
    mine = next((problem.what for problem in found.problems if problem.path in paths), "")
    return mine or (f"Of its set there are {found.words}." if found.missing and whole else "")


def _silence(card: CardIn, silent_s: float, progress: Progress | None) -> tuple[str, str] | None:
    """Who does not answer, reader or place, and what can be done about it."""
    if silent_s > _SILENT_S:
        remark = f"Nothing has come from {card.medium.reader} for {round(silent_s)} s."
        return remark, "The card is unchanged. Wait, or stop it and try another reader."
    parts = progress.parts if progress is not None else ()
    place = max(parts, key=lambda part: part.silent_s, default=None)
    if place is None or place.state != "silent" or place.silent_s <= _SILENT_S:
        return None
    remark = f"{place.name} has not answered for {round(place.silent_s)} s."
    return remark, f"After {HANGS_S:.0f} s it is left behind, and the other copies go on."


def _mark(card: CardIn) -> Mark:
    if card.stage.being_read:
        return Mark.UNDER_WAY
    return {Stage.PROVEN: Mark.PROVEN, Stage.PROBLEM: Mark.PROBLEM, Stage.PARTLY: Mark.PROBLEM}.get(
        card.stage, Mark.EXPECTED
    )


def waits_for_word(card: CardIn) -> bool:
    """Whether all of it was proven before: nothing is copied twice unless the person says so."""
    return card.is_known and card.stage is Stage.LISTED


def _layout_words(card: CardIn) -> str:
    if card.card is None:
        return "Being listed" if card.stage is Stage.LISTING else ""
    if not card.card.layout:
        return "No card structure"
    lens = f", lens {card.card.lens}" if card.card.lens else ""
    return f"{card.card.title}{lens} · structure {'complete' if card.card.complete else 'not complete'}"


def _remark(card: CardIn, clock: str) -> str:
    if card.problem is not None:
        return card.problem.what
    if card.card is None:
        return ""
    return card.card.problems[0].what if card.card.problems else clock


def _contents(card: CardIn) -> str:
    if card.card is None:
        return ""
    parts = [count_text(len(card.card.clips), "clip")]
    if card.card.stills:
        parts.append(count_text(len(card.card.stills), "still"))
    known = card.familiar
    if known is not None and known.files and card.stage in {Stage.LISTED, Stage.PICTURING}:
        files = len(card.card.tree.files)
        parts.append("proven before" if known.files == files else f"{files - known.files} of {files} files new")
    return f"{', '.join(parts)} · {size_text(card.card.tree.size_bytes)}"


def _dates(card: CardIn) -> str:
    times = card.card.times if card.card is not None else None
    if times is None:
        return ""
    first, last = times
    if first.date() == last.date():
        until = f" – {last:%H:%M}" if last != first else ""
        return f"{first.day} {first:%B}, {first:%H:%M}{until}"
    return f"{first.day} {first:%B} – {last.day} {last:%B}"


def _kept(card: CardIn, progress: Progress | None, places: int, wanted: int) -> str:
    """The second of a card's two statements: how much of it is kept."""
    if card.stage.being_read:
        return _under_way(card, progress)
    if card.recognised:
        return f"It is what {_copies_words(card.proven)} hold{'s' if card.proven == 1 else ''}"
    if card.outcome is not None:
        return _proven_words(card, len(card.outcome.result.copies), wanted)
    if card.is_known and card.familiar is not None:
        return f"Proven before in {count_text(len(card.familiar.places), 'place')}, not read again"
    if card.stage is Stage.PROBLEM:
        # An offload that ended without a word may have copied some of it: of that only the copies know.
        return f"0 of {places} copies proven" if places else "Nothing proven yet"
    return "Nothing copied yet" if not card.pulled else f"0 of {places} copies proven"


def _under_way(card: CardIn, progress: Progress | None) -> str:
    if card.stage in {Stage.LISTING, Stage.PICTURING}:
        return "Nothing copied yet"
    if card.stage is Stage.COMPARING:
        return f"Compared with its copies: {progress.percent if progress else 0} %"
    if card.stage is Stage.WAITING or progress is None or not progress.parts:
        return "About to be copied"
    copied, total = min(part.copied for part in progress.parts), progress.parts[0].total
    if copied < total:
        return f"Copying: {size_text(copied)} of {size_text(total)}"
    proven = min(part.proven for part in progress.parts)
    return f"Copied. Read back: {100 * proven // max(1, total)} %" if proven < total else "Read back. Trying the clips"


def _proven_words(card: CardIn, copies: int, wanted: int) -> str:
    if card.proven < copies or card.outcome is None:
        return f"{card.proven} of {copies} copies proven"
    began = card.outcome.result.started.astimezone()
    verb = "is" if card.proven == 1 else "are"
    short = "" if card.disks >= min(wanted, copies) else ", on one disk"
    return f"{_copies_words(card.proven).capitalize()} {verb} proven{short}, {began:%H:%M}"


def _copies_words(count: int) -> str:
    return {1: "the copy", 2: "both copies"}.get(count, f"all {count} copies")
