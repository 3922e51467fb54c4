"""Asking FFmpeg's programs (the distribution's: 5.1 or 7) what a file is and holds."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np


def ffprobe(path: Path, *options: str) -> dict[str, Any]:
    """What `ffprobe` says, as JSON."""
    done = subprocess.run(
        ["ffprobe", "-v", "error", "-of", "json", "-show_streams", "-show_format", *options, str(path)],
        capture_output=True, check=True,
    )  # fmt: skip
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def ffprobe_pictures(path: Path) -> dict[str, str]:
    """What `ffprobe` says of an output's picture track, or of the first of a folder of stills."""
    first = sorted(path.iterdir())[0] if path.is_dir() else path
    found: dict[str, str] = ffprobe(first)["streams"][0]
    return found


def ffprobe_pixels(path: Path) -> str:
    """The pixel format of an output's first picture."""
    return ffprobe_pictures(path)["pix_fmt"]


def picture_digests(source: str, *, threads: int = 0) -> list[str]:
    """MD5 of every decoded picture, by `framemd5`. `source` is a path or a "concat:" list; damage wants one thread."""
    done = subprocess.run(
        ["ffmpeg", "-v", "error", "-threads", str(threads), "-i", source, "-map", "0:v:0", "-fps_mode", "passthrough", "-f", "framemd5", "-"],
        capture_output=True, check=True, text=True,
    )  # fmt: skip
    return [line.rsplit(",", 1)[1].strip() for line in done.stdout.splitlines() if not line.startswith("#")]


def reading(path: Path) -> list[str]:
    """How FFmpeg's programs are told to read an output: a film, or a folder of stills."""
    return ["-pattern_type", "glob", "-i", f"{path}/*.png"] if path.is_dir() else ["-i", str(path)]


def luma_pictures(path: Path, width: int, height: int, fmt: str = "gray") -> np.ndarray:
    """All pictures of a film or a folder of stills as luma, shape (pictures, lines, columns), by `ffmpeg`."""
    is_rgb = ffprobe_pixels(path).startswith(("rgb", "gbr", "bgr"))
    done = subprocess.run(
        ["ffmpeg", "-v", "error", *reading(path), "-map", "0:v:0", "-fps_mode", "passthrough", "-vf", "null" if is_rgb else "extractplanes=y", "-f", "rawvideo", "-pix_fmt", fmt, "-"],
        capture_output=True, check=True,
    )  # fmt: skip
    kind = np.uint8 if fmt == "gray" else np.dtype("<u2")
    return np.frombuffer(done.stdout, kind).reshape(-1, height, width)


def tagged(options: Sequence[str]) -> list[str]:
    """A filter that gives raw pictures the colour tags that they are coded with.

    FFmpeg 7 changes samples where those of its input are not known; 5.1 only writes the tags.
    """
    given = dict(zip(options[::2], options[1::2], strict=False))
    names = {
        "-color_primaries": "color_primaries",
        "-color_trc": "color_trc",
        "-colorspace": "colorspace",
        "-color_range": "range",
    }
    told = [f"{name}={given[word]}" for word, name in names.items() if word in given]
    return ["-vf", "setparams=" + ":".join(told)] if told else []


def idet_counts(path: Path) -> dict[str, int]:
    """How many pictures FFmpeg's `idet` takes for what, over several of them at a time."""
    done = subprocess.run(
        ["ffmpeg", "-hide_banner", "-i", str(path), "-vf", "idet", "-an", "-f", "null", "-"], capture_output=True, text=True, check=True
    )  # fmt: skip
    # A graph that is made anew says so too, of no pictures: the last line is of all.
    line = [line for line in done.stderr.splitlines() if "Multi frame detection" in line][-1]
    return {kind: int(count) for kind, count in re.findall(r"(TFF|BFF|Progressive|Undetermined):\s*(\d+)", line)}
