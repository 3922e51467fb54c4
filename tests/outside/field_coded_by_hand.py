"""H.264 with a field in each access unit, written by hand bit by bit: no encoder here makes it.

Every macroblock is I_PCM, so that what is decoded is what was written, to the sample [H264, 7.3.5].
"""

from __future__ import annotations

import subprocess
from fractions import Fraction
from pathlib import Path

import numpy as np

WIDTH, HEIGHT = 320, 192


class _Writer:
    def __init__(self) -> None:
        self.bits: list[int] = []

    def put(self, value: int, count: int) -> None:
        self.bits += [value >> place & 1 for place in reversed(range(count))]

    def number(self, value: int) -> None:
        length = (value + 1).bit_length()
        self.put(0, length - 1)
        self.put(value + 1, length)

    def align(self, bit: int) -> None:
        while len(self.bits) % 8:
            self.bits.append(bit)

    def unit(self, head: int) -> bytes:
        self.bits.append(1)
        self.align(0)
        return _escaped(head, np.packbits(np.array(self.bits, np.uint8)).tobytes())


def _escaped(head: int, body: bytes) -> bytes:
    safe, zeros = bytearray([head]), 0
    for byte in body:
        if zeros >= 2 and byte < 4:
            safe.append(3)
            zeros = 0
        zeros = zeros + 1 if byte == 0 else 0
        safe.append(byte)
    return b"\0\0\0\1" + bytes(safe)


def _sets() -> bytes:
    sequence = _Writer()
    sequence.put(77, 8)  # main profile: fields are allowed
    sequence.put(0, 8)
    sequence.put(30, 8)
    for value in (0, 0, 2, 1):  # id, 4 bits of frame number, order of showing is that of coding, one reference
        sequence.number(value)
    sequence.put(0, 1)
    sequence.number(WIDTH // 16 - 1)
    sequence.number(HEIGHT // 32 - 1)
    sequence.put(0, 1)  # not only frames
    sequence.put(0, 1)  # no frames whose macroblocks are fields
    sequence.put(1, 1)
    sequence.put(0, 2)
    picture = _Writer()
    for value in (0, 0):
        picture.number(value)
    picture.put(0, 2)
    for value in (0, 0, 0):
        picture.number(value)
    picture.put(0, 3)
    for value in (0, 0, 0):
        picture.number(value)
    picture.put(0b100, 3)  # slices tell whether they are deblocked
    return sequence.unit(0x67) + picture.unit(0x68)


def _field(luma: np.ndarray, frame: int, *, bottom: bool) -> bytes:
    """One field as one slice of I_PCM macroblocks; chroma is grey."""
    key = not bottom and frame == 0
    slice_ = _Writer()
    for value in (0, 7, 0):
        slice_.number(value)
    slice_.put(frame % 16, 4)
    slice_.put(1, 1)
    slice_.put(int(bottom), 1)
    if key:
        slice_.number(0)
        slice_.put(0, 2)
    else:
        slice_.put(0, 1)
    slice_.number(0)  # no change of the quantiser, se(v)
    slice_.number(1)  # no deblocking
    grey = np.full(128, 128, np.uint8)
    pieces = []
    head = np.array(slice_.bits, np.uint8)
    first = True
    for row in range(0, luma.shape[0], 16):
        for column in range(0, luma.shape[1], 16):
            lead = list(head) if first else []
            mb = _Writer()
            mb.bits = lead
            mb.number(25)
            mb.align(0)
            pieces.append(np.packbits(np.array(mb.bits, np.uint8)).tobytes())
            pieces.append(luma[row : row + 16, column : column + 16].tobytes() + grey.tobytes())
            first = False
    return _escaped(0x65 if key else 0x61, b"".join(pieces) + b"\x80")


def field_lines(number: int) -> np.ndarray:
    """A field of grey with a bar that moves, and its number as cells of black and white, 12 bits of Gray code.

    One cell changes from field to field, as often within a picture as between two: nothing moves by pictures.
    """
    code = number ^ number >> 1
    lines = np.full((HEIGHT // 2, WIDTH), 90, np.uint8)
    lines[48:64, number * 8 % 256 : number * 8 % 256 + 48] = 200
    for bit in range(12):
        lines[8:24, 16 + bit * 16 : 32 + bit * 16] = 235 if code >> bit & 1 else 16
    return lines


def field_coded(path: Path, pictures: int, rate: str = "25") -> Path:
    """A transport stream of field-coded pictures, the top field first; picture n holds the fields 2n and 2n + 1.

    Stamped by FFmpeg, a field each half picture; every picture begins with a delimiter, as broadcasters and camcorders do.
    """
    stream, access = path.with_suffix(".h264"), b"\0\0\0\1\x09\x10"
    units = bytearray()
    for frame in range(pictures):
        units += access + (_sets() if frame == 0 else b"") + _field(field_lines(2 * frame), frame, bottom=False)
        units += access + _field(field_lines(2 * frame + 1), frame, bottom=True)
    stream.write_bytes(bytes(units))
    seconds = float(pictures / Fraction(rate))
    subprocess.run(
        ["ffmpeg", "-v", "error", "-y", "-r", str(2 * Fraction(rate)), "-f", "h264", "-i", str(stream), "-f", "lavfi", "-t", f"{seconds:.6f}",
         "-i", "sine=frequency=700:sample_rate=48000", "-map", "0:v", "-map", "1:a", "-c:v", "copy", "-c:a", "ac3", "-f", "mpegts", str(path)],
        check=True,
    )  # fmt: skip
    stream.unlink()
    return path
