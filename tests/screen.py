"""A virtual screen for one process of tests."""

from __future__ import annotations

import atexit
import os
import subprocess


def screen_of_its_own() -> str:
    """Starts a virtual screen that ends with this process, and gives its name."""
    read_end, write_end = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write_end), "-screen", "0", "1280x800x24", "-nolisten", "tcp"],
        pass_fds=(write_end,),
        stderr=subprocess.DEVNULL,
    )
    atexit.register(server.kill)
    os.close(write_end)
    with os.fdopen(read_end) as told:
        return f":{told.readline().strip()}"
