"""ASC Media Hash List, version 2: written for a copy, read from any folder.

Sources: [ASCMHL] ASC MHL Specification v2.0, sections 4 (history), 5 (hash list), 6 (directory
hashes) and 7 (chain file).
"""

from __future__ import annotations

import json
import socket
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

from lxml import etree

from diadoche.core.answering import Calls
from diadoche.core.cards.tree import FolderEntry
from diadoche.core.diskfiles import rename_new, write_whole
from diadoche.core.errors import MediaError
from diadoche.core.names import fits_xml, is_inside, shown, unique_name
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.digests import C4, DIGESTS, MANIFEST_DIGESTS, digest_bytes
from diadoche.core.offload.journal import CopiedFile, checked_digest_texts
from diadoche.core.offload.kept_names import MANIFEST_FOLDER
from diadoche.core.offload.lists import list_text
from diadoche.core.offload.manifest_words import LESS_THAN_WHOLE, NOT_WHOLE

FOLDER = MANIFEST_FOLDER
_TOOL = "diadoche"
CHAIN_NAME = "ascmhl_chain.xml"
_NS = "urn:ASC:MHL:v2.0"
_SIDE_LIST = ".unlisted.jsonl"
_CHAIN_NS = "urn:ASC:MHL:DIRECTORY:v2.0"


@dataclass(frozen=True, slots=True)
class ManifestRequest:
    """What a new generation says. `comment` says what the copy lacks, when it lacks something."""

    files: tuple[CopiedFile, ...]
    folders: tuple[FolderEntry, ...]
    changed_ns: dict[str, int]
    digests: tuple[str, ...]
    version: str
    now: datetime
    comment: str = ""
    # What earlier generations say: a file that reads as they say was verified, any other is listed for the first time.
    known: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Listed:
    """What all generations together say of a folder: for each path, digests by name, and sizes where they are told.

    `not_whole` and `less_than_whole` are what we ourselves said of the copy when it was made.
    """

    digests: dict[str, dict[str, str]]
    problems: tuple[str, ...] = ()
    ignored: tuple[str, ...] = ()
    sizes: dict[str, int] = field(default_factory=dict)
    not_whole: bool = False
    less_than_whole: bool = False


def write_manifest(root: Path, request: ManifestRequest, calls: Calls | None = None) -> Path:
    """Adds a generation to the history of `root` and to its chain.

    Names that XML cannot hold go, escaped, to a list beside it, and the manifest says so. `calls` follows what may hang
    with the disk, and not the arithmetic between: a manifest of a hundred thousand files takes a while.

    Raises:
        OSError: the folder cannot be written to.
    """
    folder, calls = root / FOLDER, calls or Calls()
    with calls:
        folder.mkdir(exist_ok=True)
        number = 1 + max((_number(path) for path in _generations(folder)), default=0)
    if number > 1:
        with suppress(MediaError):
            request = replace(request, known=read_history(root, calls).digests)
    stamp = request.now.astimezone(UTC).strftime("%Y-%m-%d_%H%M%SZ")
    path = folder / f"{number:04}_{root.name}_{stamp}.mhl"
    unlisted = [file for file in request.files if not fits_xml(file.kept_as)]
    if unlisted:
        # JSON's escapes are plain ASCII and can be read back to the very bytes of the name.
        lines = [json.dumps({"path": file.kept_as, "digests": file.digests}) for file in unlisted]
        with calls:
            write_whole(path.with_suffix(_SIDE_LIST), ("\n".join(lines) + "\n").encode("ascii"))
    data = etree.tostring(
        _hash_list(request, bool(unlisted)), pretty_print=True, xml_declaration=True, encoding="UTF-8"
    )
    with calls:
        write_whole(path, data)
    if "sha256" in request.digests:
        text = list_text("sha256", request.files)
        with calls:
            write_whole(path.with_suffix(".sha256"), text)
    with calls:
        _extend_chain(folder, number, path.name, data)
    return path


