"""Films whose every picture carries its number, with a click at every full second, and what FFmpeg reads back from them."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import numpy as np

from tests.outside.public_tools import reading

WIDTH, HEIGHT, BITS, CELL = 320, 180, 12, 16
CLICK_SAMPLES = 2880
RATE_HZ = 48_000


def ffmpeg(*words: str | Path, given: bytes = b"") -> bytes:
    """Runs the distribution's FFmpeg."""
    done = subprocess.run(
        ["ffmpeg", "-v", "error", "-y", *map(str, words)], input=given, capture_output=True, check=True
    )
    return done.stdout


def picture(number: int, *, gray: bool = False) -> bytes:
    """A picture of grey with a bar that moves and its number as cells of black and white; planar 4:2:0.

    In Gray's code one cell changes from number to number, so that any two neighbours differ alike.
    """
    code = number ^ number >> 1 if gray else number
    luma = np.full((HEIGHT, WIDTH), 90, np.uint8)
    left = number * 7 % (WIDTH - 60)
    luma[90:140, left : left + 50] = 170
    for bit in range(BITS):
        luma[8:40, 16 + bit * CELL : 16 + (bit + 1) * CELL] = 235 if code >> bit & 1 else 16
    return luma.tobytes() + bytes([128]) * (WIDTH * HEIGHT // 2)


def clicks(seconds: float, channels: int = 1, begin_s: float = 0.0) -> bytes:
    """Silence with a short loud beep at every full second, as 16-bit samples; `begin_s` is the first one's time."""
    count, first = round(seconds * RATE_HZ), round(begin_s * RATE_HZ)
    samples = np.zeros(count, "<i2")
    for second in range(int(seconds + begin_s) + 1):
        place = second * RATE_HZ - first
        if -CLICK_SAMPLES < place < count:
            # It swells and fades: lossy coders would smear a hard edge.
            swell = np.hanning(CLICK_SAMPLES)
            wave = 28_000 * swell * np.cos(np.arange(CLICK_SAMPLES) * 2 * np.pi * 1000 / RATE_HZ)
            begin = max(0, place)
            samples[begin : place + CLICK_SAMPLES] = wave[begin - place : count - place]
    return np.repeat(samples, channels).tobytes()


def film(
    path: Path,
    numbers: Sequence[int],
    rate: str,
    *options: str,
    sound: bool = True,
    kept: str = "",
    clicks_from: float = 0.0,
    gray: bool = False,
) -> Path:
    """Pictures with these numbers at a rate, and clicks.

    Args:
        path: what is written; its ending tells the container.
        numbers: of the pictures, in order.
        rate: at which they are fed.
        options: for the output.
        sound: whether there is any.
        kept: an expression of FFmpeg's `select`; pictures it refuses leave a hole.
        clicks_from: the time at which the sound begins in its row of clicks.
        gray: whether numbers are written in Gray's code.
    """
    wave = path.with_name(path.name + ".s16")
    seconds = float(len(numbers) / Fraction(rate))
    wave.write_bytes(clicks(seconds, begin_s=clicks_from))
    chosen = ["-vf", f"select='{kept}'"] if kept else []
    ffmpeg(
        "-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", rate, "-i", "-",
        *(["-f", "s16le", "-ar", str(RATE_HZ), "-ac", "1", "-i", str(wave)] if sound else []),
        *chosen, "-fps_mode", "passthrough", "-enc_time_base:v", f"1/{90_000}" if kept else str(1 / Fraction(rate)), *options, path,
        given=b"".join(picture(number, gray=gray) for number in numbers),
    )  # fmt: skip
    wave.unlink()
    return path


def numbers_of(path: Path, *, gray: bool = False) -> list[int]:
    """The numbers of all pictures that FFmpeg decodes, in order."""
    data = ffmpeg(
        *reading(path), "-map", "0:v:0", "-fps_mode", "passthrough", "-vf", "format=gray", "-f", "rawvideo", "-"
    )
    found = np.frombuffer(data, np.uint8).reshape(-1, HEIGHT, WIDTH)
    codes = [
        sum(int(each[14:34, 20 + bit * CELL : 28 + bit * CELL].mean() > 125) << bit for bit in range(BITS))
        for each in found
    ]
    return [_from_gray(code) for code in codes] if gray else codes


def _from_gray(code: int) -> int:
    number = 0
    while code:
        number, code = number ^ code, code >> 1
    return number


def times_of(path: Path) -> list[float]:
    """When FFmpeg shows each picture, in seconds."""
    done = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", "v:0", "-show_entries", "frame=best_effort_timestamp_time", "-of", "json", str(path)],
        capture_output=True, check=True,
    )  # fmt: skip
    return [float(each["best_effort_timestamp_time"]) for each in json.loads(done.stdout)["frames"]]


def clicks_beside_the_picture(path: Path) -> list[float]:
    """When each click is heard, in seconds from when the first picture is shown."""
    said = subprocess.run(
        ["ffprobe", "-v", "error", "-show_entries", "format=start_time", "-of", "json", str(path)], capture_output=True, check=True
    )  # fmt: skip
    # FFmpeg plays from the beginning of the file; a picture may come later than that.
    begin_s = times_of(path)[0] - float(json.loads(said.stdout)["format"]["start_time"])
    return [heard - begin_s for heard in click_times(path)]


def click_times(path: Path, track: int = 0) -> list[float]:
    """When each click is heard, in seconds of the file's own clock, as FFmpeg plays it."""
    # `aresample` with `async` puts the samples where their stamps say, the first included.
    data = ffmpeg("-i", path, "-map", f"0:a:{track}", "-af", "aresample=async=1:first_pts=0:min_hard_comp=0.01",
                  "-ac", "1", "-ar", str(RATE_HZ), "-f", "f32le", "-")  # fmt: skip
    samples = np.frombuffer(data, "<f4").astype(float)
    # How much of the beep's tone lies in the stretch from each sample on: lossy coders smear its edges, not its middle.
    turned = samples * np.exp(-2j * np.pi * 1000 / RATE_HZ * np.arange(samples.size))
    sums = np.concatenate([[0], np.cumsum(np.concatenate([turned, np.zeros(CLICK_SAMPLES)]))])
    strength = np.abs(sums[CLICK_SAMPLES:] - sums[:-CLICK_SAMPLES]) / CLICK_SAMPLES
    found = []
    for second in range(0, samples.size + RATE_HZ // 2, RATE_HZ // 2):
        # Half a second around each place: the strongest, where it is no less than beside.
        begin = max(0, second - RATE_HZ // 4)
        piece = strength[begin : second + RATE_HZ // 4]
        if piece.size and piece.max() > 0.15:
            found.append((begin + int(piece.argmax())) / RATE_HZ)
    return found
