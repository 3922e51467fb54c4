"""The chain file of a history: it vouches that the manifests are as they were written [ASCMHL, section 7].

Source: [ASCMHL] ASC MHL Specification v2.0.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from lxml import etree

from diadoche.core.names import shown, unique_name
from diadoche.core.offload.digests import C4
from diadoche.core.offload.manifest_words import CHAIN, CHAIN_NAME, FOLDER
from diadoche.core.open_folder import OpenFolder

# A manifest of a million files has half a gigabyte; what is larger is none.
LARGEST_BYTES = 1 << 30
_CHAIN_PATH = f"{FOLDER}/{CHAIN_NAME}"


def parser() -> etree.XMLParser:
    """For what strangers' disks hold: no entities, no network, no huge documents."""
    return etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, remove_comments=True)


def generations(copy: OpenFolder) -> list[str]:
    """The names of a copy's manifests, in the order in which they were written.

    Raises:
        OSError: they cannot be listed.
    """
    names = [name for name in copy.names(FOLDER) if name.endswith(".mhl")]
    return sorted(names, key=lambda name: (number_of(name), name))


def number_of(manifest_name: str) -> int:
    """The number of a generation, as its name says; 0 where it says none."""
    digits = manifest_name.partition("_")[0]
    return int(digits) if digits.isascii() and digits.isdigit() else 0


@dataclass(slots=True)
class Chain:
    """What a chain file says: the digest of each manifest; what speaks against believing any of it."""

    digests: dict[str, str] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)

    def vouches_for(self, manifest_name: str, data: bytes) -> bool:
        """Whether a manifest is as it was when it was linked; notes what it is otherwise."""
        wanted = self.digests.get(manifest_name)
        if wanted is None:
            if self.digests:
                self.problems.append(f"The manifest {shown(manifest_name)} is not in the chain file.")
            return False
        if wanted != C4(data).hexdigest():
            self.problems.append(f"The manifest {shown(manifest_name)} was changed after it was written.")
            return False
        return True


def read_chain(copy: OpenFolder) -> Chain:
    """The chain file of a copy; one that is missing or damaged vouches for nothing, and says so.

    Raises:
        OSError: it is there and cannot be read.
    """
    try:
        data = copy.read(_CHAIN_PATH, LARGEST_BYTES)
    except FileNotFoundError:
        return Chain(problems=["The chain file of the manifests is missing."])
    try:
        top = etree.fromstring(data, parser())
    except etree.XMLSyntaxError:
        return Chain(problems=["The chain file of the manifests is damaged."])
    found = {
        entry.findtext(f"{CHAIN}path", ""): entry.findtext(f"{CHAIN}c4", "")
        for entry in top.iterfind(f"{CHAIN}hashlist")
    }
    return Chain(found) if found else Chain(problems=["The chain file of the manifests lists none."])


def extend_chain(copy: OpenFolder, number: int, manifest_name: str, data: bytes) -> None:
    """Links a new manifest; a chain that vouches for nothing any more stays beside a new one.

    Raises:
        OSError: the folder cannot be written to.
    """
    top = _standing_chain(copy)
    if top is None:
        top = etree.Element(f"{CHAIN}ascmhldirectory", nsmap={None: CHAIN[1:-1]})  # type: ignore[dict-item]  # the stubs forget the default namespace
    linked = {entry.findtext(f"{CHAIN}path", "") for entry in top.iterfind(f"{CHAIN}hashlist")}
    for earlier in generations(copy):
        # A kill between a manifest and its link leaves it out of the chain; with the next generation it comes in.
        if earlier != manifest_name and earlier not in linked:
            _add_link(top, number_of(earlier), earlier, copy.read(f"{FOLDER}/{earlier}", LARGEST_BYTES))
    _add_link(top, number, manifest_name, data)
    copy.write_whole(_CHAIN_PATH, etree.tostring(top, pretty_print=True, xml_declaration=True, encoding="UTF-8"))


def _standing_chain(copy: OpenFolder) -> etree._Element | None:
    if not copy.exists(_CHAIN_PATH):
        return None
    try:
        return etree.fromstring(copy.read(_CHAIN_PATH, LARGEST_BYTES), parser())
    except etree.XMLSyntaxError:
        aside = unique_name("damaged_chain.xml", lambda name: copy.exists(f"{FOLDER}/{name}"))
        copy.rename_new(_CHAIN_PATH, f"{FOLDER}/{aside}")
        return None


def _add_link(top: etree._Element, number: int, manifest_name: str, data: bytes) -> None:
    entry = etree.SubElement(top, f"{CHAIN}hashlist", sequencenr=str(number))
    etree.SubElement(entry, f"{CHAIN}path").text = manifest_name
    etree.SubElement(entry, f"{CHAIN}c4").text = C4(data).hexdigest()
