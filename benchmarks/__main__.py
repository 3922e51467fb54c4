"""Prints the table, and writes it as JSON to build/bench.json. Words choose parts, as offloads or spheres."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

import av

from benchmarks import conversions, identifying, offloads, playing, spheres, starting, window
from diadoche.core.sizes import clock_text

_PARTS = {
    "starting": starting.rows,
    "offloads": offloads.rows,
    "identifying": identifying.rows,
    "conversions": conversions.rows,
    "spheres": spheres.rows,
    "playing": playing.rows,
    "window": window.rows,
}


def main() -> None:
    """Runs the parts that were named, or all."""
    rows = []
    began = time.monotonic()
    print(f"PyAV {av.__version__} with FFmpeg {av.ffmpeg_version_info}; the distribution's ffmpeg is 5.1")
    for name in sys.argv[1:] or _PARTS:
        began_part = began_row = time.monotonic()
        for row in _PARTS[name]():
            rows.append(row.as_dict())
            verdict = {True: "met", False: "MISSED", None: ""}[row.met]
            line = f"{row.work:58} | {row.against:52} | {row.goal:32} | {row.measured:22} | {verdict:6}"
            print(f"{line} | {time.monotonic() - began_row:3.0f} s", flush=True)
            began_row = time.monotonic()
        print(f"  {name}: {time.monotonic() - began_part:.0f} s", flush=True)
    print(f"All of it took {clock_text(time.monotonic() - began)}.")
    Path("build").mkdir(exist_ok=True)
    Path("build/bench.json").write_text(json.dumps(rows, indent=2))


if __name__ == "__main__":
    main()
