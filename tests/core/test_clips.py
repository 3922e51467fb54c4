"""Which files are one recording: chapters, files that run on, sequences, lenses; on facts that are set by hand."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest

from diadoche.core.cards.card import Card, HeadsOf, LookChoice, look
from diadoche.core.cards.cardset import card_sets
from diadoche.core.cards.layout import load_layouts
from diadoche.core.identify.facts import AudioFacts, Color, Facts, VideoFacts
from diadoche.core.watch import Watch

LAYOUTS = load_layouts()
NOON = datetime(2026, 3, 4, 12, tzinfo=UTC)


def video(**changes: Any) -> VideoFacts:
    usual = VideoFacts(
        "h264", "High", 1920, 1080, Fraction(1), 0, Fraction(25), "constant", "progressive", "progressive", None, 8,
        "4:2:0", False, 0, Color(), None, True,
    )  # fmt: skip
    return replace(usual, **changes)  # by name


def facts(seconds: float, start: datetime | None = NOON, **changes: object) -> Facts:
    sound = (AudioFacts("aac", 2, "stereo", 48000, None, True),)
    return Facts("x", "MP4", seconds, round(seconds * 25), start, 100, (video(**changes),), sound)


def looked(root: Path, heads: dict[str, Facts], *, sizes: dict[str, int] | None = None, apart: bool = False) -> Card:
    """A card whose files say what is told here; files may be as long as a camera's without taking the room."""
    for path in heads:
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        with (root / path).open("wb") as file:
            file.truncate((sizes or {}).get(path, 10_000))

    def read(clips: Iterable[Sequence[Path]]) -> Iterator[Facts]:
        return (heads[str(paths[0].relative_to(root))] for paths in clips)

    return look(root, LAYOUTS, Watch(), read, LookChoice(stills_apart=apart))


def alike(found: Facts) -> HeadsOf:
    """Every clip has the same facts."""
    return lambda clips: (found for _clip in clips)


def spans(card: Card) -> list[list[str]]:
    return [[span.rpartition("/")[2] for span in clip.spans] for clip in card.clips]


D = "DCIM/100ABCDE/"


def test_numbered_chapters_are_one_clip_and_recordings_stay_apart(tmp_path: Path) -> None:
    card = looked(
        tmp_path,
        {
            f"{D}AB{part:02}{number:04}.MP4": facts(10)
            for number, parts in ((1, 3), (2, 1))
            for part in range(1, parts + 1)
        },
    )
    assert spans(card) == [["AB010001.MP4", "AB020001.MP4", "AB030001.MP4"], ["AB010002.MP4"]]
    assert card.clips[0].duration_s == 30
    assert card.complete


def test_chapters_that_tell_their_own_time_must_follow(tmp_path: Path) -> None:
    later = facts(10, NOON + timedelta(seconds=10))
    other = facts(10, NOON + timedelta(hours=2))
    assert len(looked(tmp_path / "a", {f"{D}AB010001.MP4": facts(10), f"{D}AB020001.MP4": later}).clips) == 1
    assert len(looked(tmp_path / "b", {f"{D}AB010001.MP4": facts(10), f"{D}AB020001.MP4": other}).clips) == 2


def test_chapters_of_another_make_are_not_joined(tmp_path: Path) -> None:
    card = looked(tmp_path, {f"{D}AB010001.MP4": facts(10), f"{D}AB020001.MP4": facts(10, frame_rate=Fraction(50))})
    assert len(card.clips) == 2


def test_a_missing_chapter_is_named_and_not_joined_over(tmp_path: Path) -> None:
    card = looked(tmp_path, {f"{D}AB{part:02}0001.MP4": facts(10) for part in (1, 2, 4)})
    assert spans(card) == [["AB010001.MP4", "AB020001.MP4"], ["AB040001.MP4"]]
    assert [problem.what for problem in card.problems] == ["Of the recording AB040001 part 3 is missing."]


