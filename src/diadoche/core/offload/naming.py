"""Names of folders and copies, built from tokens and shown on a real clip before anything is written.

A pattern is text with tokens in braces: `{day}/{camera}`. Each part between slashes becomes one folder.
The folder of one taking ends in a counter of its own, so that two cards never share a tree.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime

from diadoche.core.errors import RequestError
from diadoche.core.names import safe_name

TOKENS = {
    "shoot": "the shoot's name",
    "person": "who filmed, or who offloads",
    "day": "the day of the first recording, 2026-06-14",
    "time": "when the first recording began, 0942",
    "camera": "the camera's name",
    "card": "the card's own name",
    "reel": "the reel that the card carries, or its own name",
    "clip": "the name of the first clip",
}
USUAL_FOLDERS = "{shoot}/Originals/{day}/{camera}"
USUAL_CARD = "card"
_TOKEN = re.compile(r"\{([^{}]*)\}")


@dataclass(frozen=True, slots=True)
class Naming:
    """How a shoot names its folders. `card` is what stands in front of the counter."""

    folders: str = USUAL_FOLDERS
    card: str = USUAL_CARD


USUAL_NAMING = Naming()


@dataclass(frozen=True, slots=True)
class NamingValues:
    """What a card is filed under: what the tokens stand for on it."""

    shoot: str
    day: date
    camera: str
    person: str = ""
    card: str = ""
    reel: str = ""
    clip: str = ""
    time: datetime | None = None

    def values(self) -> Mapping[str, str]:
        """Each token's text."""
        return {
            "shoot": self.shoot,
            "person": self.person,
            "day": self.day.isoformat(),
            "time": f"{self.time:%H%M}" if self.time else "",
            "camera": self.camera,
            "card": self.card,
            "reel": self.reel or self.card,
            "clip": self.clip,
        }


def checked_naming(naming: Naming) -> Naming:
    """The naming, when it makes sense.

    Raises:
        RequestError: an unknown token, a brace that stands alone, or a path that leaves its place.
    """
    for pattern in (naming.folders, naming.card):
        for token in _TOKEN.findall(pattern):
            if token not in TOKENS:
                raise RequestError(
                    f"There is no token called {token or 'nothing'}.", do=f"Choose from {', '.join(TOKENS)}."
                )
        if re.search(r"[{}]", _TOKEN.sub("", pattern)):
            raise RequestError(f"A brace stands alone in {pattern}.", do="Write tokens like {day}.")
        if any(part.strip() in {".", ".."} for part in pattern.split("/")):
            raise RequestError(f"{pattern} leaves the place for copies.", do="Write plain folder names.")
    if not naming.folders.strip("/ "):
        raise RequestError("The folders need a name.", do=f"The usual one is {USUAL_FOLDERS}.")
    if "/" in naming.card:
        raise RequestError("The card's own folder is one name.", do="Put slashes into the folders above it.")
    return naming


def folder_parts(naming: Naming, taking: NamingValues) -> tuple[str, ...]:
    """The folders above a card's own, outermost first; tokens that are empty leave no gap behind."""
    parts = []
    for part in checked_naming(naming).folders.strip("/").split("/"):
        text = _filled(part, taking)
        if text:
            parts.append(text)
    return tuple(parts) or (safe_name(taking.shoot, "Shoot"),)


def card_folder(naming: Naming, taking: NamingValues, counter: int) -> str:
    """The folder of one taking."""
    return f"{_filled(naming.card, taking) or USUAL_CARD}-{counter:03}"


def _filled(pattern: str, taking: NamingValues) -> str:
    values = taking.values()
    tokens = _TOKEN.findall(pattern)
    text = _TOKEN.sub(lambda match: safe_name(values[match[1]], ""), pattern)
    if any(not values[token] for token in tokens):
        # "boat--0001" for a token that is empty in the middle reads like a mistake.
        text = re.sub(r"([-_ ])[-_ ]+", r"\1", text).strip("-_ ")
    return safe_name(text, "")
