"""How a clip was scanned does not hang on where it is looked at: flashes of light, and fields that alias, are in some places."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from diadoche.core.identify.looks import luma_of
from diadoche.core.identify.scan import Fields, fields_of, judge
from diadoche.core.media import opened

PICTURES_A_PLACE, PLACES, TRIES = 7, 3, 40


def all_fields(path: Path) -> list[Fields]:
    """The fields of every picture."""
    with opened([path]) as media:
        return [fields_of(float(frame.time or 0), *luma_of(frame)) for frame in media.decode(media.streams.video[0])]


@pytest.mark.parametrize(
    ("clip", "scan"),
    [
        # A light flashes for one whole picture each second, in a clip of fields.
        ("Quay/SD_VIDEO/PRG001/MOV001.MOD", "interlaced"),
        ("Keeper's camcorder/PRIVATE/AVCHD/BDMV/STREAM/00002.MTS", "interlaced"),
        ("Pier/PRIVATE/M4ROOT/CLIP/C0001.MP4", "progressive"),
    ],
)
def test_any_three_places_give_the_same_verdict(demo_cards: dict[str, Path], clip: str, scan: str) -> None:
    card, _, inside = clip.partition("/")
    fields = all_fields(demo_cards[card] / inside)
    chance = random.Random(1)
    verdicts = []
    for _try in range(TRIES):
        begins = (chance.randrange(len(fields) - PICTURES_A_PLACE) for _place in range(PLACES))
        verdicts.append(judge([fields[begin : begin + PICTURES_A_PLACE] for begin in begins]).scan)
    assert set(verdicts) == {scan}
