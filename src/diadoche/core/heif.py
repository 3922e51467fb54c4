"""Pictures in HEIF, by libheif: many cameras cut them into tiles, of which a film's reader sees only the first."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from diadoche.core.diskfiles import unseen_file


@dataclass(frozen=True, slots=True)
class HeifShape:
    """The main picture as it is shown: turned and cut as the file says. Bits a sample."""

    width: int
    height: int
    bit_depth: int


def heif_shape(path: Path) -> HeifShape | None:
    """The shape of the main picture; None where libheif does not know the file.

    Raises:
        OSError: the file cannot be read.
    """
    found = _opened(path)
    if found is None:
        return None
    width, height = found.size
    return HeifShape(width, height, int(found.info.get("bit_depth", 8)))


def heif_picture(path: Path) -> NDArray[np.uint8] | None:
    """The main picture for a look, 8 bits, shape (height, width, 3); None where libheif does not decode it.

    Raises:
        OSError: the file cannot be read.
    """
    found = _opened(path)
    if found is None:
        return None
    try:
        picture = np.asarray(found)
    except (ValueError, RuntimeError, EOFError):
        return None
    if picture.ndim == 2:
        picture = picture[:, :, None]
    return np.ascontiguousarray(np.repeat(picture[:, :, :1], 3, axis=2) if picture.shape[2] < 3 else picture[:, :, :3])


def _opened(path: Path) -> Any:
    # Loaded only where there is such a picture: few cards have any.
    import pillow_heif

    with unseen_file(path) as file:
        data = file.read()
    try:
        return pillow_heif.open_heif(data, convert_hdr_to_8bit=True)
    except (ValueError, RuntimeError, EOFError, SyntaxError):
        return None
