"""Identifying: headers against a process of `ffprobe` a file; looking against `idet` and `vfrdet` on the same parts.

And a card of many small clips: looked at when it comes, and tried from its copy.
"""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.measuring import Row, quiet_disks, ratio, run
from diadoche.core.offload.journal import CopiedFile
from diadoche.core.watch import Watch
from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest, perform_identify
from diadoche.services.jobs.list_card import list_card_at
from diadoche.services.side_processes.clip_trial import ClipTrials

_FILES = 500
_SMALL_CLIPS, _SMALL_TOLD = 400, 20
# Three milliseconds a clip, and eight, where `ffprobe` takes sixty.
_CARD_LOOKED, _CARD_TRIED = 20, 8
_LOOKED = 32
# A public tool is started for each file, which is the same work each time: it is given one in so many.
_TOLD, _DETECTED = 20, 8
# Where our look begins, as shares of the length, and how many pictures it takes at each [probe].
_PLACES, _PICTURES = (0.1, 0.5, 0.9), 7
_KINDS = {
    "mp4": ["-c:v", "libx264", "-preset", "ultrafast", "-g", "25", "-c:a", "aac"],
    "mov": ["-c:v", "prores", "-c:a", "pcm_s16le"],
    "mts": [
        "-c:v",
        "libx264",
        "-preset",
        "ultrafast",
        "-g",
        "12",
        "-c:a",
        "ac3",
        "-f",
        "mpegts",
        "-mpegts_m2ts_mode",
        "1",
    ],
    "mxf": ["-c:v", "mpeg2video", "-b:v", "20M", "-g", "12", "-c:a", "pcm_s16le"],
}
_SECONDS = 6


def rows() -> Iterator[Row]:
    """All rows of this part."""
    with tempfile.TemporaryDirectory(prefix="identify-") as name:
        folder = Path(name)
        files = _files(folder)
        quiet_disks()
        headers = (
            ratio(lambda: _ours(files, "headers"), lambda: _ffprobe(_share(files, _TOLD)), limit=_TOLD / 6) / _TOLD
        )
        yield _row(
            f"identify {_FILES} mixed files, headers", f"one ffprobe process a file, for one in {_TOLD}", 6, 1 / headers
        )
        few = files[:_LOOKED]
        looked = ratio(lambda: _ours(few, "looked"), lambda: _detectors(_share(few, _DETECTED)), limit=_DETECTED / 3)
        looked /= _DETECTED
        against = f"ffmpeg with idet and vfrdet, same parts, one in {_DETECTED}"
        yield _row(f"the same with scan and cadence looked at, {_LOOKED} files", against, 3, 1 / looked)
    with tempfile.TemporaryDirectory(prefix="card-") as name:
        yield from _card_rows(Path(name))


def _card_rows(card: Path) -> Iterator[Row]:
    files = _small_clips(card)
    few = files[: _SMALL_CLIPS // _SMALL_TOLD]
    told = f"one ffprobe process a file, for one in {_SMALL_TOLD}"
    # Each way is started once beforehand: a process that serves is ready where a window is open.
    clips = list_card_at(card, None, Watch()).clips
    assert len(clips) == _SMALL_CLIPS
    looked = ratio(lambda: list_card_at(card, None, Watch()), lambda: _ffprobe(few)) / _SMALL_TOLD
    yield _row(f"a card of {_SMALL_CLIPS} small clips listed, with their heads", told, _CARD_LOOKED, 1 / looked)

    def tried() -> None:
        with ClipTrials(clips) as trials:
            for file in files:
                path = str(file.relative_to(card))
                trials.arrived(card, CopiedFile(path, path, file.stat().st_size, {}))
            assert trials.finish(card, Watch()).clips == _SMALL_CLIPS

    measured = ratio(tried, lambda: _ffprobe(few)) / _SMALL_TOLD
    yield _row(f"{_SMALL_CLIPS} small clips tried at both ends, from their copy", told, _CARD_TRIED, 1 / measured)


def _row(work: str, against: str, goal: float, measured: float) -> Row:
    return Row(work, against, f"≥ {goal:.0f}× as fast", f"{measured:.1f}×", measured >= goal)


def _files(folder: Path) -> list[Path]:
    """Files of four kinds, each kind made once and copied."""
    originals = []
    for ending, codecs in _KINDS.items():
        path = folder / f"a.{ending}"
        source = [
            "-f",
            "lavfi",
            "-i",
            f"testsrc2=s=1920x1080:r=25:d={_SECONDS}",
            "-f",
            "lavfi",
            "-i",
            f"sine=r=48000:d={_SECONDS}",
        ]
        run("ffmpeg", "-v", "error", "-y", *source, "-ac", "2", *codecs, path)
        originals.append(path)
    files = []
    for number in range(_FILES):
        original = originals[number % len(originals)]
        path = folder / f"{number:04}{original.suffix}"
        # Links to the same bytes: it is parsing that is measured, not the disk.
        path.hardlink_to(original)
        files.append(path)
    return files


def _small_clips(card: Path) -> list[Path]:
    folder = card / "DCIM/100DRONE"
    folder.mkdir(parents=True)
    first = folder / "DRON0001.MP4"
    source = ["-f", "lavfi", "-i", "testsrc2=s=1280x720:r=25:d=1", "-f", "lavfi", "-i", "sine=r=48000:d=1"]
    run("ffmpeg", "-v", "error", *source, *_KINDS["mp4"], first)
    others = [folder / f"DRON{number:04}.MP4" for number in range(2, _SMALL_CLIPS + 1)]
    for path in others:
        path.hardlink_to(first)
    return [first, *others]


def _share(files: list[Path], one_in: int) -> list[Path]:
    """As many of each kind: kinds follow each other in turn."""
    kinds = len(_KINDS)
    return [path for number, path in enumerate(files) if number // kinds % one_in == 0]


def _ours(files: list[Path], depth: str) -> None:
    clips = tuple(ClipToIdentify((path,)) for path in files)
    perform_identify(IdentifyRequest(clips, depth=depth), Watch())  # type: ignore[arg-type]  # one of the three


def _ffprobe(files: list[Path]) -> None:
    for path in files:
        run("ffprobe", "-v", "error", "-of", "json", "-show_streams", "-show_format", path)


def _detectors(files: list[Path]) -> None:
    for path in files:
        for place in _PLACES:
            words = [
                "-ss",
                f"{_SECONDS * place}",
                "-i",
                str(path),
                "-frames:v",
                str(_PICTURES),
                "-vf",
                "idet,vfrdet",
                "-an",
            ]
            subprocess.run(["ffmpeg", "-v", "info", *words, "-f", "null", "-"], check=True, capture_output=True)
