"""What is really there: digests of every file, manifests read by a parser of its own. Nothing of the product is used."""

from __future__ import annotations

import hashlib
import os
import re
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import xxhash

MHL = "{urn:ASC:MHL:v2.0}"
_KINDS: dict[str, Any] = {
    "md5": hashlib.md5,
    "sha1": hashlib.sha1,
    "xxh128": xxhash.xxh3_128,
    "xxh3": xxhash.xxh3_64,
    "xxh64": xxhash.xxh64,
}
_OURS = ("ascmhl", ".part-diadoche")
_JOURNAL = ".not-whole-diadoche.jsonl"

Digests = dict[str, str]


def files_of(root: Path) -> dict[str, tuple[int, int, str]]:
    """Size, time and SHA-256 of every file below a folder, by its path; what was added to a copy left out."""
    found = {}
    for path in _walk(root):
        relative = path.relative_to(root).as_posix()
        if relative.split("/")[0] in _OURS or relative == _JOURNAL:
            continue
        info = path.lstat()
        if path.is_symlink():
            continue
        found[relative] = (info.st_size, info.st_mtime_ns, hashlib.sha256(path.read_bytes()).hexdigest())
    return found


def shas_of(root: Path) -> Digests:
    """SHA-256 of every file below a folder, by its path."""
    return {path: entry[2] for path, entry in files_of(root).items()}


def _walk(root: Path) -> Iterator[Path]:
    for folder, _folders, names in os.walk(root):
        for name in sorted(names):
            yield Path(folder) / name


def is_marked_unfinished(root: Path) -> bool:
    """Whether a journal stands in a copy, or the mark of one beside its manifests."""
    return (root / _JOURNAL).exists() or (root / "ascmhl/unfinished-copy.json").exists()


def copies_in(place: Path) -> list[Path]:
    """Every folder with manifests or a journal of its own."""
    found = []
    for folder, folders, names in os.walk(place):
        if "ascmhl" in folders or _JOURNAL in names:
            found.append(Path(folder))
            folders.clear()
    return sorted(found)


def manifest_of(root: Path) -> dict[str, Digests] | None:
    """What all manifests of a copy say together, by path; None where one cannot be read."""
    listed: dict[str, Digests] = {}
    manifests = sorted((root / "ascmhl").glob("*.mhl"), key=lambda path: int(re.match(r"\d+", path.name)[0]))  # type: ignore[index]
    if not manifests:
        return None
    for path in manifests:
        try:
            top = ET.parse(path).getroot()
        except ET.ParseError:
            return None
        for entry in top.iter(f"{MHL}hash"):
            name = entry.findtext(f"{MHL}path") or ""
            previous = entry.findtext(f"{MHL}previousPath")
            if previous and previous != name and previous in listed:
                listed[name] = listed.pop(previous)
            known = listed.setdefault(name, {})
            for kind in _KINDS:
                element = entry.find(f"{MHL}{kind}")
                if element is None or element.get("action") == "failed":
                    continue
                if known.get(kind, element.text) != element.text and element.get("action") == "original":
                    known.clear()
                known[kind] = element.text or ""
    return listed


def digest_of(kind: str, data: bytes) -> str:
    """The digest of some bytes, as a manifest writes it."""
    return str(_KINDS[kind](data).hexdigest())


def is_as_listed(root: Path, path: str, digests: Digests) -> bool:
    """Whether a file has each of the digests that are listed for it."""
    data = (root / path).read_bytes()
    return bool(digests) and all(_KINDS[kind](data).hexdigest() == text for kind, text in digests.items())
