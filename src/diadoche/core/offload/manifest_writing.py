"""A new generation in the history of a copy: an ASC Media Hash List, version 2.

Source: [ASCMHL] ASC MHL Specification v2.0, sections 4 (history), 5 (hash list) and 6 (directory hashes), and its XML
schema: what the standard has no field for stands in the element `metadata`, which it leaves open.
"""

from __future__ import annotations

import json
import socket
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

from lxml import etree

from diadoche.core.answering import Calls
from diadoche.core.cards.tree import FolderEntry
from diadoche.core.errors import MediaError
from diadoche.core.names import fits_xml
from diadoche.core.offload.digest_file import agree
from diadoche.core.offload.digests import C4, MANIFEST_DIGESTS
from diadoche.core.offload.directory_hashes import DirectoryHashes
from diadoche.core.offload.identity import CopyIdentity
from diadoche.core.offload.journal import UNFINISHED_NAME, CopiedFile
from diadoche.core.offload.lists import list_text
from diadoche.core.offload.manifest_chain import LARGEST_BYTES, extend_chain, generations, number_of
from diadoche.core.offload.manifest_reading import read_open_history
from diadoche.core.offload.manifest_words import ABOUT, CHAIN_NAME, FOLDER, MHL, SIDE_LIST, TOOL
from diadoche.core.open_folder import OpenFolder

# A manifest's name holds that of the folder; with all that is added to it, it must fit into 255 bytes.
_FOLDER_NAME_BYTES = 180


@dataclass(frozen=True, slots=True, kw_only=True)
class ManifestRequest:
    """What a new generation says. `comment` is for people; `whole` and `asked_for_all` are what is read again."""

    files: tuple[CopiedFile, ...]
    folders: tuple[FolderEntry, ...]
    changed_ns: Mapping[str, int]
    digests: tuple[str, ...]
    version: str
    now: datetime
    identity: CopyIdentity
    whole: bool
    asked_for_all: bool
    comment: str = ""
    # What earlier generations say: a file that reads as they say was verified, any other is listed for the first time.
    known: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


def write_manifest(copy: OpenFolder, request: ManifestRequest, calls: Calls | None = None) -> Path:
    """Adds a generation to the history of a copy and to its chain; gives its path.

    Names that XML cannot hold go, escaped, to a list beside it, and the manifest says so. `calls` follows what may hang
    with the disk, and not the arithmetic between: a manifest of a hundred thousand files takes a while.

    Raises:
        OSError: the folder cannot be written to.
    """
    calls = calls or Calls()
    with calls:
        copy.make_folder(FOLDER)
        number = 1 + max((number_of(name) for name in generations(copy)), default=0)
    if number > 1:
        with suppress(MediaError):
            request = replace(request, known=read_open_history(copy, calls).digests)
    stamp = request.now.astimezone(UTC).strftime("%Y-%m-%d_%H%M%SZ")
    stem = f"{number:04}_{_as_part(copy.path.name)}_{stamp}"
    odd_names = _side_list(request)
    if odd_names:
        with calls:
            copy.write_whole(f"{FOLDER}/{stem}{SIDE_LIST}", odd_names)
    data = etree.tostring(_hash_list(request, odd_names), pretty_print=True, xml_declaration=True, encoding="UTF-8")
    with calls:
        copy.write_whole(f"{FOLDER}/{stem}.mhl", data)
    if "sha256" in request.digests:
        text = list_text("sha256", request.files)
        with calls:
            copy.write_whole(f"{FOLDER}/{stem}.sha256", text)
    with calls:
        extend_chain(copy, number, f"{stem}.mhl", data)
    return copy.path / FOLDER / f"{stem}.mhl"


def _as_part(name: str) -> str:
    """A folder's name as a part of a manifest's: the chain lists that in XML, and filesystems have a longest name."""
    text = "".join(each if fits_xml(each) and each not in "\r\n\t" else "_" for each in name)
    return text.encode()[:_FOLDER_NAME_BYTES].decode("utf-8", "ignore") or "_"


def _side_list(request: ManifestRequest) -> bytes:
    """The names that XML cannot hold: JSON's escapes are plain ASCII, and give the very bytes of a name again."""
    lines = []
    for file in request.files:
        if fits_xml(file.kept_as) and fits_xml(file.path):
            continue
        value: dict[str, object] = {"path": file.kept_as, "size_bytes": file.size_bytes, "digests": file.digests}
        lines.append(json.dumps(value | ({"previous_path": file.path} if file.path != file.kept_as else {})) + "\n")
    return "".join(lines).encode("ascii")


