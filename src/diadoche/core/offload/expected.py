"""What every file of a copy has to be: made in one place, and asked by everybody who reads copies.

What was read off the card is the truth for ever. The manifests of a copy are its word for that, as long as their chain
vouches for them; where it does not, their word counts for nothing until the files are held against the card's own
digests, which the ledger keeps.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

from diadoche.core.names import shown
from diadoche.core.offload.digest_file import agree, contradict
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity


class Outcome(StrEnum):
    """What comparing a file with what it has to be says."""

    EQUAL = "equal"
    DIFFERS = "differs"
    MISSING = "missing"
    EXTRA = "extra"
    NOT_COMPARED = "not compared"


@dataclass(frozen=True, slots=True)
class ExpectedFile:
    """A file that a copy has to hold.

    `path` is its name on the card, `kept_as` its name in the copy; `digests` are all that are known of it, by kind.
    `from_card`: they are what the ledger kept of the card's own reading, and not the manifests' word alone.
    """

    path: str
    kept_as: str
    digests: Mapping[str, str]
    size_bytes: int | None = None
    from_card: bool = False

    def outcome(self, found: Mapping[str, str] | None) -> Outcome:
        """What digests of the file that stands there say of it; `found` is None where none does."""
        if found is None:
            return Outcome.MISSING
        if contradict(self.digests, found):
            return Outcome.DIFFERS
        return Outcome.EQUAL if agree(self.digests, found) else Outcome.NOT_COMPARED


@dataclass(frozen=True, slots=True)
class CardFile:
    """A file as it was read off a card."""

    digests: Mapping[str, str]
    size_bytes: int


@dataclass(frozen=True, slots=True)
class CardTruth:
    """What the ledger kept of the readings of a card, by the card's paths; and how files were renamed in one copy."""

    files: Mapping[str, CardFile] = field(default_factory=dict)
    renamed: Mapping[str, str] = field(default_factory=dict)
    taking: str = ""


@dataclass(frozen=True, slots=True)
class Promise:
    """What a copy has to hold, by the names that its files have in it, and what its manifests say of it.

    `not_whole` and `less_than_whole`: it does not have all that was asked for, or less than the card was asked for.
    `altered`: its manifests are not as they were written, or nothing vouches for that.
    """

    files: Mapping[str, ExpectedFile]
    problems: tuple[str, ...] = ()
    ignored: tuple[str, ...] = ()
    not_whole: bool = False
    less_than_whole: bool = False
    altered: bool = False
    identity: CopyIdentity = NO_IDENTITY

    @property
    def digests(self) -> dict[str, Mapping[str, str]]:
        """The digests of every file, by its name in the copy."""
        return {name: file.digests for name, file in self.files.items()}

    @property
    def counts(self) -> bool:
        """Whether what it says may be believed: the chain vouches for it, or the card's own reading does."""
        return not self.altered or (bool(self.files) and all(file.from_card for file in self.files.values()))

    @property
    def size_bytes(self) -> int:
        """All files together, as far as sizes are told."""
        return sum(file.size_bytes or 0 for file in self.files.values())


def held_against_card(promise: Promise, card: CardTruth | None) -> Promise:
    """The promise with what was read off the card in place of what manifests say otherwise.

    Of altered manifests nothing is left but the names; what the card had beside that is expected too.
    """
    if card is None or not card.files:
        # Altered or not, files are compared with what is listed: `counts` says what that is worth.
        return promise
    problems: list[str] = []
    files: dict[str, ExpectedFile] = {}
    for name, file in promise.files.items():
        truth = card.files.get(file.path)
        if truth is None:
            files[name] = replace(file, digests={}) if promise.altered else file
            continue
        if contradict(truth.digests, file.digests):
            problems.append(
                f"The manifest says of {shown(name)} otherwise than what came off the card: the card counts."
            )
        believed = {} if promise.altered or contradict(truth.digests, file.digests) else file.digests
        files[name] = ExpectedFile(file.path, name, {**believed, **truth.digests}, truth.size_bytes, from_card=True)
    if promise.altered:
        listed = {file.path for file in files.values()}
        for path, truth in card.files.items():
            if path not in listed:
                kept_as = card.renamed.get(path, path)
                files[kept_as] = ExpectedFile(path, kept_as, truth.digests, truth.size_bytes, from_card=True)
    return replace(promise, files=files, problems=(*promise.problems, *problems))


def promise_of_card(card: CardTruth) -> Promise:
    """What a folder that lost its manifests has to hold, by the card's own reading alone."""
    files = {
        kept_as: ExpectedFile(path, kept_as, truth.digests, truth.size_bytes, from_card=True)
        for path, truth in card.files.items()
        for kept_as in (card.renamed.get(path, path),)
    }
    return Promise(files, altered=True, identity=CopyIdentity(card.taking))
