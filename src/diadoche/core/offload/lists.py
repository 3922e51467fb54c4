"""Plain lists of digests, as `md5sum`, `sha1sum`, `sha256sum` and `xxhsum` write them and check them.

Sources: [COREUTILS] GNU coreutils manual, "md5sum invocation": digest, space, space or asterisk, name; a
backslash in front of the line where the name has escapes; the tagged form `MD5 (name) = digest`;
[XXHSUM] xxhsum(1): the same, with `XXH3_` or `XXH64` in the tagged form.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable
from pathlib import Path

from diadoche.core.errors import MediaError
from diadoche.core.offload.journal import CopiedFile

_LINE = re.compile(r"^(\\?)([0-9a-fA-F]{16,128}) [ *](.+)$", re.DOTALL)
_TAGGED = re.compile(r"^(\\?)([A-Za-z0-9_-]+) ?\((.+)\) = ([0-9a-fA-F]{16,128})$", re.DOTALL)
_BY_TAG = {
    "MD5": "md5", "SHA1": "sha1", "SHA256": "sha256", "XXH64": "xxh64", "XXH128": "xxh128", "XXH3": "xxh3",
}  # fmt: skip
# By the digest's length alone 16 digits may be XXH64 or XXH3, and 32 may be MD5 or XXH128: the list's name decides.
_BY_LENGTH = {32: "md5", 40: "sha1", 64: "sha256", 16: "xxh64"}
_IN_NAME = {"xxh128": "xxh128", "xxh3": "xxh3", "xxh64": "xxh64", "xxhash": "xxh64", "md5": "md5", "sha1": "sha1"}
_LARGEST_LIST_BYTES = 512 * 1024 * 1024
_ENDINGS = {".md5", ".sha1", ".sha256", ".xxh", ".xxh64", ".xxh3", ".xxh128", ".xxhash"}
_NAMES = {"MD5SUMS", "SHA1SUMS", "SHA256SUMS", "XXHSUMS"}


def is_list(path: Path) -> bool:
    """Whether a file's name is that of a list of digests."""
    return path.suffix.lower() in _ENDINGS or path.name.upper().split(".")[0] in _NAMES


def list_text(name: str, files: Iterable[CopiedFile]) -> bytes:
    """A list that the common tools check from the copy's top."""
    lines = []
    for file in files:
        path = os.fsencode(file.kept_as)
        escaped = path.replace(b"\\", b"\\\\").replace(b"\n", b"\\n").replace(b"\r", b"\\r")
        lines.append((b"\\" if escaped != path else b"") + file.digests[name].encode("ascii") + b"  " + escaped + b"\n")
    return b"".join(lines)


def read_list(path: Path) -> dict[str, dict[str, str]]:
    """Digests by name for each path of a list.

    Raises:
        MediaError: it is no list of digests, or names no kind that is known here.
    """
    if path.stat().st_size > _LARGEST_LIST_BYTES:
        raise _no_list(path, "it is too large")
    found: dict[str, dict[str, str]] = {}
    for number, line in enumerate(os.fsdecode(path.read_bytes()).split("\n"), start=1):
        line = line.removesuffix("\r")
        if not line or line.startswith("#"):
            continue
        entry = _entry(path, line)
        if entry is None:
            raise _no_list(path, f"line {number} is not a digest and a name")
        name, kind, digest = entry
        found.setdefault(name.removeprefix("./"), {})[kind] = digest.lower()
    if not found:
        raise _no_list(path, "it is empty")
    return found


def _entry(path: Path, line: str) -> tuple[str, str, str] | None:
    if match := _TAGGED.match(line):
        escaped, tag, name, digest = match.groups()
        kind = _BY_TAG.get(tag.upper().removesuffix("_LE"), "")
    elif match := _LINE.match(line):
        escaped, digest, name = match.groups()
        kind = _kind(path, digest)
        # xxhsum writes XXH3 with its tag in front of the digits.
    elif line.upper().startswith("XXH3_") and (match := _LINE.match(line[5:])):
        escaped, digest, name = match.groups()
        kind = "xxh3"
    else:
        return None
    if escaped:
        name = re.sub(r"\\([\\nr])", lambda each: {"\\": "\\", "n": "\n", "r": "\r"}[each[1]], name)
    return (name, kind, digest) if kind else None


def _kind(path: Path, digest: str) -> str:
    said = next((kind for word, kind in _IN_NAME.items() if word in path.name.lower()), "")
    lengths = {"xxh128": 32, "md5": 32, "xxh3": 16, "xxh64": 16, "sha1": 40}
    if said and lengths[said] == len(digest):
        return said
    if path.suffix.lower().startswith(".xxh") and len(digest) == 32:
        return "xxh128"
    return _BY_LENGTH.get(len(digest), "")


def _no_list(path: Path, why: str) -> MediaError:
    return MediaError(
        f"{path.name} is no list of digests: {why}.",
        path=path,
        safe="Nothing was changed.",
        do="Point at a list that md5sum, sha1sum, sha256sum or xxhsum wrote, or at a folder with a manifest.",
    )
