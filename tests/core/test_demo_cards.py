"""Every demo card lists exactly the recordings that were simulated, and each says what it is."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.footage.trial import try_clip
from diadoche.core.identify.probe import identify
from diadoche.core.identify.route import load_profile, route
from diadoche.core.watch import Watch

LAYOUTS = load_layouts()


@dataclass(frozen=True)
class Expected:
    """What the simulated camera recorded: spans and pictures of each recording, and how."""

    layout: str
    spans: list[int]
    frames: list[int]
    codec: str
    size: tuple[int, int]
    rate: Fraction
    scan: str
    order: str | None
    container: str
    route: str
    problems: int = 0
    projection: str = "flat"


P, NTSC = "progressive", Fraction(30000, 1001)
EXPECTED = {
    "Drone": Expected("dcf", [1, 1, 1], [120, 90, 90], "h264", (2704, 1520), NTSC, P, None, "MP4", "convert"),
    "Supply boat bow": Expected("dcf", [3, 1], [90, 30], "h264", (1280, 720), Fraction(50), P, None, "MP4", "convert"),
    "Supply boat stern": Expected("dcf", [3, 1], [90, 30], "h264", (1280, 720), Fraction(50), P, None, "MP4", "convert"),
    "Lamp": Expected("cinemadng", [24, 23], [24, 23], "dng", (1024, 576), Fraction(24), P, None, "DNG", "develop", 1),
    "Lamp raw reel": Expected("raw-reel", [2, 1], [40, 12], "r3d", (4096, 2048), Fraction(24), P, None, "R3D", "unsupported"),
    "Lamp room": Expected("dcf", [1, 1], [30, 20], "h264", (720, 720), NTSC, P, None, "MP4", "stitch", 0, "dual-fisheye"),
    "Lamp room, second": Expected("dcf", [1, 1], [30, 20], "h264", (720, 720), NTSC, P, None, "MP4", "stitch", 0, "fisheye"),
    "Gallery lens 4": Expected("rig", [1, 1], [30, 20], "h264", (512, 512), Fraction(30), P, None, "MP4", "stitch", 0, "fisheye"),
    "Gallery stitched": Expected("rig", [1, 1], [30, 40], "h264", (960, 480), Fraction(30), P, None, "MP4", "ready", 0, "equirectangular"),
    "Pier": Expected("m4root", [1, 1], [40, 30], "h264", (1920, 1080), Fraction(25), P, None, "MP4", "ready"),
    "Mast": Expected("xdroot", [1, 1], [40, 30], "mpeg2video", (1920, 1080), Fraction(25), "interlaced", "top", "MXF", "ready"),
    "Shore": Expected("contents", [1], [25], "dnxhd", (1920, 1080), Fraction(25), P, None, "MXF", "ready"),
    "Quay": Expected("sd-video", [1, 1], [50, 40], "mpeg2video", (720, 576), Fraction(25), "interlaced", "top", "MPEG-PS", "rewrap"),
    "Archive tapes": Expected("dv-avi", [1, 1], [50, 40], "dvvideo", (720, 576), Fraction(25), "interlaced", "bottom", "AVI", "ready"),
    "Harbour": Expected("quicktime", [1, 1], [40, 30], "mpeg2video", (1920, 1080), Fraction(25), "interlaced", "top", "MOV", "ready"),
    "Keeper's camcorder": Expected("avchd", [2, 1, 1], [150, 75, 50], "h264", (1920, 1080), Fraction(25), "interlaced", "top", "M2TS", "join"),
}  # fmt: skip


@pytest.mark.parametrize("name", EXPECTED)
def test_a_demo_card_lists_what_was_simulated(demo_cards: dict[str, Path], name: str) -> None:
    expected, root = EXPECTED[name], demo_cards[name]
    card = look(root, LAYOUTS, Watch())
    assert card.layout == expected.layout
    assert [len(clip.spans) for clip in card.clips] == expected.spans
    assert len(card.problems) == expected.problems, card.problems
    found = [identify([root / span for span in clip.spans]) for clip in card.clips]
    assert [facts.frames for facts in found] == expected.frames
    first = found[0]
    video = first.video[0]
    assert (first.container, video.codec, (video.width, video.height)) == (
        expected.container,
        expected.codec,
        expected.size,
    )
    assert (video.frame_rate, video.frame_rate_mode, video.scan) == (expected.rate, "constant", expected.scan)
    assert video.field_order == expected.order
    assert first.projection == expected.projection
    assert route(first, load_profile(), expected.spans[0]).name == expected.route
    assert first.origin != "converted"
    assert not first.problems


@pytest.mark.parametrize("name", EXPECTED)
def test_every_clip_of_the_demo_can_be_tried(demo_cards: dict[str, Path], name: str) -> None:
    root = demo_cards[name]
    for clip in look(root, LAYOUTS, Watch()).clips:
        trial = try_clip([root / span for span in clip.spans])
        assert trial.problem is None, trial.problem
        assert bool(trial.thumbnail) is (name != "Lamp raw reel")


def test_tapes_tell_when_they_were_recorded(demo_cards: dict[str, Path]) -> None:
    card = look(demo_cards["Archive tapes"], LAYOUTS, Watch())
    assert [f"{clip.start:%H:%M:%S}" for clip in card.clips if clip.start] == ["16:52:00", "16:55:00"]
    found = [identify([card.root / clip.spans[0]], "headers").video[0].timecode for clip in card.clips]
    assert found == ["00:12:40:00", "00:12:42:00"]


def test_two_bodies_that_count_alike_are_told_apart_by_their_serial_numbers(demo_cards: dict[str, Path]) -> None:
    bow, stern = (look(demo_cards[f"Supply boat {each}"], LAYOUTS, Watch()) for each in ("bow", "stern"))
    assert [clip.spans for clip in bow.clips] == [clip.spans for clip in stern.clips]
    assert (bow.serial, stern.serial) == ("TR-5101", "TR-5102")


def test_the_rigs_seven_cards_find_each_other(demo_cards: dict[str, Path]) -> None:
    card = look(demo_cards["Gallery lens 3"], LAYOUTS, Watch())
    assert card.lens == 3
    assert {path.name for path in card.sisters} == {
        "Gallery stitched",
        *(f"Gallery lens {lens}" for lens in (1, 2, 4, 5, 6)),
    }
