"""4:2:0 becomes 4:2:2 plane by plane: the samples are those that the scaler gives for whole pictures."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import av.filter
import numpy as np
import pytest

from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.signature import picture_digest
from diadoche.core.convert.stages.chroma_lines import planes_graph
from diadoche.core.convert.stages.levels import Levels
from diadoche.core.convert.stages.timing import Placed
from diadoche.core.identify.probe import identify
from tests.outside.numbered import ffmpeg

WIDE, HIGH = 322, 182


def noise(folder: Path, sited: str, levels: str) -> Path:
    """Pictures of noise, and where they say that their chroma is sited, by the number of H.264 [annex E]."""
    samples = np.random.default_rng(5).integers(0, 256, WIDE * HIGH * 3 // 2 * 3, np.uint8)
    ffmpeg("-f", "rawvideo", "-s", f"{WIDE}x{HIGH}", "-r", "25", "-pix_fmt", "yuv420p", "-i", "-", "-c:v", "libx264",
           "-qp", "0", "-x264-params", f"chromaloc={sited}", "-color_range", levels, folder / "in.mov", given=samples.tobytes())  # fmt: skip
    return folder / "in.mov"


def pictures(path: Path) -> list[av.VideoFrame]:
    with av.open(str(path)) as media:
        return list(media.decode(media.streams.video[0]))


def as_a_whole(frame: av.VideoFrame, levels: str) -> int:
    """By the scaler alone, as it is asked to elsewhere."""
    graph = av.filter.Graph()
    chain = [
        graph.add_buffer(template=None, width=WIDE, height=HIGH, format=frame.format, time_base=Fraction(1, 25)),
        graph.add("scale", f"flags=bicubic+accurate_rnd:in_range={levels}:out_range={levels}"),
        graph.add("format", "yuv422p"),
        graph.add("buffersink"),
    ]
    graph.link_nodes(*chain).configure()
    return pushed(graph, frame)


def pushed(graph: av.filter.Graph, frame: av.VideoFrame) -> int:
    graph.push(frame)
    ready = graph.pull()
    assert isinstance(ready, av.VideoFrame)
    return picture_digest(ready)


def by_planes(frame: av.VideoFrame) -> int:
    return pushed(planes_graph(frame, "yuv422p", Fraction(1, 25)), frame)


def levelled(path: Path, frames: list[av.VideoFrame]) -> list[int]:
    stage = Levels(PictureFormat.of(identify([path])), "yuv422p", holds_full_range=True)
    return [
        picture_digest(ready.frame)
        for number, frame in enumerate(frames)
        for ready in stage.push(Placed(number, frame, False))
    ]


@pytest.mark.parametrize(("sited", "levels"), [("0", "tv"), ("1", "tv"), ("2", "tv"), ("3", "tv"), ("0", "pc")])
def test_the_samples_are_those_of_the_scaler(tmp_path: Path, sited: str, levels: str) -> None:
    path = noise(tmp_path, sited, levels)
    frames = pictures(path)
    wanted = [as_a_whole(frame, levels) for frame in frames]
    assert [by_planes(frame) for frame in frames] == wanted
    assert levelled(path, frames) == wanted
