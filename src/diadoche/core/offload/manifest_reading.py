"""What the manifests of a copy say together: ASC Media Hash Lists, version 2, of ours or of any other tool.

Source: [ASCMHL] ASC MHL Specification v2.0, sections 4 (history) and 5 (hash list).
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from lxml import etree

from diadoche.core.answering import Calls
from diadoche.core.errors import MediaError
from diadoche.core.names import is_inside, shown
from diadoche.core.offload.digests import C4, MANIFEST_DIGESTS
from diadoche.core.offload.expected import CardTruth, ExpectedFile, Promise, held_against_card
from diadoche.core.offload.identity import NO_IDENTITY, CopyIdentity, checked_id
from diadoche.core.offload.journal import checked_digest_texts
from diadoche.core.offload.manifest_chain import LARGEST_BYTES, generations, parser, read_chain
from diadoche.core.offload.manifest_words import ABOUT, FOLDER, LESS_THAN_WHOLE, MHL, NOT_WHOLE, SIDE_LIST, TOOL
from diadoche.core.open_folder import OpenFolder


def read_history(root: Path, calls: Calls | None = None, card: CardTruth | None = None) -> Promise:
    """What the manifests of `root` promise together; later generations win, but for digests that they call failed.

    Args:
        root: the copy.
        calls: follows what may hang with its disk.
        card: what the ledger kept of the card's own reading; it stands above what manifests say.

    Raises:
        MediaError: there is no manifest, or one is no ASC MHL.
    """
    with _reading_manifests(root):
        with calls or Calls():
            copy = OpenFolder.at(root)
        with copy:
            return held_against_card(read_open_history(copy, calls), card)


def read_open_history(copy: OpenFolder, calls: Calls | None = None) -> Promise:
    """The same of a copy that is held open, by its manifests alone.

    Raises:
        MediaError: there is no manifest, or one is no ASC MHL.
        OSError: they cannot be read.
    """
    calls = calls or Calls()
    with calls:
        manifests = generations(copy)
    if not manifests:
        raise MediaError(
            f"{copy.path} has no manifest to check against.",
            path=copy.path,
            safe="Nothing was changed.",
            do="Point at the folder that holds a folder called ascmhl.",
        )
    reading = _Reading()
    with calls:
        chain = read_chain(copy)
    for name in manifests:
        with calls:
            data = copy.read(f"{FOLDER}/{name}", LARGEST_BYTES)
        reading.altered |= not chain.vouches_for(name, data)
        _read_one(copy, name, data, reading, calls)
    chain.problems += [
        f"The chain file names a manifest {shown(name)}, which is not there."
        for name in sorted(chain.digests.keys() - set(manifests))
    ]
    reading.altered |= bool(chain.problems)
    return reading.promise(chain.problems)


def identity_of(root: Path) -> CopyIdentity:
    """Which copy a folder says it is, by its newest manifest of ours; nothing where it says none, or cannot be read."""
    try:
        with OpenFolder.at(root) as copy:
            for name in reversed(generations(copy)):
                about = _about(etree.fromstring(copy.read(f"{FOLDER}/{name}", LARGEST_BYTES), parser()))
                if about is not None:
                    return _identity(about)
    except (OSError, etree.XMLSyntaxError):
        return NO_IDENTITY
    return NO_IDENTITY


@contextmanager
def _reading_manifests(root: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise MediaError(
            f"The manifests of {root} cannot be read: {error.strerror or error}.",
            path=root,
            safe="Nothing was changed.",
            do="Look at its disk, or use another copy of this card.",
        ) from error


@dataclass(slots=True)
class _Reading:
    """What the generations that were read so far say, by the names that files have after them."""

    digests: dict[str, dict[str, str]] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    # By what name each came off the card, where that is another.
    on_card: dict[str, str] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)
    not_whole: bool = False
    less_than_whole: bool = False
    altered: bool = False
    identity: CopyIdentity = NO_IDENTITY

    def promise(self, chain_problems: list[str]) -> Promise:
        files = {
            name: ExpectedFile(self.on_card.get(name, name), name, digests, self.sizes.get(name))
            for name, digests in self.digests.items()
        }
        return Promise(
            files,
            (*chain_problems, *self.problems),
            tuple(self.ignored),
            self.not_whole,
            self.less_than_whole,
            self.altered,
            self.identity,
        )

    def renamed(self, previous: str, name: str) -> None:
        """A file has another name from now on: the one it had in this copy's source, or on the card."""
        if previous in self.digests:
            self.digests.setdefault(name, {}).update(self.digests.pop(previous))
            if (size := self.sizes.pop(previous, None)) is not None:
                self.sizes[name] = size
            self.on_card[name] = self.on_card.pop(previous, previous)
        else:
            self.on_card.setdefault(name, previous)


