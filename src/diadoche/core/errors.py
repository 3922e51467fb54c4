"""Every failure that a caller can do something about, and problems as plain data.

The tree is sorted by what the caller does::

    DiadocheError          carries a Problem: what, path, safe, do
      RequestError         what was asked makes no sense: refuse before starting
      SourceError          the card or file that is read
        SourceLost         it is gone: keep what arrived, resume later
        SourceUnreadable   this file cannot be read: name it, go on with the next
      TargetError          where something is written
        TargetFull         no room: this destination drops out
        TargetUnusable     not writable, or gone: this destination drops out
      MediaError           a file that cannot be parsed or decoded: name it, go on
      LedgerError          the database is locked, newer, or damaged

Anything else that escapes is a defect and is shown as one.
"""

from __future__ import annotations

import errno
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Problem:
    """What went less well than it should have, in words a person can act on."""

    what: str
    path: str = ""
    safe: str = ""
    do: str = ""

    def as_dict(self) -> dict[str, str]:
        """The problem as the command line's JSON has it."""
        return asdict(self)

    def sentence(self) -> str:
        """All of it as one line of prose."""
        return " ".join(part for part in (self.what, self.safe, self.do) if part)


class DiadocheError(Exception):
    """Base of every expected failure."""

    def __init__(self, what: str, *, path: Path | str = "", safe: str = "", do: str = "") -> None:
        super().__init__(what)
        self.problem = Problem(what, str(path), safe, do)


class RequestError(DiadocheError):
    """What was asked for makes no sense; nothing was started."""


class SourceError(DiadocheError):
    """Something about what is read."""


class SourceLost(SourceError):
    """The card or disk that is read is gone."""


class SourceUnreadable(SourceError):
    """One file cannot be read."""


class TargetError(DiadocheError):
    """Something about where is written."""


class TargetFull(TargetError):
    """No room is left."""


class TargetUnusable(TargetError):
    """It cannot be written to."""


class MediaError(DiadocheError):
    """A media file that cannot be parsed or decoded."""


class LedgerError(DiadocheError):
    """The ledger cannot be used."""


class LedgerRefuses(LedgerError):
    """The ledger is damaged, or holds something against what was to be written: another try ends as this one did."""


def _is_there(root: Path) -> bool:
    # A pulled disk may still have a name: asking it anything at all fails then.
    try:
        root.stat()
    except OSError:
        return False
    return True


_NO_ROOM = frozenset({errno.ENOSPC, errno.EDQUOT, errno.EFBIG})


def problem_of_disk(error: OSError) -> Problem:
    """What a disk, reader or share said no to, wherever that was met: it is gone, fails, or gives no right to it."""
    where = error.filename if isinstance(error.filename, str | bytes) else ""
    path = where.decode("utf-8", "replace") if isinstance(where, bytes) else where
    return Problem(
        f"{path or 'A disk'} cannot be reached: {error.strerror or error}.",
        path,
        "Copies and outputs that were finished stand; nothing half-made stands under a final name.",
        "Look at its disk, reader or share, then start it again.",
    )


@contextmanager
def reading(path: Path, root: Path | None = None) -> Iterator[None]:
    """Turns an OSError met while reading `path` into one of ours.

    Args:
        path: the file that is read.
        root: the card's top folder; when that is gone too, the whole source is lost.

    Raises:
        SourceLost: the root is no longer there.
        SourceUnreadable: only this file fails.
    """
    try:
        yield
    except OSError as error:
        if root is not None and not _is_there(root):
            raise SourceLost(
                f"The card at {root} went away while {path.name} was being read.",
                path=path,
                safe="What had arrived whole is kept; the card itself was not changed.",
                do="Put the same card back in and offload it again: it goes on where it stopped.",
            ) from error
        raise SourceUnreadable(
            f"{path.name} cannot be read: {error.strerror or error}.",
            path=path,
            safe="The other files are not affected.",
            do="Try the card in another reader, then offload again.",
        ) from error


@contextmanager
def writing(path: Path) -> Iterator[None]:
    """Turns an OSError met while writing `path` into one of ours.

    Raises:
        TargetFull: no room, a quota, or a file too large for the filesystem.
        TargetUnusable: anything else.
    """
    try:
        yield
    except OSError as error:
        kept = "Nothing half-written stands there under a final name."
        if error.errno in _NO_ROOM:
            raise TargetFull(
                f"No room is left for {path.name}.",
                path=path,
                safe=kept,
                do="Make room there, or choose another place.",
            ) from error
        raise TargetUnusable(
            f"{path.name} cannot be written: {error.strerror or error}.",
            path=path,
            safe=kept,
            do="Check that the place is there and may be written to.",
        ) from error
