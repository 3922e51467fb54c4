"""Facts of single pictures and of a picture a frame: TIFF and DNG by their own tags, raw segments by their head."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from diadoche.core.errors import MediaError, Problem
from diadoche.core.identify.facts import AudioFacts, Color, Facts, VideoFacts
from diadoche.core.identify.rawreels import read_raw_head
from diadoche.core.identify.tiff import TiffHead, read_tiff
from diadoche.core.names import shown
from diadoche.core.orientation import Orientation

_LOSSLESS_JPEG, _UNCOMPRESSED = 7, 1
_SEQUENCE_RATE = Fraction(24)


def tiff_facts(bare: Facts, paths: Sequence[Path], *, every: bool) -> Facts:
    """Facts of a TIFF or DNG picture, or of a numbered run of them.

    Args:
        bare: what is known already.
        paths: one picture, or all of a recording in order.
        every: reads the head of each and names those that differ.

    Raises:
        MediaError: the first picture is damaged.
    """
    head = read_tiff(paths[0])
    rate = head.frame_rate
    is_raw = head.main.is_raw
    oriented = Orientation.of_exif(head.first.number(274))
    video = VideoFacts(
        codec="dng" if head.is_dng else "tiff",
        profile=_compression(head),
        width=head.width,
        height=head.height,
        pixel_aspect=Fraction(1),
        rotation=oriented.rotation_deg,
        mirrored=oriented.mirrored,
        frame_rate=rate or _SEQUENCE_RATE,
        frame_rate_mode="constant",
        scan="progressive",
        scan_flagged="progressive",
        field_order=None,
        bit_depth=head.bit_depth,
        chroma="raw" if is_raw else "RGB" if head.main.number(277, 1) >= 3 else "4:0:0",
        intra_only=True,
        bit_rate=0,
        color=Color("sensor", "linear", "none", "full") if is_raw else Color(),
        timecode=head.timecode,
        decodable=not is_raw or head.main.number(259, 1) == _UNCOMPRESSED,
        frame_rate_told=rate is not None,
    )
    count = len(paths)
    return replace(
        bare,
        container="DNG" if head.is_dng else "TIFF",
        duration_s=float(count / video.frame_rate) if count > 1 else 0.0,
        frames=count,
        start=head.start,
        video=(video,),
        camera=head.camera,
        origin="camera" if head.camera and is_raw else "unknown",
        origin_reason=f"It holds the sensor's own values, and names the camera: {head.camera}."
        if head.camera and is_raw
        else "",
        problems=_odd_ones(paths, head) if every and count > 1 else (),
    )


def _compression(head: TiffHead) -> str:
    number = head.main.number(259, 1)
    return {_UNCOMPRESSED: "uncompressed", _LOSSLESS_JPEG: "lossless JPEG"}.get(number, f"compression {number}")


def _odd_ones(paths: Sequence[Path], first: TiffHead) -> tuple[Problem, ...]:
    """The pictures of a run that cannot be read, or are of another make than the first."""
    wanted = (first.width, first.height, first.bit_depth)
    problems = []
    for path in paths[1:]:
        try:
            head = read_tiff(path)
            if (head.width, head.height, head.bit_depth) == wanted and _is_whole(head, path):
                continue
            what = "is of another size or depth than the first" if _is_whole(head, path) else "is cut off"
        except MediaError:
            what = "is damaged"
        problems.append(
            Problem(
                f"The picture {shown(path.name)} {what}.",
                str(path),
                "It is copied as it is.",
                "Look for it on the camera, or leave the picture out on purpose.",
            )
        )
    return tuple(problems)


def _is_whole(head: TiffHead, path: Path) -> bool:
    """Whether the samples lie within the file."""
    starts, sizes = head.main.numbers(273), head.main.numbers(279)
    size = path.stat().st_size
    return all(start + length <= size for start, length in zip(starts, sizes, strict=False))


def raw_segment_facts(bare: Facts, paths: Sequence[Path]) -> Facts:
    """Facts of raw segments by their heads; what they hold cannot be decoded here.

    Raises:
        MediaError: the first head is cut off.
    """
    heads = [read_raw_head(path) for path in paths]
    first = heads[0]
    frames = sum(head.frames for head in heads)
    problems = [
        Problem(
            f"{shown(path.name)} is cut off: it ends in the middle of its data.",
            str(path),
            "What is there is kept.",
            "Copy it again from the card if the card still has it whole.",
        )
        for path, head in zip(paths, heads, strict=True)
        if head.cut_off
    ]
    video = VideoFacts(
        codec="r3d",
        profile=first.kind,
        width=first.width,
        height=first.height,
        pixel_aspect=Fraction(1),
        rotation=0,
        frame_rate=first.rate or _SEQUENCE_RATE,
        frame_rate_mode="constant",
        scan="progressive",
        scan_flagged="progressive",
        field_order=None,
        bit_depth=0,
        chroma="raw",
        intra_only=True,
        bit_rate=0,
        color=Color("sensor", "unspecified", "none", "full"),
        timecode=None,
        decodable=False,
        frame_rate_told=bool(first.rate),
    )
    sound = (AudioFacts("pcm_s32be", first.channels, f"{first.channels} channels", 48_000, 32, False),)
    return replace(
        bare,
        duration_s=float(frames / first.rate) if first.rate else 0.0,
        frames=frames or None,
        video=(video,),
        audio=sound if first.channels else (),
        origin="camera",
        origin_reason="It holds a camera's raw picture.",
        problems=tuple(problems),
    )