def carry_history(source: Path, root: Path) -> None:
    """Brings the manifests of a copy to a copy of it, so that its chain goes on there; what stands there stays.

    Raises:
        OSError: the folder cannot be written to.
    """
    folder = root / FOLDER
    if folder.exists() and _generations(folder):
        return
    folder.mkdir(exist_ok=True)
    # The chain last: it vouches for the others.
    for path in sorted((source / FOLDER).iterdir(), key=lambda each: (each.name == CHAIN_NAME, each.name)):
        if path.is_file():
            write_whole(folder / path.name, path.read_bytes())


def _generations(folder: Path) -> list[Path]:
    return sorted(folder.glob("*.mhl"), key=lambda path: (_number(path), path.name))


def _number(path: Path) -> int:
    digits = path.name.partition("_")[0]
    return int(digits) if digits.isascii() and digits.isdigit() else 0


def _time(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="seconds")


def _hash_list(request: ManifestRequest, has_unlisted: bool) -> etree._Element:
    top = etree.Element(f"{{{_NS}}}hashlist", nsmap={None: _NS}, version="2.0")  # type: ignore[dict-item]  # the stubs forget the default namespace
    creator = _add(top, "creatorinfo")
    _add(creator, "creationdate", _time(request.now))
    _add(creator, "hostname", socket.gethostname())
    _add(creator, "tool", _TOOL, version=request.version)
    comment = request.comment
    if has_unlisted:
        comment = f"{comment} Names that XML cannot hold are in the list beside this manifest: it is not whole.".strip()
    if comment:
        _add(creator, "comment", comment)
    process = _add(top, "processinfo")
    _add(process, "process", "transfer")
    files = [file for file in request.files if fits_xml(file.kept_as)]
    hashes = _DirectoryHashes(files, [folder.path for folder in request.folders if fits_xml(folder.path)], request)
    hashes.put_into(_add(process, "roothash"), "")
    ignore = _add(process, "ignore")
    for pattern in (FOLDER, f"{FOLDER}/"):
        _add(ignore, "pattern", pattern)
    listed = _add(top, "hashes")
    for file in files:
        action = "verified" if agree(request.known.get(file.kept_as, {}), file.digests) else "original"
        entry = _add(listed, "hash")
        _add(entry, "path", file.kept_as, size=str(file.size_bytes), **_changed(request.changed_ns[file.path]))
        for name in sorted(name for name in file.digests if name in MANIFEST_DIGESTS):
            _add(entry, name, file.digests[name], action=action, hashdate=_time(request.now))
    for path in hashes.folders:
        entry = _add(listed, "directoryhash")
        _add(entry, "path", path)
        hashes.put_into(entry, path)
    return top


