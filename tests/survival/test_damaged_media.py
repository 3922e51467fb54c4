"""Thousands of damaged media files: no crash of the application, no hang beyond the limit, facts or a named problem for each.

`--long` takes thousands; the usual run takes a share of them.
"""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from diadoche.core.errors import Problem
from diadoche.core.identify.probe import identify
from diadoche.services.side_processes.parser import Parser

_LIMIT_S = 20.0
_KINDS = {
    "mp4": ["-c:v", "libx264", "-preset", "ultrafast", "-c:a", "aac"],
    "mov": ["-c:v", "prores_ks", "-c:a", "pcm_s16le"],
    "mkv": ["-c:v", "libx265", "-x265-params", "log-level=none", "-preset", "ultrafast", "-c:a", "flac"],
    "mxf": ["-c:v", "mpeg2video", "-c:a", "pcm_s16le"],
    "avi": ["-c:v", "mjpeg", "-c:a", "pcm_s16le"],
    "m2ts": ["-c:v", "libx264", "-preset", "ultrafast", "-c:a", "ac3"],
    "mpg": ["-c:v", "mpeg2video", "-c:a", "mp2"],
    "webm": ["-c:v", "libvpx", "-cpu-used", "8", "-c:a", "libopus"],
}


@pytest.fixture(scope="module")
def originals(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("whole")
    made = {}
    for ending, codecs in _KINDS.items():
        path = folder / f"a.{ending}"
        words = [
            "-f",
            "lavfi",
            "-i",
            "testsrc2=s=128x96:r=25:d=0.6",
            "-f",
            "lavfi",
            "-i",
            "sine=d=0.6:r=48000",
            "-ac",
            "2",
        ]
        subprocess.run(["ffmpeg", "-v", "error", "-y", *words, *codecs, str(path)], check=True)
        made[ending] = path.read_bytes()
    return made


def _cut(data: bytes, rng: np.random.Generator) -> bytes:
    return data[: rng.integers(1, len(data))]


def _flipped(data: bytes, rng: np.random.Generator) -> bytes:
    changed = bytearray(data)
    for place in rng.integers(0, len(data), rng.integers(1, 60)):
        changed[place] ^= 1 << rng.integers(0, 8)
    return bytes(changed)


def _head_nonsense(data: bytes, rng: np.random.Generator) -> bytes:
    """Sizes and counts stand at both ends of a file."""
    changed = bytearray(data)
    for _ in range(rng.integers(1, 12)):
        place = int(rng.integers(0, min(1500, len(data) - 4)))
        place = len(data) - 4 - place if rng.integers(0, 2) else place
        changed[place : place + 4] = rng.bytes(4) if rng.integers(0, 2) else b"\xff\xff\xff\xff"
    return bytes(changed)


def _spliced(data: bytes, rng: np.random.Generator) -> bytes:
    first, second = sorted(rng.integers(0, len(data), 2))
    return data[:first] + data[second:] if rng.integers(0, 2) else data[:second] + data[first:]


def _zeroed(data: bytes, rng: np.random.Generator) -> bytes:
    first, second = sorted(rng.integers(0, len(data), 2))
    return data[:first] + bytes(int(second - first)) + data[second:]


_DAMAGES = (_cut, _flipped, _head_nonsense, _spliced, _zeroed)


def _damaged(originals: dict[str, bytes], count: int, seed: int) -> Iterator[tuple[str, bytes]]:
    rng = np.random.default_rng(seed)
    kinds = list(originals)
    for number in range(count):
        ending = kinds[number % len(kinds)]
        damage = _DAMAGES[number // len(kinds) % len(_DAMAGES)]
        yield f"{number:05}{damage.__name__}.{ending}", damage(originals[ending], rng)


def _examine(originals: dict[str, bytes], folder: Path, count: int, seed: int) -> tuple[int, float]:
    """How many files ended the process apart or were given up, and the longest time that one took."""
    died, slowest_s = 0, 0.0
    with Parser(longest_s=_LIMIT_S) as parser:
        for name, data in _damaged(originals, count, seed):
            path = folder / name
            path.write_bytes(data)
            began_s = time.monotonic()
            facts = parser.facts([path], "counted")
            slowest_s = max(slowest_s, time.monotonic() - began_s)
            died += any("could not be examined" in problem.what for problem in facts.problems)
            # Nothing is told without a word: either there is picture or sound, or a problem says what is wrong.
            assert facts.video or facts.audio or facts.problems or facts.data, name
            assert all(isinstance(problem, Problem) and problem.what and problem.do for problem in facts.problems)
            assert path.read_bytes() == data
            path.unlink()
    return died, slowest_s


def test_hundreds_of_damaged_files_are_each_told_about(originals: dict[str, bytes], tmp_path: Path) -> None:
    died, slowest_s = _examine(originals, tmp_path, 600, seed=11)
    assert slowest_s < _LIMIT_S + 2
    # A process that dies costs its one file; that it happens often would be slow.
    assert died < 30


@pytest.mark.long
def test_thousands_of_damaged_files_are_each_told_about(originals: dict[str, bytes], tmp_path: Path) -> None:
    died, slowest_s = _examine(originals, tmp_path, 6000, seed=12)
    assert slowest_s < _LIMIT_S + 2
    assert died < 300


def test_a_track_of_no_known_kind_is_as_good_as_none(originals: dict[str, bytes], tmp_path: Path) -> None:
    path = tmp_path / "nameless.avi"
    # The four letters of a stream header say what a track is.
    path.write_bytes(originals["avi"].replace(b"vids", b"xxxx").replace(b"auds", b"yyyy"))
    facts = identify([path], "headers")
    assert (facts.video, facts.audio) == ((), ())
    assert "no picture or sound in it that can be found" in facts.problems[0].what


def test_a_cut_movie_always_says_that_it_was_cut(originals: dict[str, bytes], tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    with Parser() as parser:
        for number in range(40):
            ending = ("mp4", "mov", "avi")[number % 3]
            path = tmp_path / f"{number}.{ending}"
            whole = originals[ending]
            path.write_bytes(whole[: rng.integers(200, len(whole) - 300)])
            problems = parser.facts([path], "headers").problems
            assert problems, path.name
            assert "cut off" in problems[0].what or "cannot be opened" in problems[0].what, problems[0].what
