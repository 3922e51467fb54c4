"""How many of its pictures a clip shows in time while everything else is at work."""

from __future__ import annotations

import queue
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import suppress
from itertools import pairwise
from pathlib import Path

from benchmarks.measuring import Row, run
from diadoche.core.identify.probe import identify
from diadoche.services.side_processes.player import PlayerProcess, Shown

_SECONDS, _BUSY = 4.0, 2
_ANSWERS_S = 30.0
_X264 = ("-c:v", "libx264", "-preset", "fast", "-b:v", "20M", "-pix_fmt", "yuv420p")
_CLIPS = {
    "1080p50 H.264": _X264,
    "1080i25 H.264, a field at a time": ("-vf", "interlace", *_X264, "-flags", "+ildct+ilme", "-x264opts", "tff=1"),
    "1080p50 ProRes": ("-c:v", "prores", "-pix_fmt", "yuv422p10le"),
}


def rows() -> Iterator[Row]:
    """The rows about the player."""
    with tempfile.TemporaryDirectory(prefix="playing-") as name:
        for what, options in _CLIPS.items():
            clip = Path(name) / "clip.mov"
            run("ffmpeg", "-v", "error", "-y", "-f", "lavfi", "-i", "testsrc2=s=1920x1080:r=50:d=5", *options, clip)
            share, longest_ms = _shown(clip)
            yield Row(
                f"playing {what}",
                f"its moments in {_SECONDS:.0f} s, beside {_BUSY} busy processes",
                "≥ 75 % of them shown",
                f"{share:.0%}, longest gap {longest_ms:.0f} ms",
                share >= 0.75,
            )


def _shown(clip: Path) -> tuple[float, float]:
    """The share of the moments that were due and were shown, and the longest time between two, in milliseconds."""
    facts = identify([clip])
    busy = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(_BUSY)]
    news: queue.SimpleQueue[Shown] = queue.SimpleQueue()
    player = PlayerProcess(news.put)
    try:
        player.open(1, (clip,), facts)
        while news.get(timeout=_ANSWERS_S).picture is None:
            pass
        seen = [time.perf_counter()]
        until_s = seen[0] + _SECONDS
        player.play(1.0)
        while time.perf_counter() < until_s:
            with suppress(queue.Empty):
                if news.get(timeout=0.1).picture is not None:
                    seen.append(time.perf_counter())
    finally:
        player.close()
        for each in busy:
            each.kill()
            each.wait()
    video = facts.video[0]
    due = _SECONDS * float(video.frame_rate) * (2 if video.interlaced else 1)
    gaps = [after - before for before, after in pairwise(seen)]
    return (len(seen) - 1) / due, max(gaps) * 1000
