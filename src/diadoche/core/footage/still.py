"""A still picture for a look: whatever decodes, and plain uncompressed DNG by its own tags.

A raw picture is shown at half its size, each two by two sensor values as one pixel, grey made grey by the camera's own
neutral, with the display curve of sRGB. Its full development is another matter.

Sources: [TIFF6] section 2 for strips, section 15 for tiles; [DNG] BlackLevel, WhiteLevel, AsShotNeutral, CFAPattern;
[IEC 61966-2-1] for the curve.
"""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

import av
import numpy as np
from numpy.typing import NDArray

from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import MediaError
from diadoche.core.footage.display import as_rgb
from diadoche.core.heif import heif_picture
from diadoche.core.identify.container import container_of
from diadoche.core.identify.tiff import Directory, TiffHead, read_tiff
from diadoche.core.media import decoding, opened
from diadoche.core.names import shown

Rgb = NDArray[np.uint8]
_Values = NDArray[np.float32]
_UNCOMPRESSED, _LINEAR_RAW = 1, 34892
_LARGEST_BYTES = 512 * 1024 * 1024


def still_picture(path: Path) -> Rgb:
    """The picture in a file, shape (height, width, 3).

    Raises:
        MediaError: nothing here decodes it.
        OSError: the file cannot be read.
    """
    container = container_of(path)
    if container == "DNG":
        head = read_tiff(path)
        if head.main.is_raw:
            return _raw_picture(path, head)
    if container == "HEIF" and (picture := heif_picture(path)) is not None:
        return picture
    with opened([path]) as media, decoding(path):
        frame = next(media.decode(media.streams.video[0]), None) if media.streams.video else None
        if frame is None:
            raise _undecodable(path)
        return as_rgb(frame, frame.width, frame.height)


def still_frame(path: Path) -> av.VideoFrame:
    """The same as a frame of the media library; see `still_picture` for what it raises."""
    return av.VideoFrame.from_ndarray(np.ascontiguousarray(still_picture(path)), format="rgb24")


def _undecodable(path: Path) -> MediaError:
    return MediaError(
        f"The picture {shown(path.name)} is packed in a way that nothing here decodes.",
        path=path,
        safe="It is copied and proven like every other file.",
        do="Open it with a program that knows it.",
    )


def _raw_picture(path: Path, head: TiffHead) -> Rgb:
    main = head.main
    if main.number(259, 1) != _UNCOMPRESSED:
        raise _undecodable(path)
    with unseen_file(path) as file:
        try:
            values = _samples(file, main)
        except ValueError as error:
            raise _undecodable(path) from error
    black = float(next(iter(main.numbers(50714)), 0))
    white = float(next(iter(main.numbers(50717)), (1 << main.number(258, 16)) - 1))
    linear = np.clip((values.astype(np.float32) - black) / max(1.0, white - black), 0, 1)
    colours = linear[::2, ::2] if main.number(262) == _LINEAR_RAW else _halved(linear, main)
    neutral = [float(each) or 1.0 for each in (head.first.numbers(50728) or (1, 1, 1))[:3]]
    balanced = np.clip(colours / np.array(neutral, np.float32), 0, 1)
    curve = np.where(balanced <= 0.0031308, 12.92 * balanced, 1.055 * balanced ** (1 / 2.4) - 0.055)
    picture: Rgb = np.round(curve * 255).astype(np.uint8)
    return picture


def _halved(linear: _Values, main: Directory) -> _Values:
    """Two by two sensor values as one pixel of red, green and blue."""
    pattern = [int(each) for each in main.numbers(33422)] or [0, 1, 1, 2]
    if len(pattern) != 4 or set(pattern) != {0, 1, 2}:
        pattern = [0, 1, 1, 2]
    rows, columns = linear.shape[0] // 2 * 2, linear.shape[1] // 2 * 2
    places = [linear[row:rows:2, column:columns:2] for row in (0, 1) for column in (0, 1)]
    found = []
    for colour in (0, 1, 2):
        mine = [part for part, its in zip(places, pattern, strict=True) if its == colour]
        found.append(sum(mine[1:], mine[0]) / len(mine))
    return np.stack(found, axis=-1)


def _samples(file: BinaryIO, main: Directory) -> NDArray[np.uint16]:
    """All samples, shape (lines, columns), or (lines, columns, samples a pixel) where there is more than one.

    Raises:
        ValueError: they do not lie in the file as the tags say.
    """
    width, height, count = main.number(256), main.number(257), main.number(277, 1)
    bits = main.number(258, 1)
    if not 0 < width * height * count * bits // 8 <= _LARGEST_BYTES:
        raise ValueError
    across, down = main.number(322) or width, main.number(323) or main.number(278) or height
    starts = main.numbers(324) or main.numbers(273)
    whole = np.zeros((height, width, count), np.uint16)
    columns = -(-width // across)
    for number, start in enumerate(starts):
        top, left = number // columns * down, number % columns * across
        # The last strip is as high as what is left; tiles are always whole [TIFF6].
        lines = min(down, height - top) if not main.number(322) else down
        if lines <= 0:
            raise ValueError
        row_bytes = -(-across * count * bits // 8)
        file.seek(int(start))
        data = file.read(row_bytes * lines)
        part = _unpacked(data, bits, main.order, row_bytes, across * count).reshape(lines, across, count)
        shown_part = part[: height - top, : width - left]
        whole[top : top + shown_part.shape[0], left : left + shown_part.shape[1]] = shown_part
    return whole[..., 0] if count == 1 else whole


def _unpacked(data: bytes, bits: int, order: str, row_bytes: int, samples: int) -> NDArray[np.uint16]:
    """Samples of 8 or 16 bits as they are, others out of their bit stream, high bits first, rows on whole bytes."""
    if bits == 16:
        return np.frombuffer(data, np.dtype(f"{order}u2")).astype(np.uint16)
    if bits == 8:
        return np.frombuffer(data, np.uint8).astype(np.uint16)
    if not 8 < bits < 16:
        raise ValueError
    rows = np.frombuffer(data, np.uint8).reshape(-1, row_bytes)
    stream = np.unpackbits(rows, axis=1)[:, : samples * bits].reshape(-1, samples, bits)
    weights = (1 << np.arange(bits - 1, -1, -1)).astype(np.uint16)
    unpacked: NDArray[np.uint16] = stream.astype(np.uint16) @ weights
    return unpacked
