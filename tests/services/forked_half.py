"""A module to be forked: writes half a line, and is gone."""

import os
import signal


def main() -> None:
    os.write(1, b'{"progress": {"done": 1, ')
    os.kill(os.getpid(), signal.SIGKILL)
