"""Files that stood in a copy and are not counted any more: kept beside it, never deleted.

On a dying card an earlier reading may be the only good one. The folder lies beside the copy, not in it, so that
verifying, bringing level and copying on pass it by.
"""

from __future__ import annotations

import os
from pathlib import Path

from diadoche.core.diskfiles import rename_new
from diadoche.core.names import unique_name

FOLDER_WORDS = "other readings"


def set_aside(base: str, root_name: str, kept_as: str) -> str:
    """Moves a file of a copy out of it; gives where it lies now, relative to the folder above the copy.

    Args:
        base: the copy's folder with a slash at its end, as it is reached.
        root_name: the name of the copy's folder.
        kept_as: the file's path in the copy.

    Raises:
        OSError: it cannot be moved; it stands where it stood.
    """
    folder, _, name = f"{root_name} {FOLDER_WORDS}/{kept_as}".rpartition("/")
    Path(f"{base}../{folder}").mkdir(parents=True, exist_ok=True)
    free = unique_name(name, lambda each: os.path.lexists(f"{base}../{folder}/{each}"))
    rename_new(f"{base}{kept_as}", f"{base}../{folder}/{free}")
    return f"{folder}/{free}"
