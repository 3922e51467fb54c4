"""AVCHD trees that share no code with the product or its demo: FFmpeg's command line makes the streams.

Random names, one to five spans cut anywhere (in the middle of a packet's payload chain too), 25 and
29.97 interlaced pictures, PCM and AC-3. Every field of every picture carries a number of its own.
"""

from __future__ import annotations

import random
import struct
import subprocess
from dataclasses import dataclass
from pathlib import Path

import numpy as np

WIDTH, HEIGHT = 640, 360
BITS = 12
CELL = 16


@dataclass(frozen=True)
class Shot:
    """What was recorded."""

    names: tuple[str, ...]
    frames: int
    first_field: int
    timecode: str


def field_lines(number: int, lines: int) -> np.ndarray:
    """One field: grey that moves, and its number as cells of black and white."""
    picture = np.full((lines, WIDTH), 90, np.uint8)
    left = (number * 9) % (WIDTH - 120)
    picture[lines // 2 : lines // 2 + 40, left : left + 110] = 200
    for bit in range(BITS):
        picture[8:24, 16 + bit * CELL : 16 + (bit + 1) * CELL] = 235 if number >> bit & 1 else 16
    return picture


def read_field(luma: np.ndarray) -> int:
    """The number of a field, given its lines alone."""
    return sum(int(luma[12:20, 20 + bit * CELL : 28 + bit * CELL].mean() > 125) << bit for bit in range(BITS))


def raw_pictures(frames: int, first_field: int, *, interlaced: bool, top_first: bool = True) -> bytes:
    """Planar 4:2:0; interlaced pictures are woven from two moments."""
    pieces = []
    chroma = bytes([128]) * (WIDTH * HEIGHT // 2)
    for frame in range(frames):
        luma = np.empty((HEIGHT, WIDTH), np.uint8)
        first, second = (
            (first_field + 2 * frame, first_field + 2 * frame + 1) if interlaced else (first_field + frame,) * 2
        )
        upper, lower = (first, second) if top_first else (second, first)
        luma[0::2], luma[1::2] = field_lines(upper, HEIGHT // 2), field_lines(lower, HEIGHT // 2)
        pieces.append(luma.tobytes() + chroma)
    return b"".join(pieces)


def _bcd(number: int) -> int:
    return number // 10 * 16 + number % 10


def _message(frame: int, base: int, start_frame: int) -> bytes:
    """The camcorder's user data for one picture, as the published tag tables describe it (from memory)."""
    total = start_frame + frame
    seconds, frames = divmod(total, base)
    label = bytes([_bcd(frames), _bcd(seconds % 60), _bcd(seconds // 60 % 60), _bcd(seconds // 3600)])
    body = bytes.fromhex("17ee8c60f84d11d98cd60800200c9a66") + b"MDPM" + bytes([3, 0x13]) + label
    body += bytes([0x18, 0x02, 0x20, 0x25, 0x07]) + bytes(
        [0x19, 0x03, 0x10, _bcd(seconds // 60 % 60), _bcd(seconds % 60)]
    )
    unit = bytes([6, 5, len(body)]) + body + b"\x80"
    safe, zeros = bytearray(), 0
    for byte in unit:
        if zeros >= 2 and byte < 4:
            safe.append(3)
            zeros = 0
        zeros = zeros + 1 if byte == 0 else 0
        safe.append(byte)
    return b"\0\0\0\1" + bytes(safe)


def _elementary(frames: int, first_field: int, rate: str, folder: Path, start_frame: int) -> Path:
    """H.264 without reordering, with the camcorder's message in front of every picture's first slice."""
    raw = folder / "raw.h264"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{WIDTH}x{HEIGHT}", "-r", rate, "-i", "-",
         "-c:v", "libx264", "-preset", "ultrafast", "-crf", "16", "-bf", "0", "-g", "12", "-flags", "+ildct+ilme",
         "-x264opts", "tff=1:aud=1:slices=1", "-f", "h264", str(raw)],
        input=raw_pictures(frames, first_field, interlaced=True), check=True,
    )  # fmt: skip
    base, data, out, frame = round(eval(rate)), raw.read_bytes(), bytearray(), 0  # "30000/1001"
    units = [piece for piece in data.replace(b"\0\0\0\1", b"\0\0\1").split(b"\0\0\1") if piece]
    for unit in units:
        if unit[0] & 0x1F in {1, 5}:
            out += _message(frame, base, start_frame)
            frame += 1
        out += b"\0\0\0\1" + unit
    assert frame == frames
    marked = folder / "marked.h264"
    marked.write_bytes(bytes(out))
    return marked


def record(stream: Path, shot_frames: int, first_field: int, rate: str, sound: str, start_frame: int) -> None:
    """One recording as a transport stream of 192-byte packets."""
    marked = _elementary(shot_frames, first_field, rate, stream.parent, start_frame)
    seconds = shot_frames / eval(rate)  # "30000/1001"
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-r", rate, "-i", str(marked), "-f", "lavfi", "-t", f"{seconds:.6f}", "-i",
         "sine=frequency=700:sample_rate=48000", "-map", "0:v", "-map", "1:a", "-c:v", "copy", "-c:a", sound, "-ac", "2",
         "-f", "mpegts", "-mpegts_m2ts_mode", "1", str(stream)],
        check=True,
    )  # fmt: skip
    for rest in ("raw.h264", "marked.h264"):
        (stream.parent / rest).unlink()


def make_tree(root: Path, seed: int, rate: str, sound: str, span_counts: list[int]) -> list[Shot]:
    """Writes a tree, and tells what was recorded."""
    dice = random.Random(seed)
    bdmv = root / "PRIVATE" / "AVCHD" / "BDMV"
    for folder in ("STREAM", "CLIPINF", "PLAYLIST"):
        (bdmv / folder).mkdir(parents=True)
    names = iter(sorted(f"{number:05}" for number in dice.sample(range(100_000), sum(span_counts))))
    shots, items = [], []
    for place, spans in enumerate(span_counts):
        frames = dice.randrange(40, 60)
        start = (10 + place) * 60 * round(eval(rate)) * 60  # "30000/1001"
        whole = bdmv / "STREAM" / "whole"
        record(whole, frames, place * 200, rate, sound, start)
        data = whole.read_bytes()
        whole.unlink()
        packets = len(data) // 192
        # Cut on packets, as cameras do, but at no place in particular.
        cuts = [0, *sorted(dice.sample(range(packets // 8, packets - packets // 8), spans - 1)), packets]
        mine = tuple(next(names) for _ in range(spans))
        for name, begin, end in zip(mine, cuts, cuts[1:], strict=False):
            (bdmv / "STREAM" / f"{name}.MTS").write_bytes(data[begin * 192 : end * 192])
            (bdmv / "CLIPINF" / f"{name}.CPI").write_bytes(
                b"HDMV0100" + struct.pack(">IIII", 40, 44, 48, 0) + bytes(36)
            )
            items.append((name, name != mine[0], 45_000 * begin // packets, 45_000 * end // packets))
        base = round(eval(rate))  # "30000/1001"
        hours = start // (3600 * base)
        shots.append(Shot(mine, frames, place * 200, f"{hours:02}:00:00:00"))
    (bdmv / "PLAYLIST" / "00000.MPL").write_bytes(_playlist(items))
    (bdmv / "INDEX.BDM").write_bytes(b"INDX0100")
    (bdmv / "MOVIEOBJ.BDM").write_bytes(b"MOBJ0100")
    return shots


def _playlist(items: list[tuple[str, bool, int, int]]) -> bytes:
    body = struct.pack(">HHH", 0, len(items), 0)
    for name, continues, begin, end in items:
        item = name.encode() + b"M2TS" + struct.pack(">HBII", 6 if continues else 1, 0, begin, end) + bytes(12)
        body += struct.pack(">H", len(item)) + item
    return b"MPLS0100" + struct.pack(">III", 40, 0, 0) + bytes(20) + struct.pack(">I", len(body)) + body
