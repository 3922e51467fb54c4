"""Findings as places, and the window's way of stepping through them."""

from __future__ import annotations

from diadoche.core.convert.check import Finding
from diadoche.screens.places import places_of


def test_what_holds_of_pictures_in_a_row_is_one_place() -> None:
    findings = [Finding("repeated", n, n / 25) for n in (7, 8, 9, 30)] + [Finding("black", 8, 0.32, "for 0.3 s")]
    places = places_of(findings)
    assert [(each.picture, each.pictures) for each in places] == [(7, 3), (8, 1), (30, 1)]
    assert places[0].words == "the picture before stands on, 3 pictures"
    assert places[1].words == "black, for 0.3 s"
    assert places[2].place == "0:01.20, picture 30"