def carry_history(source: OpenFolder, copy: OpenFolder) -> None:
    """Brings the manifests of a copy to a copy of it, so that its chain goes on there; what stands there stays.

    Links among them are nobody's manifests: they are passed by.

    Raises:
        OSError: the folder cannot be written to.
    """
    if generations(copy):
        return
    copy.make_folder(FOLDER)
    # The chain last: it vouches for the others.
    for name in sorted(source.names(FOLDER), key=lambda each: (each == CHAIN_NAME, each)):
        path = f"{FOLDER}/{name}"
        if name != UNFINISHED_NAME and source.size_of(path) is not None:
            copy.write_whole(path, source.read(path, LARGEST_BYTES))


def _time(moment: datetime) -> str:
    return moment.astimezone(UTC).isoformat(timespec="seconds")


def _hash_list(request: ManifestRequest, odd_names: bytes) -> etree._Element:
    top = etree.Element(f"{MHL}hashlist", nsmap={None: MHL[1:-1]}, version="2.0")  # type: ignore[dict-item]  # the stubs forget the default namespace
    creator = _add(top, "creatorinfo")
    _add(creator, "creationdate", _time(request.now))
    _add(creator, "hostname", socket.gethostname())
    _add(creator, "tool", TOOL, version=request.version)
    comment = request.comment
    if odd_names:
        comment = f"{comment} Names that XML cannot hold are in the list beside this manifest: it is not whole.".strip()
    if comment:
        _add(creator, "comment", comment)
    process = _add(top, "processinfo")
    _add(process, "process", "transfer")
    files = [file for file in request.files if fits_xml(file.kept_as) and fits_xml(file.path)]
    kinds = [name for name in request.digests if name in MANIFEST_DIGESTS]
    hashes = DirectoryHashes(files, [each.path for each in request.folders if fits_xml(each.path)], kinds)
    now = _time(request.now)
    _add_folder_hashes(_add(process, "roothash"), hashes, "", now)
    ignore = _add(process, "ignore")
    for pattern in (FOLDER, f"{FOLDER}/"):
        _add(ignore, "pattern", pattern)
    if files or hashes.folders:
        _add_hashes(_add(top, "hashes"), request, files, hashes)
    _add_about(_add(top, "metadata"), request, odd_names)
    return top


def _add_hashes(
    listed: etree._Element, request: ManifestRequest, files: list[CopiedFile], hashes: DirectoryHashes
) -> None:
    now = _time(request.now)
    for file in files:
        action = "verified" if agree(request.known.get(file.kept_as, {}), file.digests) else "original"
        entry = _add(listed, "hash")
        _add(entry, "path", file.kept_as, size=str(file.size_bytes), **_changed(request.changed_ns[file.path]))
        for name in sorted(name for name in file.digests if name in MANIFEST_DIGESTS):
            _add(entry, name, file.digests[name], action=action, hashdate=now)
        if file.path != file.kept_as:
            _add(entry, "previousPath", file.path)
    for path in hashes.folders:
        entry = _add(listed, "directoryhash")
        _add(entry, "path", path)
        _add_folder_hashes(entry, hashes, path, now)


def _add_folder_hashes(element: etree._Element, hashes: DirectoryHashes, folder: str, now: str) -> None:
    for tag, values in (("content", hashes.content), ("structure", hashes.structure)):
        group = _add(element, tag)
        for kind in hashes.kinds:
            _add(group, kind, values[folder, kind], hashdate=now)


def _add_about(metadata: etree._Element, request: ManifestRequest, odd_names: bytes) -> None:
    about = etree.SubElement(metadata, ABOUT, nsmap={None: ABOUT[1:].partition("}")[0]})  # type: ignore[dict-item]  # as above
    about.set("taking", request.identity.taking)
    about.set("copy", request.identity.copy)
    about.set("whole", "true" if request.whole else "false")
    about.set("asked", "card" if request.asked_for_all else "part")
    if odd_names:
        about.set("names", C4(odd_names).hexdigest())


def _changed(changed_ns: int) -> dict[str, str]:
    """The attribute for a time, where the calendar reaches that far."""
    try:
        return {"lastmodificationdate": _time(datetime.fromtimestamp(changed_ns // 10**9, UTC))}
    except (OverflowError, ValueError, OSError):
        return {}


def _add(parent: etree._Element, tag: str, text: str | None = None, **attributes: str) -> etree._Element:
    element = etree.SubElement(parent, f"{MHL}{tag}", attributes)
    element.text = text
    return element