def test_a_first_chapter_that_is_missing_is_named(tmp_path: Path) -> None:
    card = looked(tmp_path, {f"{D}AB{part:02}0001.MP4": facts(10) for part in (2, 3)})
    assert "what comes before part 2 is missing" in card.problems[0].what


def test_a_counter_that_starts_again_in_another_folder_is_another_recording(tmp_path: Path) -> None:
    names = [f"DCIM/{folder}ABCDE/AB{part:02}0001.MP4" for folder in (100, 101) for part in (1, 2)]
    assert len(looked(tmp_path, {name: facts(10) for name in names}).clips) == 2


LIMIT = 2**32 - 4096


@pytest.mark.parametrize(
    ("gap_s", "first_bytes", "codes", "joined"),
    [
        (0.0, LIMIT, (None, None), True),
        (1.0, LIMIT, (None, None), True),
        (30.0, LIMIT, (None, None), False),
        (0.0, 2_000_000_000, (None, None), False),
        (0.0, 5_000, ("10:00:00:00", "10:00:10:00"), True),
        (0.0, 5_000, ("10:00:00:00", "10:00:10:07"), False),
        (0.0, LIMIT, ("10:00:00:00", "11:00:00:00"), False),
        (600.0, 5_000, ("10:00:00:00", "10:00:10:00"), False),
    ],
)
def test_files_that_a_camera_cut_are_joined_only_where_time_and_timecode_run_on(
    tmp_path: Path, gap_s: float, first_bytes: int, codes: tuple[str | None, str | None], joined: bool
) -> None:
    names = [f"{D}ABCD0001.MP4", f"{D}ABCD0002.MP4"]
    card = looked(
        tmp_path,
        {
            names[0]: facts(10, timecode=codes[0]),
            names[1]: facts(4, NOON + timedelta(seconds=10 + gap_s), timecode=codes[1]),
        },
        sizes={names[0]: first_bytes},
    )
    assert (len(card.clips) == 1) is joined


def test_two_files_of_two_lenses_are_one_clip_and_a_short_lens_is_named(tmp_path: Path) -> None:
    card = looked(
        tmp_path,
        {
            "DCIM/CAMERA01/VID_1_00_001.QQQ": facts(10),
            "DCIM/CAMERA01/VID_1_10_001.QQQ": facts(10),
            "DCIM/CAMERA01/VID_2_00_002.MP4": facts(10),
            "DCIM/CAMERA01/VID_2_10_002.MP4": facts(7),
        },
    )
    assert [clip.name for clip in card.clips] == ["VID_2_00_002"]
    assert [each.role for each in card.clips[0].companions] == ["lens 2"]
    assert "lens 10 is 3.0 s shorter" in card.problems[0].what


def rig(folder: Path, lens: int, seconds: dict[str, float]) -> Path:
    name = f"RIG/LENS{lens}" if lens else "RIG/STITCHED"
    for take in seconds:
        path = folder / name / (f"{take}_L{lens}.MP4" if lens else f"{take}_LOW.MP4")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(bytes(5000))
    return folder


def rig_head(lengths: dict[str, float]) -> HeadsOf:
    return lambda clips: (
        facts(next((s for name, s in lengths.items() if name in paths[0].name), 10.0)) for paths in clips
    )


def test_sister_cards_are_found_beside_one_and_a_folder_of_them_is_a_card_set(tmp_path: Path) -> None:
    for lens in (1, 2, 3, 0):
        rig(tmp_path / "rig" / f"card {lens}", lens, {"T1": 10, "T2": 10})
    rig(tmp_path / "rig" / "other", 4, {"ELSEWHERE": 10})
    one = look(tmp_path / "rig" / "card 2" / "RIG" / "LENS2" / "T1_L2.MP4", LAYOUTS, Watch(), rig_head({}))
    assert (one.root.name, one.lens) == ("card 2", 2)
    assert [path.name for path in one.sisters] == ["card 0", "card 1", "card 3"]
    (tmp_path / "rig" / "other" / "RIG" / "LENS4" / "ELSEWHERE_L4.MP4").unlink()
    whole = look(tmp_path / "rig", LAYOUTS, Watch(), rig_head({"T2_L3": 6.0}))
    assert whole.layout == "rig"
    assert [(clip.name, [each.role for each in clip.companions]) for clip in whole.clips] == [
        ("T1_L1", ["lens 2", "lens 3", "stitched"]),
        ("T2_L1", ["lens 2", "lens 3", "stitched"]),
    ]
    assert [problem.what for problem in whole.problems] == ["Take T2: lens 3 is 4.0 s shorter than the longest."]


