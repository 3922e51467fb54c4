"""Names and places of outputs, waybills, hand-off and progress over several passes."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta, timezone
from fractions import Fraction
from pathlib import Path

import opentimelineio as otio
import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.cards.tree import list_tree
from diadoche.core.convert.formats import PictureFormat, colour_thinned, samples_of
from diadoche.core.convert.new_output import new_file, output_name
from diadoche.core.convert.plan import plan_of
from diadoche.core.convert.recipes import recipe_named, recipes
from diadoche.core.diskfiles import DirectReader, rename_new, write_whole
from diadoche.core.errors import (
    Problem,
    RequestError,
    SourceLost,
    SourceUnreadable,
    TargetFull,
    TargetUnusable,
    reading,
    writing,
)
from diadoche.core.footage.frames import FrameReader, shape_of
from diadoche.core.handoff.timeline import HandedClip, HandedOff, hand_off, majority
from diadoche.core.identify.facts import Facts, VideoFacts
from diadoche.core.identify.probe import identify
from diadoche.core.offload.copies import Copy, CopyState, ReadBack
from diadoche.core.offload.naming import NamingValues
from diadoche.core.offload.offload import KeptFile, OffloadResult
from diadoche.core.offload.plan import PlanOptions, plan_offload
from diadoche.core.offload.waybill import WaybillPage, waybill_html
from diadoche.core.watch import Cancelled, Progress, Share, Watch
from diadoche.demo.scene import read_number


def test_names_of_outputs_say_camera_time_and_original() -> None:
    start = datetime(2026, 6, 14, 8, 40, tzinfo=timezone(timedelta(hours=1)))
    assert output_name("Keeper", start, "00000", "mov") == "Keeper_2026-06-14_084000_00000.mov"
    assert output_name("", None, "a/b", "mkv") == "a-b.mkv"


def test_an_output_takes_the_next_free_name_and_leaves_nothing_when_it_fails(tmp_path: Path) -> None:
    folder, source = tmp_path / "out", tmp_path / "in" / "x.mov"
    for wanted in ("x.mov", "x (2).mov"):
        with new_file(folder, "x.mov", 10, (source,)) as made:
            made.part.write_bytes(b"whole")
        assert made.final == folder / wanted
    with pytest.raises(RuntimeError, match="encoder"):
        _fail_in_the_middle(folder, source)
    with new_file(folder, "y.mov", 10, (source,)) as made:
        made.part.write_bytes(b"wrong")
        made.withheld = True
    assert sorted(path.name for path in folder.iterdir()) == ["x (2).mov", "x.mov"]


def _fail_in_the_middle(folder: Path, source: Path) -> None:
    with new_file(folder, "x.mov", 10, (source,)) as made:
        made.part.write_bytes(b"half")
        raise RuntimeError("encoder")


def test_the_originals_own_folder_and_a_disk_too_small_are_refused(tmp_path: Path, small_disk: Path) -> None:
    source = tmp_path / "x.mov"
    with pytest.raises(RequestError, match="originals"), new_file(tmp_path, "y.mov", 1, (source,)):
        pass
    with pytest.raises(TargetFull, match="free"), new_file(small_disk, "y.mov", 10**9, (source,)):
        pass


@pytest.mark.parametrize(
    ("code", "kind"), [(28, TargetFull), (122, TargetFull), (30, TargetUnusable), (5, TargetUnusable)]
)
def test_every_system_error_on_writing_has_its_kind(code: int, kind: type[Exception]) -> None:
    with pytest.raises(kind) as caught, writing(Path("/x/y")):
        raise OSError(code, os.strerror(code))
    assert caught.value.problem.safe  # type: ignore[attr-defined]
    assert caught.value.problem.do  # type: ignore[attr-defined]


def test_a_lost_source_is_told_from_one_bad_file(tmp_path: Path) -> None:
    with pytest.raises(SourceUnreadable), reading(tmp_path / "x", tmp_path):
        raise OSError(5, "bad")
    with pytest.raises(SourceLost), reading(tmp_path / "gone" / "x", tmp_path / "gone"):
        raise OSError(5, "bad")


def test_renaming_never_replaces(tmp_path: Path) -> None:
    (tmp_path / "old").write_bytes(b"1")
    (tmp_path / "new").write_bytes(b"2")
    with pytest.raises(FileExistsError):
        rename_new(tmp_path / "old", tmp_path / "new")
    assert (tmp_path / "new").read_bytes() == b"2"
    rename_new(tmp_path / "old", tmp_path / "third")
    assert (tmp_path / "third").read_bytes() == b"1"


def test_small_files_are_whole_or_as_before(tmp_path: Path) -> None:
    path = tmp_path / "a"
    write_whole(path, b"one")
    write_whole(path, b"two")
    assert path.read_bytes() == b"two"
    assert list(tmp_path.iterdir()) == [path]


@pytest.mark.parametrize("size", [0, 1, 4095, 4096, 4_194_304, 4_194_305, 9_000_001])
def test_reading_past_the_cache_gives_every_byte(tmp_path: Path, size: int) -> None:
    data = os.urandom(size)
    (tmp_path / "x").write_bytes(data)
    reader = DirectReader()
    assert b"".join(bytes(block) for block in reader.blocks(tmp_path / "x")) == data
    reader.close()


def test_progress_over_passes_never_goes_back_and_stops_anywhere() -> None:
    told: list[Progress] = []
    whole = Watch(told.append)
    for begin, end in ((0, 0.2), (0.2, 0.6), (0.6, 1)):
        share = Share(whole, begin, end)
        for done in range(11):
            share.step(Progress(done, 10))
    shares = [progress.done for progress in told]
    assert shares == sorted(shares)
    assert told[-1].percent == 100
    assert Progress(999, 1000).percent == 99
    whole.stop()
    with pytest.raises(Cancelled):
        Share(whole, 0, 1).step(Progress(1, 2))


def result(**changes: object) -> OffloadResult:
    base = OffloadResult(
        "/cards/<x>", 1, 1000, 2.0, datetime(2026, 6, 14, tzinfo=UTC),
        (Copy("/a", "/a/S/card-001", "/a/S/card-001/ascmhl/0001.mhl", 1, 1000, CopyState.PROVEN),),
        (KeptFile("A<b>&.MP4", 1000, {"xxh128": "00ff"}),), True, False, (), (), (),
    )  # fmt: skip
    return replace(base, **changes)  # type: ignore[arg-type]


def page(made: OffloadResult) -> str:
    return waybill_html(
        WaybillPage("Rock", "Card", "AVCHD", (), 0, ["00002 has no clip information."], made, ("xxh128",), "1")
    )


def test_a_waybill_tells_the_truth_and_escapes_names() -> None:
    html = page(result())
    assert "The copy is proven." in html
    assert "A&lt;b&gt;&amp;.MP4" in html
    assert "00ff" in html
    assert "On the card: 00002 has no clip information." in html
    assert "read back, not past the cache" in html
    copies = result().copies
    for way in (ReadBack.DISK, ReadBack.NETWORK):
        assert way.value in page(result(copies=(replace(copies[0], read_back=way),)))
    assert "0 of 1 copies are proven" in page(result(copies=(replace(copies[0], status=CopyState.INCOMPLETE),)))
    stopped = page(result(stopped=True, problems=(Problem("The disk <went> away.", "", "Safe.", "Do."),)))
    assert "no copy of this run is whole" in stopped
    assert "The disk &lt;went&gt; away." in stopped
    assert "is kept as" in page(result(renamed=(("a", "a (2)"),)))


def test_a_plan_names_folder_and_room(tmp_path: Path) -> None:
    card = tmp_path / "card"
    card.mkdir()
    (card / "x").write_bytes(b"x" * 10)
    made = plan_offload(list_tree(card), NamingValues("A/B: x", date(2026, 6, 14), "Cam?"), (tmp_path / "d",))
    assert made.targets[0].root == tmp_path / "d" / "A-B- x" / "Originals" / "2026-06-14" / "Cam-" / "card-001"
    assert (made.size_bytes, made.whole, made.digests) == (10, True, ("xxh128",))
    part = plan_offload(
        list_tree(card), NamingValues("S", date(2026, 6, 14), "C"), (tmp_path / "d",), PlanOptions(chosen=frozenset())
    )
    assert (part.files, part.whole) == ((), False)
    with pytest.raises(RequestError, match="At most two"):
        plan_offload(
            list_tree(card),
            NamingValues("S", date(2026, 6, 14), "C"),
            (tmp_path / "d",),
            PlanOptions(digests=("md5", "c4", "sha1")),
        )


@pytest.fixture(scope="module")
def drone_facts(drone: Path) -> Facts:
    return identify([drone / "DCIM/100DRONE/DRON0001.MP4"])


def test_a_timeline_has_the_majority_and_every_reference(tmp_path: Path, drone_facts: Facts, camcorder: Path) -> None:
    stream = camcorder / "PRIVATE/AVCHD/BDMV/STREAM/00002.MTS"
    other = identify([stream])
    clips = [
        HandedClip(
            "a", "Drone", drone_facts.start, drone_facts, (Path("/o/a.mp4"),), Path("/e/a.mov"), Path("/p/a.lrf")
        ),
        HandedClip("b", "Drone", None, drone_facts, (Path("/o/b 1.mts"), Path("/o/b 2.mts")), None, None),
        HandedClip("c", "Cam", other.start, other, (stream,), None, None),
    ]
    assert majority(clips) == (Fraction(30000, 1001), (2704, 1520))
    handed = hand_off("Rock", clips, tmp_path / "x" / "t.otio")
    assert handed.clips == 3
    assert handed.edit_ready == sum(clip.edit_ready is not None for clip in clips)
    assert HandedOff(3, 3).words() == "3 clips, each with an edit-ready file beside the original."
    assert HandedOff(3, 1).words() == "3 clips, 1 of them with an edit-ready file beside the original."
    assert HandedOff(1, 0).words() == "1 clip, as recorded."
    timeline = otio.adapters.read_from_file(str(tmp_path / "x" / "t.otio"))
    found = {clip.name: clip for clip in timeline.find_clips()}
    assert [clip.name for clip in timeline.find_clips()] == ["c", "a", "b"]
    assert set(found["a"].media_references()) == {"original", "edit-ready", "proxy"}
    assert found["a"].active_media_reference_key == "edit-ready"
    assert found["b"].active_media_reference_key == "original"
    assert found["b"].media_reference.metadata["diadoche"]["spans"][1].endswith("b%202.mts")
    assert found["a"].source_range.duration.value == 120
    assert list(timeline.metadata["diadoche"]["groups"]["Drone"]) == ["a", "b"]


def test_frames_for_the_eye_are_the_ones_asked_for(drone: Path) -> None:
    path = drone / "DCIM/100DRONE/DRON0003.MP4"
    facts = identify([path])
    assert shape_of(facts).moments == 90
    reader = FrameReader([path], facts, (960, 540))
    for moment in (0, 1, 57, 56, 55, 89, 3):
        picture = reader.at(moment)
        assert picture is not None
        assert picture.shape == (540, 960, 3)
        assert read_number(picture[..., 1], scale=0.5) == 4000 + moment
    assert reader.at(500) is None
    reader.close()


def test_turned_and_stretched_pictures_are_counted_as_they_are_seen(drone_facts: Facts) -> None:
    video: VideoFacts = drone_facts.video[0]
    turned = replace(drone_facts, video=(replace(video, rotation=90),))
    assert (shape_of(turned).width, shape_of(turned).height) == (1520, 2704)
    wide = replace(drone_facts, video=(replace(video, width=1440, height=1080, pixel_aspect=Fraction(4, 3)),))
    assert (shape_of(wide).width, shape_of(wide).height) == (1920, 1080)


@pytest.mark.parametrize("name", sorted(recipes()))
def test_recipes_estimate_and_choose(drone_facts: Facts, name: str) -> None:
    recipe = recipe_named(name)
    # Published rates at 2704×1520 and four seconds lie between 10 and 400 MB for every recipe for cutting.
    smallest, largest = (1e6, 30e6) if recipe.sound.codec == "aac" else (10e6, 800e6)
    assert smallest < plan_of(recipe, drone_facts).estimated_bytes < largest
    deep = replace(PictureFormat.of(drone_facts), bit_depth=10, chroma="4:2:2")
    kept = samples_of(recipe.variant_for(deep).pixel_format_for(deep))
    lost = kept.bits < 10 or colour_thinned("4:2:2", kept.chroma) > 1
    assert bool(recipe.losses(deep)) is lost
    assert lost is (name in {"vc3-lb", "vc3-sq", "review-h264", "review-av1"})


def test_a_card_with_a_wrong_ending_inside_is_named(tmp_path: Path, drone: Path) -> None:
    folder = tmp_path / "card" / "DCIM" / "100ABCDE"
    folder.mkdir(parents=True)
    (folder / "ABCD0001.MP4").write_text("no video at all\n")
    (folder / "ABCD0002.MP4").write_bytes(b"")
    card = look(tmp_path / "card", load_layouts(), Watch())
    words = " ".join(problem.what for problem in card.problems)
    assert "ABCD0001.MP4 is no video" in words
    assert "ABCD0002.MP4 is empty" in words
    assert len(card.clips) == 2
