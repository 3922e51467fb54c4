"""Which copies stand, by what the ledger knows: of a card that comes again, of a clip that is wanted, of a folder."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from diadoche.core.cards.card import Card
from diadoche.core.errors import RequestError
from diadoche.core.offload.journal import is_unfinished, read_journal
from diadoche.core.watch import Watch
from diadoche.services.jobs.copy_on import ORIGINALS
from diadoche.services.ledger.copies import is_here
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.proven_files import proven_files
from diadoche.services.ledger.waybills import waybills


@dataclass(frozen=True, slots=True)
class Familiar:
    """What of a card stands in proven copies that are here now, by a quick recognition.

    `places` say where all of what was found stands, `card` is the name it had then, and `disks` counts on how many
    disks, known to be different, every single file of it is.
    """

    clips: int
    files: int
    paths: frozenset[str]
    digests: dict[str, dict[str, str]] = field(default_factory=dict)
    places: tuple[str, ...] = ()
    card: str = ""
    disks: int = 0


def familiar(ledger: Ledger, card: Card, *, just_read: bool = False) -> Familiar:
    """How much of a card was here before, and is here now. It looks at disks: not for the window's thread.

    `just_read`: it was read this moment, and may be out of its reader; else samples of it are compared with the copies.
    """
    found = proven_files(ledger, card.tree.files, None if just_read else card.root)
    everywhere: list[str] | None = None
    for file in found.values():
        places = [copy.destination for copy in file.copies]
        everywhere = places if everywhere is None else [each for each in everywhere if each in places]
    return Familiar(
        sum(all(span in found for span in clip.spans) for clip in card.clips),
        len(found),
        frozenset(found),
        {path: file.digests for path, file in found.items()},
        tuple(dict.fromkeys(everywhere or ())),
        next((file.card for file in found.values()), ""),
        min((file.disks for file in found.values()), default=0),
    )


def holders(ledger: Ledger, wanted: str) -> tuple[Path, ...]:
    """The copies that are here now and may have a clip or a file, the newest first."""
    copies = (copy for entry in waybills(ledger, Path(wanted).name) for copy in entry.copies if copy.may_be_read)
    # One that was renamed there is called otherwise in its own copy.
    return tuple(dict.fromkeys(Path(copy.root) for copy in copies if is_here(copy)))


def known_roots(ledger: Ledger) -> frozenset[str]:
    """Every copy that the ledger knows."""
    return frozenset(copy.root for entry in waybills(ledger) for copy in entry.copies)


def place_below(ledger: Ledger, root: Path, to: Path) -> Path:
    """Where a copy of `root` goes below another place: under the same folders as it has below its own."""
    for entry in waybills(ledger):
        for copy in entry.copies:
            if Path(copy.root) == root and root.is_relative_to(copy.destination):
                return to / root.relative_to(copy.destination)
    parts = root.parts
    if ORIGINALS in parts:
        return to.joinpath(*parts[parts.index(ORIGINALS) - 1 :])
    return to / root.name


def good_copy_for(ledger: Ledger, unfinished: Path, watch: Watch) -> Path:
    """A proven copy of the card that an unfinished copy is of.

    Raises:
        RequestError: the folder is no unfinished copy, or no proven copy of its card is here now.
    """
    journal = read_journal(unfinished)
    if journal is None:
        raise RequestError(f"{unfinished} is not an unfinished copy.", path=unfinished, do="Point at one.")
    candidates = [
        copy
        for entry in waybills(ledger)
        for copy in entry.copies
        if copy.may_be_read
        and (entry.fingerprint == journal.fingerprint or (copy.taking and copy.taking == journal.identity.taking))
    ]
    # Of the very same taking first; whether another one is of the same card, its bytes have to show (`plan_onward`).
    for copy in sorted(candidates, key=lambda each: each.taking != journal.identity.taking):
        if is_here(copy) and not is_unfinished(Path(copy.root)):
            return Path(copy.root)
    watch.check()
    raise RequestError(
        f"No proven copy of the card of {unfinished} is here now.",
        path=unfinished,
        safe="Nothing was changed.",
        do="Plug in the disk with a proven copy, or offload the card again.",
    )
