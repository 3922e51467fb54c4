"""Completeness by a layout's rules: what must be there for what is there, and is not."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from lxml import etree

from diadoche.core.cards.layout import Counted, Layout, MemberFile, Need, matched
from diadoche.core.cards.tree import Tree, read_small
from diadoche.core.errors import DiadocheError, Problem
from diadoche.core.names import shown


def missing(tree: Tree, files: Sequence[MemberFile], layout: Layout) -> list[Problem]:
    """Every thing that a rule asks for and that is not on the card, each named once."""
    there = {file.entry.path.upper() for file in files}
    found: dict[str, Problem] = {}
    for rule in layout.needs:
        for name, by in _wanted(rule, files, there):
            found.setdefault(name.upper(), _missing(rule.what, name, by))
    for counted in layout.counted:
        for name, by in _counted(counted, tree, files):
            if name.upper() not in there:
                found.setdefault(name.upper(), _missing(counted.what, name, by))
    remarks = [
        Problem(rule.what, file.entry.path, "Everything that is there is copied; recordings stay usable.", rule.do)
        for rule in layout.remarks
        if (file := next((each for each in files if matched(rule.pattern, each.rule_path)), None)) is not None
    ]
    return [*found.values(), *remarks]


def _wanted(rule: Need, files: Sequence[MemberFile], there: set[str]) -> Iterator[tuple[str, str]]:
    if not rule.for_each:
        if not any(re.fullmatch(rule.there, file.rule_path, re.IGNORECASE) for file in files):
            yield "", ""
        return
    for file in files:
        match = matched(rule.for_each, file.rule_path)
        if match is None:
            continue
        groups = match.groupdict()
        if "number" in groups:
            number = int(groups["number"])
            if number == 0:
                continue
            groups["previous"] = f"{number - 1:0{len(groups['number'])}}"
        name = f"{file.card}/{rule.there.format(**groups)}".lstrip("/")
        if name.upper() not in there:
            yield name, file.entry.path


def _counted(rule: Counted, tree: Tree, files: Sequence[MemberFile]) -> Iterator[tuple[str, str]]:
    for file in files:
        match = matched(rule.listed_in, file.rule_path)
        if match is None:
            continue
        try:
            count = _count(read_small(tree, file.entry), rule.element)
        except DiadocheError:
            continue
        for index in range(count):
            yield f"{file.card}/{rule.there.format(index=index, **match.groupdict())}".lstrip("/"), file.entry.path


def _count(data: bytes, element: str) -> int:
    """How often an element stands in an XML text, by the local names of it and of what holds it."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
    try:
        top = etree.fromstring(data, parser)
    except etree.XMLSyntaxError:
        return 0
    steps = "/".join(f"*[local-name()='{step}']" for step in element.split("/"))
    found = top.xpath(f"//{steps}")
    return len(found) if isinstance(found, list) else 0


def _missing(what: str, name: str, by: str) -> Problem:
    short = shown(name.rpartition("/")[2])
    words = (
        f"The {what} {short} is missing ({shown(by.rpartition('/')[2])} asks for it)."
        if name
        else f"The {what} is missing."
    )
    return Problem(
        words,
        name or by,
        "Everything that is there is copied; recordings stay usable.",
        "Look for it on the camera; offload the card again from its top folder if only a part of it was copied.",
    )