def _about(top: etree._Element) -> etree._Element | None:
    return top.find(f"{MHL}metadata/{ABOUT}")


def _identity(about: etree._Element) -> CopyIdentity:
    return CopyIdentity(checked_id(about.get("taking")), checked_id(about.get("copy")))


def _read_one(copy: OpenFolder, name: str, data: bytes, reading: _Reading, calls: Calls) -> None:
    try:
        top = etree.fromstring(data, parser())
    except etree.XMLSyntaxError as error:
        raise MediaError(
            f"{shown(name)} is no manifest: {error.msg}.",
            path=copy.path / FOLDER / name,
            safe="Nothing was changed.",
            do="Restore the manifest from another copy of this card.",
        ) from error
    reading.ignored.extend(element.text or "" for element in top.iter(f"{MHL}pattern"))
    about = _about(top)
    ours = top.findtext(f"{MHL}creatorinfo/{MHL}tool", "") == TOOL
    if about is not None:
        reading.identity = _identity(about)
        reading.not_whole = about.get("whole") != "true"
        reading.less_than_whole = about.get("asked") != "card"
    elif ours:
        comment = top.findtext(f"{MHL}creatorinfo/{MHL}comment", "")
        reading.not_whole = NOT_WHOLE in comment
        reading.less_than_whole |= LESS_THAN_WHOLE in comment
    # Names move first, all of them: two files may have exchanged theirs.
    for entry in top.iter(f"{MHL}hash"):
        _read_entry(entry, reading, ours=ours)
    with calls:
        _read_side_list(copy, name, about, reading)


def _read_entry(entry: etree._Element, reading: _Reading, *, ours: bool) -> None:
    at = entry.find(f"{MHL}path")
    name = (at.text or "") if at is not None else ""
    if at is None or not is_inside(name):
        reading.problems.append(f"The manifest names {shown(name)}, which lies outside this folder: not followed.")
        return
    previous = entry.findtext(f"{MHL}previousPath")
    if previous and previous != name:
        reading.renamed(previous, name)
    known = reading.digests.setdefault(name, {})
    for kind in MANIFEST_DIGESTS:
        for element in entry.iterfind(f"{MHL}{kind}"):
            _read_digest(name, kind, element, known, reading, ours=ours)
    size = at.get("size", "")
    if size.isascii() and size.isdigit():
        reading.sizes[name] = int(size)


def _read_digest(
    name: str, kind: str, element: etree._Element, known: dict[str, str], reading: _Reading, *, ours: bool
) -> None:
    text, action = (element.text or "").strip(), element.get("action", "")
    if not text or action == "failed":
        # What a check found damaged is not what the file was [ASCMHL, section 5].
        return
    if known.get(kind, text) == text:
        known[kind] = text
        return
    if action == "verified":
        reading.problems.append(f"The manifests contradict each other about {shown(name)}: the earlier one counts.")
        return
    if not ours:
        reading.problems.append(f"The manifests contradict each other about {shown(name)}: the later one counts.")
    # Listed anew: nothing that was known of the bytes before holds for these.
    known.clear()
    known[kind] = text


def _read_side_list(copy: OpenFolder, manifest: str, about: etree._Element | None, reading: _Reading) -> None:
    """Names that XML cannot hold, a line each; a line that makes no sense is told, not followed."""
    name = f"{manifest.removesuffix('.mhl')}{SIDE_LIST}"
    wanted = about.get("names", "") if about is not None else ""
    try:
        data = copy.read(f"{FOLDER}/{name}", LARGEST_BYTES)
    except FileNotFoundError:
        if wanted:
            reading.problems.append(f"The list {shown(name)} of names that XML cannot hold is missing.")
            reading.altered = True
        return
    if about is not None and wanted != C4(data).hexdigest():
        reading.problems.append(f"The list {shown(name)} was changed after it was written.")
        reading.altered = True
    for number, line in enumerate(data.split(b"\n"), start=1):
        if line:
            _read_side_line(line, f"Line {number} of {shown(name)}", reading)


def _read_side_line(line: bytes, where: str, reading: _Reading) -> None:
    try:
        value = json.loads(line)
    except (ValueError, RecursionError):
        value = None
    name = value.get("path") if isinstance(value, dict) else None
    digests = checked_digest_texts(value.get("digests")) if isinstance(value, dict) else {}
    if not isinstance(name, str) or not is_inside(name) or not digests:
        reading.problems.append(f"{where} makes no sense, or leads out of this folder: left out.")
        return
    previous = value.get("previous_path")
    if isinstance(previous, str) and previous != name:
        reading.renamed(previous, name)
    reading.digests[name] = digests
    if isinstance(size := value.get("size_bytes"), int):
        reading.sizes[name] = size
