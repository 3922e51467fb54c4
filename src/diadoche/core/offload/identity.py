"""Which copy a folder is: of which taking of a card, and which of its copies.

Both are random, made when a folder is begun, and written into its journal, its manifests and the ledger. Names, places
and even contents can be alike by chance or by somebody's hand; these cannot. A folder that was copied by hand carries
the identity of the one it was copied from: a twin.
"""

from __future__ import annotations

import re
import secrets
from dataclasses import dataclass

_ID = re.compile(r"[0-9a-f]{32}")


@dataclass(frozen=True, slots=True)
class CopyIdentity:
    """The taking of a card that a copy is of, and the copy; empty where an older version made it, or another tool."""

    taking: str = ""
    copy: str = ""


NO_IDENTITY = CopyIdentity()


def new_id() -> str:
    """An id that nothing else has."""
    return secrets.token_hex(16)


def checked_id(value: object) -> str:
    """An id as a file from outside gives it; empty where it is none."""
    return value if isinstance(value, str) and _ID.fullmatch(value) else ""


def same_taking(one: CopyIdentity, other: CopyIdentity) -> bool:
    """Whether two copies are known to be of one taking of one card."""
    return bool(one.taking) and one.taking == other.taking
