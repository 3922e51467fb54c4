"""ASC Media Hash List, version 2: written for a copy, read from any folder.

Sources: [ASCMHL] ASC MHL Specification v2.0, sections 4 (history), 5 (hash list), 6 (directory
hashes) and 7 (chain file).
"""

from __future__ import annotations

import json
import socket
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

from lxml import etree

from diadoche.core.cards.tree import FolderEntry
from diadoche.core.diskfiles import write_whole
from diadoche.core.errors import MediaError
from diadoche.core.names import fits_xml, shown
from diadoche.core.offload.digests import C4, DIGESTS, MANIFEST_DIGESTS, digest_bytes
from diadoche.core.offload.journal import CopiedFile
from diadoche.core.offload.lists import list_text

FOLDER = "ascmhl"
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
    first: bool = True


@dataclass(frozen=True, slots=True)
class Listed:
    """What all generations together say of a folder: for each path, digests by name."""

    digests: dict[str, dict[str, str]]
    problems: tuple[str, ...] = ()
    ignored: tuple[str, ...] = ()


def write_manifest(root: Path, request: ManifestRequest) -> Path:
    """Adds a generation to the history of `root` and to its chain.

    Names that XML cannot hold go, escaped, to a list beside it, and the manifest says so.

    Raises:
        OSError: the folder cannot be written to.
    """
    folder = root / FOLDER
    folder.mkdir(exist_ok=True)
    number = len(_generations(folder)) + 1
    request = replace(request, first=number == 1)
    stamp = request.now.astimezone(UTC).strftime("%Y-%m-%d_%H%M%SZ")
    path = folder / f"{number:04}_{root.name}_{stamp}.mhl"
    unlisted = [file for file in request.files if not fits_xml(file.kept_as)]
    if unlisted:
        # JSON's escapes are plain ASCII and can be read back to the very bytes of the name.
        lines = [json.dumps({"path": file.kept_as, "digests": file.digests}) for file in unlisted]
        write_whole(path.with_suffix(_SIDE_LIST), ("\n".join(lines) + "\n").encode("ascii"))
    data = etree.tostring(
        _hash_list(request, bool(unlisted)), pretty_print=True, xml_declaration=True, encoding="UTF-8"
    )
    write_whole(path, data)
    if "sha256" in request.digests:
        write_whole(path.with_suffix(".sha256"), list_text("sha256", request.files))
    _extend_chain(folder, number, path.name, data)
    return path


def carry_history(source: Path, root: Path) -> None:
    """Brings the manifests of a copy to a copy of it, so that its chain goes on there; what stands there stays.

    Raises:
        OSError: the folder cannot be written to.
    """
    folder = root / FOLDER
    if folder.exists():
        return
    folder.mkdir()
    # The chain last: it vouches for the others.
    for path in sorted((source / FOLDER).iterdir(), key=lambda each: (each.name == CHAIN_NAME, each.name)):
        if path.is_file():
            write_whole(folder / path.name, path.read_bytes())


def _generations(folder: Path) -> list[Path]:
    return sorted(folder.glob("*.mhl"))


def _time(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="seconds")


def _hash_list(request: ManifestRequest, has_unlisted: bool) -> etree._Element:
    top = etree.Element(f"{{{_NS}}}hashlist", nsmap={None: _NS}, version="2.0")  # type: ignore[dict-item]  # the stubs forget the default namespace
    creator = _add(top, "creatorinfo")
    _add(creator, "creationdate", _time(request.now))
    _add(creator, "hostname", socket.gethostname())
    _add(creator, "tool", "diadoche", version=request.version)
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
    action = "original" if request.first else "verified"
    for file in files:
        entry = _add(listed, "hash")
        changed = datetime.fromtimestamp(request.changed_ns[file.path] // 10**9, UTC)
        _add(entry, "path", file.kept_as, size=str(file.size_bytes), lastmodificationdate=_time(changed))
        for name in sorted(name for name in file.digests if name in MANIFEST_DIGESTS):
            _add(entry, name, file.digests[name], action=action, hashdate=_time(request.now))
    for path in hashes.folders:
        entry = _add(listed, "directoryhash")
        _add(entry, "path", path)
        hashes.put_into(entry, path)
    return top


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
    if path.exists():
        top = etree.fromstring(path.read_bytes(), _parser())
    else:
        top = etree.Element(f"{{{_CHAIN_NS}}}ascmhldirectory", nsmap={None: _CHAIN_NS})  # type: ignore[dict-item]  # as above
    entry = etree.SubElement(top, f"{{{_CHAIN_NS}}}hashlist", sequencenr=str(number))
    etree.SubElement(entry, f"{{{_CHAIN_NS}}}path").text = manifest_name
    etree.SubElement(entry, f"{{{_CHAIN_NS}}}c4").text = C4(data).hexdigest()
    write_whole(path, etree.tostring(top, pretty_print=True, xml_declaration=True, encoding="UTF-8"))


def _parser() -> etree.XMLParser:
    # Manifests come from strangers' disks: no entities, no network, no huge documents.
    return etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, remove_comments=True)


def read_history(root: Path) -> Listed:
    """What the manifests of `root` say together; later generations win.

    Raises:
        MediaError: there is no manifest, or one is no ASC MHL.
    """
    folder = root / FOLDER
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
        data = path.read_bytes()
        wanted = chained.get(path.name)
        if wanted is not None and wanted != C4(data).hexdigest():
            state.problems.append(f"The manifest {path.name} was changed after it was written.")
        _read_one(path, data, state)
    return Listed(state.digests, tuple(state.problems), tuple(state.ignored))


@dataclass(slots=True)
class _Reading:
    digests: dict[str, dict[str, str]] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)
    ignored: list[str] = field(default_factory=list)


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
    for entry in top.iter(f"{{{_NS}}}hash"):
        name = entry.findtext(f"{{{_NS}}}path", "")
        if PurePosixPath(name).is_absolute() or ".." in PurePosixPath(name).parts:
            state.problems.append(f"The manifest names {shown(name)}, which lies outside this folder: not followed.")
            continue
        previous = entry.findtext(f"{{{_NS}}}previousPath")
        if previous:
            state.digests.pop(previous, None)
        found = {key: value for key in MANIFEST_DIGESTS if (value := entry.findtext(f"{{{_NS}}}{key}"))}
        state.digests[name] = found
    side_list = path.with_suffix(_SIDE_LIST)
    if side_list.exists():
        for line in side_list.read_text("ascii").splitlines():
            unlisted = json.loads(line)
            state.digests[unlisted["path"]] = unlisted["digests"]
