"""The camera's serial number, where the metadata files on a card carry it: it tells two bodies apart that count alike.

Source: [XMLMETA] common practice, no source: camcorder trees keep an XML file a clip, with a `Device` element whose
attribute `serialNo` names the body.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

from lxml import etree

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.tree import Tree
from diadoche.core.diskfiles import open_unseen

_LARGEST_BYTES = 256 * 1024
_NAMES = {"serialno", "serialnumber"}


def camera_serial(tree: Tree, clips: Sequence[Clip]) -> str:
    """The serial number in the first metadata file that has one, or nothing."""
    paths = [each.path for clip in clips for each in clip.companions if each.path.upper().endswith(".XML")]
    sizes = {file.path: file.size_bytes for file in tree.files}
    for path in paths[:3]:
        if sizes.get(path, _LARGEST_BYTES + 1) <= _LARGEST_BYTES and (serial := _serial(tree, path)):
            return serial
    return ""


def _serial(tree: Tree, path: str) -> str:
    try:
        descriptor = open_unseen(tree.root / path)
    except OSError:
        return ""
    try:
        data = os.read(descriptor, _LARGEST_BYTES)
    finally:
        os.close(descriptor)
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
    try:
        top = etree.fromstring(data, parser)
    except etree.XMLSyntaxError:
        return ""
    for element in top.iter():
        for name, value in element.attrib.items():
            if str(name).rpartition("}")[2].lower() in _NAMES and str(value).strip():
                return str(value).strip()
        if isinstance(element.tag, str) and element.tag.rpartition("}")[2].lower() in _NAMES and element.text:
            return element.text.strip()
    return ""
