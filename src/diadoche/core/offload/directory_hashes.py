"""Content and structure digests of every folder, from the innermost outwards [ASCMHL, section 6].

Source: [ASCMHL] ASC MHL Specification v2.0.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath

from diadoche.core.offload.digests import DIGESTS, digest_bytes
from diadoche.core.offload.journal import CopiedFile


class DirectoryHashes:
    """The digests of folders, by kind; `folders` are in the order in which manifests list them."""

    def __init__(self, files: Sequence[CopiedFile], folders: Iterable[str], kinds: Sequence[str]) -> None:
        self.folders = sorted(folders, key=lambda path: (path.count("/"), path))
        self.kinds = sorted(kinds)
        self.content: dict[tuple[str, str], str] = {}
        self.structure: dict[tuple[str, str], str] = {}
        inside: dict[str, list[tuple[str, CopiedFile | None]]] = {path: [] for path in ["", *self.folders]}
        for file in files:
            inside.setdefault(_parent(file.kept_as), []).append((file.kept_as, file))
        for path in self.folders:
            inside.setdefault(_parent(path), []).append((path, None))
        for path in [*reversed(self.folders), ""]:
            for kind in self.kinds:
                self._add_up(path, kind, inside[path])

    def _add_up(self, folder: str, kind: str, inside: list[tuple[str, CopiedFile | None]]) -> None:
        contents, structures = [], []
        for path, file in inside:
            content = file.digests[kind] if file else self.content[path, kind]
            for_structure = content if file else self.structure[path, kind]
            contents.append(content)
            own_name = PurePosixPath(path).name.encode()
            structures.append(_digest_text(kind, [own_name + digest_bytes(for_structure, kind)]))
        self.content[folder, kind] = _of_list(kind, contents)
        self.structure[folder, kind] = _of_list(kind, structures)


def _parent(path: str) -> str:
    return path.rpartition("/")[0]


def _of_list(kind: str, texts: list[str]) -> str:
    return _digest_text(kind, [digest_bytes(text, kind) for text in sorted(texts)])


def _digest_text(kind: str, pieces: Iterable[bytes]) -> str:
    digest = DIGESTS[kind]()
    for piece in pieces:
        digest.update(piece)
    return digest.hexdigest()