def test_a_card_set_names_the_lens_that_a_take_lacks(tmp_path: Path) -> None:
    cards = [
        look(
            rig(tmp_path / f"{lens}", lens, {"T1": 10} if lens == 5 else {"T1": 10, "T2": 10}),
            LAYOUTS,
            Watch(),
            rig_head({}),
        )
        for lens in (1, 2, 4, 5, 6, 0)
    ]
    (found,) = card_sets(cards, LAYOUTS)
    assert (found.lenses, found.missing, found.stitched, found.takes) == ((1, 2, 4, 5, 6), (3,), True, 2)
    assert [problem.what for problem in found.problems] == ["Take T2 lacks lens 5."]
    assert found.words == "5 of 6 lenses and the stitched files; without lens 3"


def stills(root: Path, steps_s: list[float]) -> Path:
    moment = NOON.timestamp()
    for number, step in enumerate(steps_s):
        path = root / D / f"ABCD{number + 1:04}.JPG"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"\xff\xd8\xff")
        moment += step
        os.utime(path, (moment, moment))
    return root


def test_stills_that_came_evenly_are_one_clip_unless_told_otherwise(tmp_path: Path) -> None:
    root = stills(tmp_path / "even", [5.0] * 12)
    card = look(root, LAYOUTS, Watch(), alike(facts(0)))
    assert [(clip.kind, len(clip.spans)) for clip in card.clips] == [("sequence", 12)]
    assert card.stills == ()
    alone = look(root, LAYOUTS, Watch(), alike(facts(0)), LookChoice(stills_apart=True))
    assert (alone.clips, len(alone.stills)) == ((), 12)


def test_photographs_are_not_taken_for_a_recording(tmp_path: Path) -> None:
    root = stills(tmp_path / "uneven", [3.0, 40.0, 2.0, 9.0, 31.0, 4.0, 77.0, 5.0, 6.0, 18.0])
    card = look(root, LAYOUTS, Watch(), alike(facts(0)))
    assert (card.clips, len(card.stills)) == ((), 10)


def test_op_atom_sound_belongs_to_its_picture_and_low_resolution_to_its_chapter(tmp_path: Path) -> None:
    card = looked(tmp_path, {f"{D}AB010001.MP4": facts(10), f"{D}AB020001.MP4": facts(10)})
    for name in ("AL010001.LRV", "AL020001.LRV", "AB010001.THM"):
        (tmp_path / D / name).write_bytes(b"x")
    card = look(tmp_path, LAYOUTS, Watch(), alike(facts(10)))
    assert [each.path.rpartition("/")[2] for each in card.clips[0].companions] == [
        "AB010001.THM",
        "AL010001.LRV",
        "AL020001.LRV",
    ]


def test_a_moment_beside_the_recording_counts_where_it_tells_none_itself(tmp_path: Path) -> None:
    head = (
        b"V6"
        + (1000).to_bytes(4, "big")
        + (2026).to_bytes(2, "big")
        + bytes([6, 14, 16, 40])
        + (5250).to_bytes(2, "big")
    )
    for name, data in (("MOV001", head), ("MOV002", b"V6nonsense"), ("MOV003", head[:6] + bytes(10))):
        path = tmp_path / "SD_VIDEO" / "PRG001" / f"{name}.MOD"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(bytes(5000))
        path.with_suffix(".MOI").write_bytes(data)
    card = look(tmp_path, LAYOUTS, Watch(), alike(facts(4, None)))
    assert [clip.start for clip in card.clips] == [datetime(2026, 6, 14, 16, 40, 5, 250_000, UTC), None, None]
