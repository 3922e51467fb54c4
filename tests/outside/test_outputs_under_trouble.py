"""Disks that fill, sources that go, sizes that no codec takes, two jobs for one name: never an output that looks whole."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import recipes
from diadoche.core.errors import DiadocheError
from diadoche.core.watch import Watch
from diadoche.demo.faulty_folder import Faults
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.mounts import Mounter
from tests.outside.numbered import ffmpeg, film, numbers_of
from tests.outside.public_tools import ffprobe
from tests.outside.recipe_names import EVERY_RECIPE
from tests.outside.test_true_to_the_picture import make

WAYS = [("convert", "prores-422"), ("convert", "h264-intra"), ("rewrap", "mov"), ("rewrap", "mkv")]


def words_of(output: Output) -> str:
    return " ".join(problem.sentence() for problem in output.problems)


@pytest.mark.parametrize(("way", "recipe"), WAYS)
def test_a_disk_that_fills_leaves_nothing(tmp_path: Path, small_disk: Path, way: str, recipe: str) -> None:
    source = tmp_path / "in.mkv"
    # More than the disk holds, and of a size that no estimate foresees.
    ffmpeg("-f", "lavfi", "-i", "nullsrc=s=640x360:r=25:d=4,geq=random(1)*255:128:128", "-c:v", "libx264", "-qp", "4",
           "-preset", "ultrafast", "-pix_fmt", "yuv420p", source)  # fmt: skip
    output = make([source], way, recipe, small_disk / "out")
    assert not output.output
    assert "oom" in words_of(output) or "free" in words_of(output)
    assert [path for path in small_disk.rglob("*") if path.is_file()] == []


@pytest.mark.parametrize(("way", "recipe"), WAYS)
def test_a_source_that_goes_leaves_nothing(tmp_path: Path, faulty: Mounter, way: str, recipe: str) -> None:
    film(tmp_path / "in.mov", range(200), "25", "-c:v", "mjpeg", "-q:v", "2", "-c:a", "pcm_s16le")
    (tmp_path / "card").mkdir()
    (tmp_path / "in.mov").rename(tmp_path / "card/in.mov")
    card = faulty(tmp_path / "card")
    half = (tmp_path / "card/in.mov").stat().st_size // 2
    card.set(Faults(read_error_at=half, file="in.mov"))
    output = make([card.point / "in.mov"], way, recipe, tmp_path / "out")
    assert not output.output, output
    assert output.problems
    assert list((tmp_path / "out").glob("**/*")) == []


@pytest.fixture(
    scope="module",
    params=[
        ("321x181", "yuv444p"),
        ("322x182", "yuv420p"),
        ("1x1", "gray"),
        ("2x2", "yuv420p"),
        ("4098x34", "yuv420p"),
    ],
    ids="-".join,
)
def odd(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """A grey film, and its size."""
    size, pixels = request.param
    source = tmp_path_factory.mktemp("odd") / "in.mkv"
    wide, high = (int(side) for side in size.split("x"))
    coding = ("-c:v", "ffv1", "-pix_fmt", pixels)
    grey = bytes([128]) * (wide * high * 10)
    ffmpeg("-f", "rawvideo", "-pix_fmt", "gray", "-s", size, "-r", "25", "-i", "-", *coding, source, given=grey)
    return source, size


@pytest.mark.parametrize("recipe", EVERY_RECIPE)
def test_odd_sizes_are_kept_or_refused_by_name(odd: tuple[Path, str], tmp_path: Path, recipe: str) -> None:
    source, size = odd
    refused: DiadocheError | None = None
    try:
        output = perform_make(MakeRequest((source,), recipes()[recipe], tmp_path / "out"), Watch())
    except DiadocheError as error:
        refused = error
    if refused is not None:
        assert "cannot hold" in refused.problem.what
        return
    if not output.output:
        assert output.problems[-1].do
        assert "rror" not in output.problems[-1].what
        assert list((tmp_path / "out").glob("*")) == []
        return
    path = Path(output.output)
    said = ffprobe(sorted(path.iterdir())[0] if path.is_dir() else path)["streams"][0]
    assert f"{said['width']}x{said['height']}" == size


def test_two_jobs_for_one_name_make_two_outputs(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mp4", range(50), "25", "-c:v", "libx264", "-c:a", "aac")
    found: list[Output] = []
    jobs = [
        threading.Thread(target=lambda: found.append(make([source], "convert", "prores-422", tmp_path / "out")))
        for _ in range(2)
    ]
    for job in jobs:
        job.start()
    for job in jobs:
        job.join()
    assert len({output.output for output in found}) == 2
    assert all(numbers_of(Path(output.output)) == list(range(50)) for output in found)


def test_sound_that_changes_its_layout_is_named(tmp_path: Path) -> None:
    pieces = []
    for place, channels in enumerate((2, 6)):
        pieces.append(
            ffmpeg("-f", "lavfi", "-i", "testsrc2=r=25:d=2:s=320x180", "-f", "lavfi", "-i", "sine=440:d=2:r=48000", "-ac", str(channels),
                   "-c:v", "libx264", "-c:a", "ac3", "-output_ts_offset", str(2.08 * place), "-f", "mpegts", "-")
        )  # fmt: skip
    source = tmp_path / "in.ts"
    source.write_bytes(b"".join(pieces))
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    assert "stereo" in words_of(output)
    assert "5.1" in words_of(output)
    sound = ffprobe(Path(output.output))["streams"][1]
    assert abs(float(sound["duration"]) - 4) < 0.05
    wrapped = make([source], "rewrap", "mov", tmp_path / "wrapped")
    assert wrapped.output, wrapped.problems
    assert int(ffprobe(Path(wrapped.output), "-count_frames")["streams"][0]["nb_read_frames"]) == 100


def test_a_later_part_with_one_more_track_is_named(tmp_path: Path) -> None:
    one = film(tmp_path / "C1.mp4", range(25), "25", "-c:v", "libx264", "-c:a", "aac")
    two = film(tmp_path / "two.mp4", range(25, 50), "25", "-c:v", "libx264", "-c:a", "aac")
    ffmpeg("-i", two, "-map", "0:v", "-map", "0:a", "-map", "0:a", "-c", "copy", tmp_path / "C2.mp4")
    output = make([one, tmp_path / "C2.mp4"], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    assert "more sound tracks" in words_of(output)
    assert numbers_of(Path(output.output)) == list(range(50))
    refused = make([one, tmp_path / "C2.mp4"], "rewrap", "mov", tmp_path / "wrapped")
    assert not refused.output
    assert "more tracks than the first" in words_of(refused)
    assert list((tmp_path / "wrapped").glob("*")) == []
