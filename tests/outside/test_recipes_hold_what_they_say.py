"""What recipes say of themselves, held against FFmpeg: lossless ones to the bit, stills, look-up tables, review copies."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import Changes, recipes
from diadoche.core.watch import Cancelled, Progress, Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import HEIGHT, WIDTH, click_times, ffmpeg, film, numbers_of
from tests.outside.public_tools import ffprobe, ffprobe_pixels, reading

AAC = ("-c:a", "aac", "-b:a", "256k")


def make(source: Path, recipe: str, folder: Path, changes: Changes | None = None, **more: object) -> Output:
    request = MakeRequest((source,), recipes()[recipe], folder, changes=changes, **more)  # type: ignore[arg-type]
    return perform_make(request, Watch())


def made(source: Path, recipe: str, folder: Path, changes: Changes | None = None, **more: object) -> Path:
    output = make(source, recipe, folder, changes, **more)
    assert output.output, output.problems
    assert output.checks is not None
    assert output.checks.passed
    return Path(output.output)


# Each kind of layout and each depth; the other pairs of both are long.
KEPT = ("gray12le", "yuv411p", "yuv422p12le", "yuv444p16le", "yuva444p10le", "gbrp", "gbrap")
KEPT_TOO = ("gray", "yuv420p", "yuv420p10le", "yuv440p", "gbrp12le")


@pytest.mark.parametrize("pixels", [*KEPT, *(pytest.param(each, marks=pytest.mark.long) for each in KEPT_TOO)])
def test_what_is_kept_in_ffv1_comes_back_to_the_bit(tmp_path: Path, pixels: str) -> None:
    coding = ("-c:v", "ffv1", "-level", "3") if pixels not in {"gbrp"} else ("-c:v", "libx264rgb", "-qp", "0")
    source = tmp_path / "in.mkv"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.4,noise=alls=40:allf=t", "-pix_fmt", pixels, *coding,
           source)  # fmt: skip
    path = made(source, "ffv1", tmp_path / "out")
    # Eight bits of RGB lie packed in it.
    assert ffprobe_pixels(path) == {"gbrp": "bgr0", "gbrap": "bgra"}.get(pixels, pixels)
    before, after = (ffmpeg("-i", each, "-f", "rawvideo", "-pix_fmt", pixels, "-") for each in (source, path))
    assert before == after
    said = ffprobe(path)["streams"][0]
    assert said["codec_name"] == "ffv1"


def test_stills_are_the_pictures_as_rgb(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mov", range(40), "25", "-c:v", "libx264", "-crf", "12", "-bf", "2", *AAC)
    output = make(source, "stills-png", tmp_path / "out")
    folder = Path(output.output)
    assert numbers_of(folder) == list(range(40))
    assert [path.name for path in sorted(folder.iterdir())] == [f"in_{n:06}.png" for n in range(40)]
    assert any("no sound" in problem.what for problem in output.problems)
    by_sws = "scale=flags=accurate_rnd+full_chroma_int+full_chroma_inp:in_color_matrix=bt601"
    wanted, found = (
        np.frombuffer(ffmpeg(*reading(each), "-vf", way, "-f", "rawvideo", "-pix_fmt", "rgb24", "-"), np.uint8).astype(
            int
        )
        for each, way in ((source, by_sws), (folder, "null"))
    )
    assert np.abs(wanted - found).max() <= 2


def test_stills_of_a_part_carry_the_numbers_of_the_recording(tmp_path: Path) -> None:
    source = film(
        tmp_path / "in.mov", range(40), "25", "-c:v", "libx264", "-crf", "12", "-pix_fmt", "yuv420p10le", *AAC
    )
    folder = made(source, "stills-png", tmp_path / "out", marks=("10", "15"))
    assert [path.name[-10:] for path in sorted(folder.iterdir())] == [f"{n:06}.png" for n in range(10, 15)]
    assert numbers_of(folder) == list(range(10, 15))
    assert ffprobe_pixels(folder) == "rgb48be"


def test_stills_that_are_stopped_leave_nothing(tmp_path: Path) -> None:
    source = film(tmp_path / "in.mov", range(200), "25", "-c:v", "libx264", "-crf", "12", *AAC)
    watch = Watch(lambda progress: watch.stop() if progress.done > 20 else None)
    with pytest.raises(Cancelled):
        perform_make(MakeRequest((source,), recipes()["stills-png"], tmp_path / "out"), watch)
    assert list((tmp_path / "out").iterdir()) == []


def test_stills_on_a_full_disk_leave_nothing(tmp_path: Path, small_disk: Path) -> None:
    source = film(tmp_path / "in.mov", range(60), "25", "-c:v", "libx264", "-crf", "12", *AAC)
    room = os.statvfs(small_disk)

    def fill(progress: Progress) -> None:
        # Somebody else takes the room while it is made.
        if progress.done == 5:
            left = room.f_bavail * room.f_frsize
            with suppress(OSError):
                (small_disk / "other").write_bytes(bytes(left))

    output = perform_make(MakeRequest((source,), recipes()["stills-png"], small_disk / "out"), Watch(fill))
    assert not output.output
    assert "full" in output.problems[-1].what or "free" in output.problems[-1].what
    assert not (small_disk / "out").exists() or list((small_disk / "out").iterdir()) == []


def cube(path: Path, size: int, curve: str) -> Path:
    """A table that gives each channel for itself a function of what goes in."""
    steps = np.linspace(0, 1, size)
    give = {"same": steps, "inverse": 1 - steps, "darker": steps**2}[curve]
    lines = [
        f"{give[r]:.6f} {give[g]:.6f} {give[b]:.6f}" for b in range(size) for g in range(size) for r in range(size)
    ]
    path.write_text(f'# made for a test\nTITLE "{curve}"\nLUT_3D_SIZE {size}\n' + "\n".join(lines) + "\n")
    return path


def test_a_look_up_table_that_changes_nothing_changes_nothing(tmp_path: Path) -> None:
    source = tmp_path / "in.mkv"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.2", "-vf", "scale=out_color_matrix=bt709", "-pix_fmt", "yuv444p10le",
           "-c:v", "ffv1", "-colorspace", "bt709", "-color_primaries", "bt709", "-color_trc", "bt709", "-color_range", "tv", source)  # fmt: skip
    path = made(source, "ffv1", tmp_path / "out", Changes(table=cube(tmp_path / "same.cube", 17, "same")))
    before, after = (
        np.frombuffer(ffmpeg("-i", each, "-f", "rawvideo", "-"), "<u2").astype(int) for each in (source, path)
    )
    # Ten bits through sixteen of RGB and back; colours outside of RGB are no colours.
    inside = (before > 64) & (before < 940)
    assert np.percentile(np.abs(before - after)[inside], 99) <= 1


@pytest.mark.parametrize("curve", ["inverse", "darker"])
def test_a_look_up_table_gives_what_ffmpeg_makes_of_it(tmp_path: Path, curve: str) -> None:
    source = tmp_path / "in.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.2", "-pix_fmt", "rgb24", "-c:v", "png", source)
    table = cube(tmp_path / f"it's a: {curve}, table.cube", 9, curve)
    path = made(source, "stills-png", tmp_path / "out", Changes(table=table))
    plain = tmp_path / "plain.cube"
    plain.write_bytes(table.read_bytes())
    wanted, found = (
        np.frombuffer(ffmpeg(*reading(each), "-vf", way, "-f", "rawvideo", "-pix_fmt", "rgb24", "-"), np.uint8).astype(
            int
        )
        for each, way in ((source, f"format=gbrp16le,lut3d={plain}:interp=tetrahedral"), (path, "null"))
    )
    assert np.abs(wanted - found).max() <= 1


@pytest.mark.parametrize(
    "text",
    ["", "LUT_3D_SIZE 2\n0 0 0\n", "LUT_3D_SIZE 2000\n", "LUT_3D_SIZE x\n", "LUT_3D_SIZE 2\n" + "0 nan 0\n" * 8, "LUT_3D_SIZE 2\n" + "0 1e9 0\n" * 8,
     "LUT_3D_SIZE 2\n" + "0 0 0\n" * 9, "LUT_1D_SIZE 2\n0 0 0\nhello\n", "\x00\x01\x02" * 50],
)  # fmt: skip
def test_a_look_up_table_with_nonsense_is_refused(tmp_path: Path, text: str) -> None:
    source = film(tmp_path / "in.mov", range(5), "25", "-c:v", "libx264", sound=False)
    (tmp_path / "bad.cube").write_text(text)
    with pytest.raises(Exception, match="no look-up table"):
        make(source, "prores-422", tmp_path / "out", Changes(table=tmp_path / "bad.cube"))
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize(("recipe", "pixels"), [("review-h264", "yuv420p"), ("review-av1", "yuv420p10le")])
def test_review_copies_are_in_step_and_say_what_they_lose(tmp_path: Path, recipe: str, pixels: str) -> None:
    source = film(
        tmp_path / "in.mov",
        range(125),
        "25",
        "-c:v",
        "libx264",
        "-crf",
        "10",
        "-bf",
        "2",
        "-vf",
        "format=yuv422p10le",
        "-c:a",
        "pcm_s24le",
    )
    output = make(source, recipe, tmp_path / "out")
    path = Path(output.output)
    assert output.output, output.problems
    assert numbers_of(path) == list(range(125))
    assert ffprobe_pixels(path) == pixels
    assert click_times(path) == pytest.approx([0, 1, 2, 3, 4], abs=0.003)
    said = " ".join(problem.what for problem in output.problems)
    assert "not as 4:2:2" in said
    assert ("8 of 10 bits" in said) is (recipe == "review-h264")
    assert ffprobe(path)["streams"][1]["codec_name"] == "aac"


def test_channels_that_aac_does_not_name_stay_lossless(tmp_path: Path) -> None:
    source = tmp_path / "in.mov"
    channels = "|".join(f"sin({440 * n}*t*6.2832)" for n in range(1, 7))
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=2", "-f", "lavfi", "-i", f"aevalsrc={channels}:s=48000:d=2:c=hexagonal",
           "-c:v", "libx264", "-c:a", "pcm_s16le", source)  # fmt: skip
    path = made(source, "review-h264", tmp_path / "out")
    sound = ffprobe(path)["streams"][1]
    # The lossless coder of MP4 would take six channels for 5.1.
    assert (sound["codec_name"], sound["channels"]) == ("pcm_s16le", 6)
    before, after = (ffmpeg("-i", each, "-f", "s16le", "-c:a", "pcm_s16le", "-") for each in (source, path))
    assert before == after


def test_transparency_is_kept_or_its_loss_is_told(tmp_path: Path) -> None:
    source = tmp_path / "in.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=0.2,format=yuva444p10le,geq=lum='p(X,Y)':cb='p(X,Y)':cr='p(X,Y)':a='X*3'",
           "-c:v", "prores_ks", "-profile:v", "4444", "-alpha_bits", "16", source)  # fmt: skip
    kept = make(source, "prores-4444", tmp_path / "kept")
    assert "a" in ffprobe_pixels(Path(kept.output))[:4]
    assert not any("transparency" in problem.what for problem in kept.problems)
    alpha = [
        np.frombuffer(ffmpeg("-i", each, "-vf", "extractplanes=a", "-frames:v", "1", "-pix_fmt", "gray16le", "-f", "rawvideo", "-"), "<u2").astype(int)
        for each in (source, Path(kept.output))
    ]  # fmt: skip
    assert np.abs(alpha[0] - alpha[1]).max() <= 256
    lost = make(source, "prores-422", tmp_path / "lost")
    assert any("no transparency" in problem.what for problem in lost.problems)


def test_black_and_frozen_places_are_told(tmp_path: Path) -> None:
    source = tmp_path / "in.mkv"
    numbers = [*range(20), *[20] * 25, *range(21, 41)]
    film(
        source,
        numbers,
        "25",
        "-c:v",
        "ffv1",
        "-vf",
        "drawbox=color=black:t=fill:enable='between(n,50,56)'",
        sound=False,
    )
    output = make(source, "vc3-hq", tmp_path / "out")
    assert output.output, output.problems
    places = {(each.kind, each.picture, each.words) for each in output.findings}
    assert ("black", 50, "for 0.3 s") in places
    assert any(kind == "frozen" and abs(picture - 21) <= 1 and words == "for 1.0 s" for kind, picture, words in places)
    assert len(places) == 2
    assert (WIDTH, HEIGHT) == (320, 180)