def _changed(changed_ns: int) -> dict[str, str]:
    """The attribute for a time, where the calendar reaches that far."""
    try:
        return {"lastmodificationdate": _time(datetime.fromtimestamp(changed_ns // 10**9, UTC))}
    except (OverflowError, ValueError, OSError):
        return {}


def _add(parent: etree._Element, tag: str, text: str | None = None, **attributes: str) -> etree._Element:
    element = etree.SubElement(parent, f"{{{_NS}}}{tag}", attributes)
    element.text = text
    return element


class _DirectoryHashes:
    """Content and structure digests of every folder, from the innermost outwards [ASCMHL, section 6]."""

    def __init__(self, files: list[CopiedFile], folders: list[str], request: ManifestRequest) -> None:
        self.folders = sorted(folders, key=lambda path: (path.count("/"), path))
        self._names = [name for name in request.digests if name in MANIFEST_DIGESTS]
        self._now = _time(request.now)
        self._content: dict[tuple[str, str], str] = {}
        self._structure: dict[tuple[str, str], str] = {}
        inside: dict[str, list[tuple[str, CopiedFile | None]]] = {path: [] for path in ["", *self.folders]}
        for file in files:
            inside.setdefault(_parent(file.kept_as), []).append((file.kept_as, file))
        for path in self.folders:
            inside[_parent(path)].append((path, None))
        for path in [*reversed(self.folders), ""]:
            for name in self._names:
                self._add_up(path, name, inside[path])

    def _add_up(self, folder: str, name: str, inside: list[tuple[str, CopiedFile | None]]) -> None:
        contents, structures = [], []
        for path, file in inside:
            content = file.digests[name] if file else self._content[path, name]
            for_structure = content if file else self._structure[path, name]
            contents.append(content)
            own_name = PurePosixPath(path).name.encode()
            structures.append(_digest_text(name, [own_name + digest_bytes(for_structure, name)]))
        self._content[folder, name] = _of_list(name, contents)
        self._structure[folder, name] = _of_list(name, structures)

    def put_into(self, element: etree._Element, folder: str) -> None:
        """Writes the digests of one folder below an element."""
        for tag, values in (("content", self._content), ("structure", self._structure)):
            group = _add(element, tag)
            for name in sorted(self._names):
                _add(group, name, values[folder, name], hashdate=self._now)


def _parent(path: str) -> str:
    return path.rpartition("/")[0]


def _of_list(name: str, texts: list[str]) -> str:
    return _digest_text(name, [digest_bytes(text, name) for text in sorted(texts)])


def _digest_text(name: str, pieces: Iterable[bytes]) -> str:
    digest = DIGESTS[name]()
    for piece in pieces:
        digest.update(piece)
    return digest.hexdigest()


def _extend_chain(folder: Path, number: int, manifest_name: str, data: bytes) -> None:
    path = folder / CHAIN_NAME
    try:
        top = etree.fromstring(path.read_bytes(), _parser()) if path.exists() else _new_chain()
    except etree.XMLSyntaxError:
        # It vouches for nothing any more: it stays beside a new one, which knows the manifests as they are now.
        rename_new(path, path.with_name(unique_name("damaged_chain.xml", lambda name: path.with_name(name).exists())))
        top = _new_chain()
    linked = {entry.findtext(f"{{{_CHAIN_NS}}}path", "") for entry in top.iterfind(f"{{{_CHAIN_NS}}}hashlist")}
    for earlier in _generations(folder):
        # A kill between a manifest and its link leaves it out of the chain; with the next generation it comes in.
        if earlier.name != manifest_name and earlier.name not in linked:
            _add_link(top, _number(earlier), earlier.name, earlier.read_bytes())
    _add_link(top, number, manifest_name, data)
    write_whole(path, etree.tostring(top, pretty_print=True, xml_declaration=True, encoding="UTF-8"))


def _new_chain() -> etree._Element:
    return etree.Element(f"{{{_CHAIN_NS}}}ascmhldirectory", nsmap={None: _CHAIN_NS})  # type: ignore[dict-item]  # as above


def _add_link(top: etree._Element, number: int, manifest_name: str, data: bytes) -> None:
    entry = etree.SubElement(top, f"{{{_CHAIN_NS}}}hashlist", sequencenr=str(number))
    etree.SubElement(entry, f"{{{_CHAIN_NS}}}path").text = manifest_name
    etree.SubElement(entry, f"{{{_CHAIN_NS}}}c4").text = C4(data).hexdigest()


def _parser() -> etree.XMLParser:
    # Manifests come from strangers' disks: no entities, no network, no huge documents.
    return etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, remove_comments=True)


def read_history(root: Path, calls: Calls | None = None) -> Listed:
    """What the manifests of `root` say together; later generations win, but for digests that they call failed.

    Args:
        root: the copy.
        calls: follows what may hang with its disk.

    Raises:
        MediaError: there is no manifest, or one is no ASC MHL.
    """
    folder, calls = root / FOLDER, calls or Calls()
    with _reading_manifests(root):
        with calls:
            manifests = _generations(folder)
        if not manifests:
            raise MediaError(
                f"{root} has no manifest to check against.",
                path=root,
                safe="Nothing was changed.",
                do="Point at the folder that holds a folder called ascmhl.",
            )
        state = _Reading()
        chained = _chained_digests(folder, state)
        for path in manifests:
            with calls:
                data = path.read_bytes()
            wanted = chained.get(path.name)
            if wanted is None and chained:
                state.problems.append(f"The manifest {path.name} is not in the chain file.")
            if wanted is not None and wanted != C4(data).hexdigest():
                state.problems.append(f"The manifest {path.name} was changed after it was written.")
            _read_one(path, data, state)
        for name in sorted(chained.keys() - {path.name for path in manifests}):
            state.problems.append(f"The chain file names a manifest {shown(name)}, which is not there.")
    return Listed(
        state.digests, tuple(state.problems), tuple(state.ignored), state.sizes, state.not_whole, state.less_than_whole
    )


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
    digests: dict[str, dict[str, str]] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)
    not_whole: bool = False
    less_than_whole: bool = False


def _chained_digests(folder: Path, state: _Reading) -> dict[str, str]:
    path = folder / CHAIN_NAME
    if not path.exists():
        state.problems.append("The chain file of the manifests is missing.")
        return {}
    try:
        top = etree.fromstring(path.read_bytes(), _parser())
    except etree.XMLSyntaxError:
        state.problems.append("The chain file of the manifests is damaged.")
        return {}
    return {
        entry.findtext(f"{{{_CHAIN_NS}}}path", ""): entry.findtext(f"{{{_CHAIN_NS}}}c4", "")
        for entry in top.iterfind(f"{{{_CHAIN_NS}}}hashlist")
    }


def _read_one(path: Path, data: bytes, state: _Reading) -> None:
    try:
        top = etree.fromstring(data, _parser())
    except etree.XMLSyntaxError as error:
        raise MediaError(
            f"{path.name} is no manifest: {error.msg}.",
            path=path,
            safe="Nothing was changed.",
            do="Restore the manifest from another copy of this card.",
        ) from error
    state.ignored.extend(element.text or "" for element in top.iter(f"{{{_NS}}}pattern"))
    ours = top.findtext(f"{{{_NS}}}creatorinfo/{{{_NS}}}tool", "") == _TOOL
    comment = top.findtext(f"{{{_NS}}}creatorinfo/{{{_NS}}}comment", "")
    if ours:
        state.not_whole = NOT_WHOLE in comment
    state.less_than_whole |= LESS_THAN_WHOLE in comment
    for entry in top.iter(f"{{{_NS}}}hash"):
        _read_entry(entry, state, ours=ours)
    _read_side_list(path.with_suffix(_SIDE_LIST), state)


def _read_entry(entry: etree._Element, state: _Reading, *, ours: bool) -> None:
    at = entry.find(f"{{{_NS}}}path")
    name = (at.text or "") if at is not None else ""
    if at is None or not is_inside(name):
        state.problems.append(f"The manifest names {shown(name)}, which lies outside this folder: not followed.")
        return
    previous = entry.findtext(f"{{{_NS}}}previousPath")
    known = state.digests.setdefault(name, {})
    if previous and previous in state.digests and previous != name:
        known.update(state.digests.pop(previous))
    for kind in MANIFEST_DIGESTS:
        for element in entry.iterfind(f"{{{_NS}}}{kind}"):
            _read_digest(name, kind, element, known, state, ours=ours)
    size = at.get("size", "")
    if size.isascii() and size.isdigit():
        state.sizes[name] = int(size)


def _read_digest(
    name: str, kind: str, element: etree._Element, known: dict[str, str], state: _Reading, *, ours: bool
) -> None:
    text, action = (element.text or "").strip(), element.get("action", "")
    if not text or action == "failed":
        # What a check found damaged is not what the file was [ASCMHL, section 5].
        return
    if known.get(kind, text) == text:
        known[kind] = text
        return
    if action == "verified":
        state.problems.append(f"The manifests contradict each other about {shown(name)}: the earlier one counts.")
        return
    if not ours:
        state.problems.append(f"The manifests contradict each other about {shown(name)}: the later one counts.")
    # Listed anew: nothing that was known of the bytes before holds for these.
    known.clear()
    known[kind] = text


def _read_side_list(path: Path, state: _Reading) -> None:
    """Names that XML cannot hold, a line each; a line that makes no sense is told, not followed."""
    if not path.exists():
        return
    for number, line in enumerate(path.read_bytes().split(b"\n"), start=1):
        if not line:
            continue
        try:
            value = json.loads(line)
        except (ValueError, RecursionError):
            value = None
        name = value.get("path") if isinstance(value, dict) else None
        digests = checked_digest_texts(value.get("digests")) if isinstance(value, dict) else {}
        if not isinstance(name, str) or not is_inside(name) or not digests:
            state.problems.append(
                f"Line {number} of {path.name} makes no sense, or leads out of this folder: left out."
            )
            continue
        state.digests[name] = digests
