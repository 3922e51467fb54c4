"""Rewrapping and converting against the distribution's `ffmpeg` (5.1; ours carries FFmpeg 8)."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.measuring import Row, at_most, ratio, run
from diadoche.core.convert.recipes import recipe_named
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.convert.sources import FileSource
from diadoche.core.convert.transcode import convert
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.demo.make import make_demo

_LONG_LOOPS, _SHORT_LOOPS = 270, 12


def rows() -> Iterator[Row]:
    """The rows about outputs."""
    cards = {path.name: path for path in make_demo(Path("build/test-demo"))}
    stream = cards["Keeper's camcorder"] / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS"
    measured, size = _rewrap(stream, _LONG_LOOPS, check=False)
    yield at_most(f"rewrap of {size:.1f} GB, packets' digests included", "ffmpeg -c copy", 1.10, measured)
    measured, size = _rewrap(stream, _SHORT_LOOPS, check=True)
    work = f"rewrap of {size * 1000:.0f} MB with the check by decoding both"
    yield Row(work, "ffmpeg -c copy", "a row of its own", f"{measured:.0f}×", None)
    yield from _convert_rows(cards["Drone"] / "DCIM/100DRONE/DRON0003.MP4")


def _rewrap(stream: Path, loops: int, *, check: bool) -> tuple[float, float]:
    """Our time over `ffmpeg`'s, and the size of the input in GB."""
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        long = folder / "long.mts"
        run(
            "ffmpeg",
            "-y",
            "-stream_loop",
            loops,
            "-i",
            stream,
            "-c",
            "copy",
            "-f",
            "mpegts",
            "-mpegts_m2ts_mode",
            "1",
            long,
        )
        facts = identify([long], "headers")

        def ours() -> None:
            made = rewrap([long], facts, folder / "out", Watch(), decode_check=check)
            assert made.output, made.problems
            Path(made.output).unlink()

        def theirs() -> None:
            run("ffmpeg", "-y", "-i", long, "-c", "copy", folder / "theirs.mov")

        return ratio(ours, theirs), long.stat().st_size / 1e9


def _convert_rows(clip: Path) -> Iterator[Row]:
    facts = identify([clip])
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()

        def ours() -> None:
            made = convert(FileSource([clip], facts), recipe_named("vc3-hq"), folder / "out", Watch())
            assert made.output, made.problems
            Path(made.output).unlink()

        def theirs() -> None:
            run(
                "ffmpeg",
                "-y",
                "-i",
                clip,
                "-c:v",
                "dnxhd",
                "-profile:v",
                "dnxhr_hq",
                "-pix_fmt",
                "yuv422p",
                "-c:a",
                "pcm_s24le",
                folder / "t.mov",
            )

        yield at_most("convert one clip, its check included", "ffmpeg, the same encoder", 1.05, ratio(ours, theirs))
