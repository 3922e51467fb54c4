"""Files that stood in a copy and are not counted any more: kept beside it, never deleted.

On a dying card an earlier reading may be the only good one. The folder lies beside the copy, not in it, so that
verifying, bringing level and copying on pass it by.
"""

from __future__ import annotations

import errno

from diadoche.core.names import unique_name
from diadoche.core.open_folder import OpenFolder

FOLDER_WORDS = "other readings"


def set_aside(copy: OpenFolder, kept_as: str) -> str:
    """Moves a file of a copy out of it; gives where it lies now, relative to the folder above the copy.

    Args:
        copy: the copy's folder.
        kept_as: the file's path in the copy.

    Raises:
        OSError: it cannot be moved; it stands where it stood.
    """
    with OpenFolder.at(copy.path.parent) as above, above.folder(copy.path.name) as standing:
        if standing.identity != copy.identity:
            raise OSError(errno.ENODEV, "another folder has its place", str(copy.path))
        folder, _, name = f"{copy.path.name} {FOLDER_WORDS}/{kept_as}".rpartition("/")
        above.make_folder(folder)
        free = unique_name(name, lambda each: above.exists(f"{folder}/{each}"))
        above.rename_new(f"{copy.path.name}/{kept_as}", f"{folder}/{free}")
    return f"{folder}/{free}"
