"""Every kind of source by every recipe and container: each picture at its time, sound in step, read by FFmpeg's own tools."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import pytest

from diadoche.core.convert.recipes import recipes
from diadoche.core.errors import RequestError
from tests.outside.numbered import clicks_beside_the_picture, ffmpeg, film, numbers_of, times_of
from tests.outside.public_tools import ffprobe
from tests.outside.test_true_to_the_picture import make

N = 75
PCM = ("-c:a", "pcm_s16le")


@dataclass(frozen=True)
class Kind:
    """A source: how it is made, and the pictures it shows, by their numbers, at a rate."""

    write: Callable[[Path], list[Path]]
    rate: Fraction = Fraction(25)
    shown: tuple[int, ...] = tuple(range(N))


def one(ending: str, *options: str, rate: str = "25", kept: str = "", count: int = N) -> Callable[[Path], list[Path]]:
    return lambda folder: [film(folder / f"in.{ending}", range(count), rate, *options, kept=kept)]


def chapters(folder: Path) -> list[Path]:
    return [
        film(
            folder / f"C{part}.mp4",
            range(part * 25, part * 25 + 25),
            "25",
            "-c:v",
            "libx264",
            "-bf",
            "2",
            "-c:a",
            "aac",
            clicks_from=part,
        )
        for part in range(3)
    ]


def cut_by_edit_list(folder: Path) -> list[Path]:
    film(folder / "whole.mp4", range(N + 25), "25", "-c:v", "libx264", "-g", "15", "-c:a", "aac")
    ffmpeg("-ss", "1", "-i", folder / "whole.mp4", "-c", "copy", folder / "in.mp4")
    return [folder / "in.mp4"]


KINDS = {
    "H.264 with reordering, MP4, AAC": Kind(one("mp4", "-c:v", "libx264", "-bf", "3", "-c:a", "aac")),
    "HEVC of 10 bits, Matroska, FLAC": Kind(one("mkv", "-c:v", "libx265", "-x265-params", "log-level=none", "-pix_fmt", "yuv420p10le", "-c:a", "flac")),
    "MPEG-2 at 29.97, transport stream, AC-3": Kind(
        one("ts", "-c:v", "mpeg2video", "-bf", "2", "-q:v", "2", "-c:a", "ac3", rate="30000/1001"), Fraction(30000, 1001)
    ),
    "H.264, transport stream, MP2": Kind(one("ts", "-c:v", "libx264", "-bf", "2", "-c:a", "mp2")),
    "Motion JPEG, AVI, PCM": Kind(one("avi", "-c:v", "mjpeg", "-q:v", "2", *PCM)),
    "ProRes, MOV, PCM": Kind(one("mov", "-c:v", "prores_ks", *PCM)),
    "VC-3, MXF, PCM": Kind(one("mxf", "-c:v", "dnxhd", "-profile:v", "dnxhr_hq", "-pix_fmt", "yuv422p", *PCM)),
    "FFV1 4:4:4 of 10 bits, Matroska": Kind(one("mkv", "-c:v", "ffv1", "-pix_fmt", "yuv444p10le", *PCM)),
    "RGB, PNG, MOV": Kind(one("mov", "-c:v", "png", "-pix_fmt", "rgb24", *PCM)),
    "grey, FFV1, Matroska": Kind(one("mkv", "-c:v", "ffv1", "-pix_fmt", "gray", *PCM)),
    "VP9, WebM, Opus": Kind(one("webm", "-c:v", "libvpx-vp9", "-deadline", "realtime", "-cpu-used", "8", "-c:a", "libopus")),
    "H.264 at 59.94, MP4": Kind(one("mp4", "-c:v", "libx264", "-bf", "2", "-c:a", "aac", rate="60000/1001", count=150), Fraction(60000, 1001), tuple(range(150))),
    "chapters of H.264 and AAC": Kind(chapters),
    "H.264 behind an edit list": Kind(cut_by_edit_list, shown=tuple(range(25, 25 + N))),
    "a rate that changes": Kind(
        one("mp4", "-c:v", "libx264", "-bf", "2", "-c:a", "aac", rate="50", kept="lt(n,50)+not(mod(n,5))", count=150),
        Fraction(50), tuple(n if n < 50 else n // 5 * 5 for n in range(146)),
    ),
    "pictures lost": Kind(one("mp4", "-c:v", "libx264", "-bf", "0", "-c:a", "aac", kept="not(eq(n,20))"), shown=tuple(19 if n == 20 else n for n in range(N))),
}  # fmt: skip
WAYS = [*(("convert", name) for name in sorted(recipes())), *(("rewrap", name) for name in ("mov", "mp4", "mkv"))]


def check(kind: Kind, way: str, recipe: str, folder: Path) -> None:
    sources = kind.write(folder)
    if recipe == "mkv" and "edit_list" in kind.write.__name__:
        with pytest.raises(RequestError, match="Matroska has no list"):
            make(sources, way, recipe, folder / "out")
        return
    output = make(sources, way, recipe, folder / "out")
    if not output.output and way == "rewrap":
        assert "cannot be put into" in output.problems[-1].what or "does not take" in output.problems[-1].what, (
            output.problems
        )
        assert not list((folder / "out").glob("*"))
        return
    assert output.output, output.problems
    path = Path(output.output)
    numbers = numbers_of(path)
    if path.is_dir():
        assert numbers == list(kind.shown)
        return
    times = times_of(path)
    if way == "convert":
        assert numbers == list(kind.shown)
        assert times == pytest.approx([place / float(kind.rate) for place in range(len(times))], abs=0.002)
        said = ffprobe(path)["streams"][0]
        # FFmpeg 5.1 finds no average in MXF with ProRes, and measures its own Matroska by the rounding of its clock.
        told = [Fraction(said[key]) for key in ("avg_frame_rate", "r_frame_rate") if said[key] != "0/0"]
        assert kind.rate in told or (path.suffix == ".mkv" and abs(told[0] / kind.rate - 1) < Fraction(1, 1000))
    else:
        # As they are: no picture stands twice, and each stands where it did.
        once = list(dict.fromkeys(kind.shown))
        first = kind.shown.index(once[0])
        assert numbers == once
        begins_s = times[0]
        wanted = [(kind.shown.index(number) - first) / float(kind.rate) for number in once]
        assert [time_s - begins_s for time_s in times] == pytest.approx(wanted, abs=0.002)
    sound = next(each for each in ffprobe(path)["streams"] if each["codec_type"] == "audio")
    if sound["codec_tag_string"] == "ipcm":
        # Plain PCM in MP4 [23003-5] is younger than the distribution's FFmpeg; that it becomes PCM is told.
        assert any("plain PCM" in problem.what for problem in output.problems)
        return
    heard = clicks_beside_the_picture(path)
    length = int(len(kind.shown) / kind.rate)
    # In step with the picture as the source is; parts and edits begin with a click.
    wanted = (
        clicks_beside_the_picture(sources[0])[:length] if len(sources) == 1 else [float(each) for each in range(length)]
    )
    # What is heard before the first picture is cut off.
    begin = sum(each < 0 for each in wanted)
    assert heard[begin : len(wanted)] == pytest.approx(wanted[begin:], abs=0.003)


@pytest.mark.parametrize(("name", "chosen"), list(zip(sorted(KINDS), itertools.cycle(WAYS))))
def test_each_source_by_one_recipe(tmp_path: Path, name: str, chosen: tuple[str, str]) -> None:
    check(KINDS[name], *chosen, tmp_path)


@pytest.mark.long
@pytest.mark.parametrize("chosen", WAYS, ids="-".join)
@pytest.mark.parametrize("name", sorted(KINDS))
def test_every_source_by_every_recipe(tmp_path: Path, name: str, chosen: tuple[str, str]) -> None:
    check(KINDS[name], *chosen, tmp_path)
