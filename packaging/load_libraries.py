"""Loads what the window needs from the system, and prints what is missing.

Ends with 1 where a library of the system is, with 3 where a package of the environment is.
"""

import ctypes
import importlib.util
import sys
from pathlib import Path

_PACKAGES = ("diadoche", "PyQt6", "av", "numpy", "scipy", "cv2", "sqlalchemy", "typer", "pydantic")
_PARTS = ("lib/libQt6Widgets.so.6", "lib/libQt6Network.so.6", "plugins/platforms/libqxcb.so")


def missing_libraries() -> list[str]:
    """Those that could not be loaded, one for each part of Qt that lacks some."""
    found = importlib.util.find_spec("PyQt6")
    folders = found.submodule_search_locations if found else None
    names = []
    for part in _PARTS:
        try:
            ctypes.CDLL(str(Path(folders[0] if folders else "") / "Qt6" / part))
        except OSError as error:
            # It begins with the name of the one that is missing, and a colon.
            names.append(str(error).partition(":")[0])
    return sorted(set(names))


if __name__ == "__main__":
    broken = [name for name in _PACKAGES if importlib.util.find_spec(name) is None]
    lacking = broken or missing_libraries()
    sys.stdout.write(", ".join(lacking) + "\n")
    sys.exit((3 if broken else 1) if lacking else 0)
