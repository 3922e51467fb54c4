"""Rewrapping and converting against the distribution's `ffmpeg` (5.1; ours carries FFmpeg 8)."""

from __future__ import annotations

import shutil
import tempfile
import threading
import time
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
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.make_output import MakeRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import Job, Runner

_LONG_LOOPS, _SHORT_LOOPS = 252, 5
_REWRAP, _CONVERT, _MANY = 1.1, 1.05, 1 / 1.2
_CLIPS, _PICTURES = 8, 50


def rows() -> Iterator[Row]:
    """The rows about outputs."""
    cards = {path.name: path for path in make_demo(Path("build/test-demo"))}
    stream = cards["Keeper's camcorder"] / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS"
    measured, size = _rewrap(stream, _LONG_LOOPS, check=False)
    yield at_most(f"rewrap of {size:.1f} GB, packets' digests included", "ffmpeg -c copy", _REWRAP, measured)
    measured, size = _rewrap(stream, _SHORT_LOOPS, check=True)
    work = f"rewrap of {size * 1000:.0f} MB with the check by decoding both"
    yield Row(work, "ffmpeg -c copy", "a row of its own", f"{measured:.0f}×", None)
    yield from _convert_rows(cards["Drone"] / "DCIM/100DRONE/DRON0003.MP4")
    yield Row(
        f"convert {_CLIPS} short clips, as the queue does, checks included",
        "ffmpeg, one after another",
        "≥ 1.2 times as fast",
        f"{(faster := 1 / _many_clips(cards['Drone'] / 'DCIM/100DRONE/DRON0003.MP4')):.2f} times",
        faster >= 1 / _MANY,
    )


def _rewrap(stream: Path, loops: int, *, check: bool) -> tuple[float, float]:
    """Our time over `ffmpeg`'s, and the size of the input in GB."""
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        long = folder / "long.mts"
        run(
            "ffmpeg",
            "-y",
            "-stream_loop",
            str(loops),
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

        def theirs() -> None:
            run("ffmpeg", "-i", long, "-c", "copy", folder / "theirs.mov")

        measured = ratio(ours, theirs, lambda: _clear(folder), None if check else _REWRAP)
        return measured, long.stat().st_size / 1e9


def _clear(folder: Path) -> None:
    """Removes what the last turn made: to free a gigabyte takes a second, and is nobody's work here."""
    for made in (*(folder / "out").glob("*"), *folder.glob("theirs.*")):
        made.unlink()


def _many_clips(clip: Path) -> float:
    """Our time over `ffmpeg`'s for eight clips of two seconds: through the queue, each job in its process."""
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()
        clips = [folder / f"clip{number}.mp4" for number in range(_CLIPS)]
        run("ffmpeg", "-y", "-i", clip, "-frames:v", str(_PICTURES), "-c", "copy", clips[0])
        for each in clips[1:]:
            each.write_bytes(clips[0].read_bytes())
        recipe = recipe_named("vc3-hq")
        facts = [identify([each], "counted") for each in clips]

        def ours() -> None:
            ended = threading.Semaphore(0)
            ledger = Ledger(folder / f"{time.monotonic_ns()}.sqlite")

            def finished(job: Job) -> None:
                assert job.result.output, job.result.problems
                ended.release()

            runner = Runner(ledger, ALL_KINDS, lambda _job: None, finished)
            for number, each in enumerate(clips):
                runner.add(
                    "make", each.name, "encode", MakeRequest((each,), recipe, folder / "out", facts=facts[number])
                )
            for _each in clips:
                ended.acquire()
            runner.close()
            shutil.rmtree(folder / "out")

        def theirs() -> None:
            for each in clips:
                run(
                    "ffmpeg", "-y", "-i", each, "-c:v", "dnxhd", "-profile:v", "dnxhr_hq", "-pix_fmt", "yuv422p",
                    "-c:a", "pcm_s24le", folder / "t.mov",
                )  # fmt: skip

        return ratio(ours, theirs, limit=_MANY)


def _convert_rows(clip: Path) -> Iterator[Row]:
    facts = identify([clip])
    with tempfile.TemporaryDirectory(dir=".") as name:
        folder = Path(name).absolute()

        def ours() -> None:
            made = convert(FileSource([clip], facts), recipe_named("vc3-hq"), folder / "out", Watch())
            assert made.output, made.problems

        def theirs() -> None:
            run(
                "ffmpeg",
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
                folder / "theirs.mov",
            )

        measured = ratio(ours, theirs, lambda: _clear(folder), _CONVERT)
        yield at_most("convert one clip, its check included", "ffmpeg, the same encoder", _CONVERT, measured)
