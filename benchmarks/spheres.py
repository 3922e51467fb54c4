"""Rows about spheres: frames in memory, no decoding, the same number of threads on both sides.

The blended form of FFmpeg's `v360` is two `fisheye` branches, one for each half of the picture, and a `maskedmerge` by
a mask that fades across the seams; its `dfisheye` cuts hard at a right angle. Both are the media library's own.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Iterator
from fractions import Fraction

import av
import av.filter
import cv2
import numpy as np

from benchmarks.measuring import Row, at_most, ratio, ratios, timed
from diadoche.core.sphere.lens_planes import planes_of
from diadoche.core.sphere.near_matching import NearMatching
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import Rig, rig_named
from diadoche.core.sphere.shape import USUAL_BAND_DEG
from diadoche.core.sphere.stitch_map import weights_of
from diadoche.core.sphere.stitcher import Stitcher

_WIDE, _HIGH = 3840, 1920
_PICTURES = 6
_BLENDED, _HARD_CUT = 1 / 2, 1 / 1.3
_LENS = "v360=input=fisheye:output=e:ih_fov=200:iv_fov=200:interp=linear:w={wide}:h={high}:yaw={yaw}"
_HARD = "v360=input=dfisheye:output=e:ih_fov=200:iv_fov=200:interp=linear:w={wide}:h={high}:yaw=180"


def rows() -> Iterator[Row]:
    """Every row."""
    rig = rig_named("dual-fisheye-200")
    for threads in (1, 2):
        frame = _noise(rig)
        name = f"stitch two lenses to {_WIDE}×{_HIGH}, blended, {threads} thread{'s' if threads > 1 else ''}"
        hard, blended = _cut_hard(frame, threads), _faded(frame, rig, threads)
        with Stitcher(rig, Equirectangular(_WIDE, _HIGH), threads=threads) as stitcher:
            ours = _stitching(stitcher, [frame])
            for each in (ours, hard, blended):
                each()
            against_blended, against_hard = ratios(ours, [blended, hard], limits=[_BLENDED, _HARD_CUT])
            yield at_most(name, "v360, two branches and maskedmerge", _BLENDED, against_blended)
            yield at_most(name, "v360=dfisheye, cut hard", _HARD_CUT, against_hard)
    yield _six_lenses(rig)
    yield _near(rig)
    yield _memory()


def _noise(rig: Rig) -> av.VideoFrame:
    frame = av.VideoFrame(*rig.picture_px, "yuv420p")
    dice = np.random.default_rng(1)
    for plane in planes_of(frame):
        plane[:] = dice.integers(16, 235, plane.shape)
    frame.time_base = Fraction(1, 25)
    return frame


def _stitching(stitcher: Stitcher, frames: list[av.VideoFrame]) -> Callable[[], None]:
    into = planes_of(av.VideoFrame(_WIDE, _HIGH, "yuv420p"))
    pictures = [planes_of(frame) for frame in frames]

    def work() -> None:
        for _ in range(_PICTURES):
            stitcher.stitch(pictures, into)

    return work


def _cut_hard(frame: av.VideoFrame, threads: int) -> Callable[[], None]:
    graph = av.filter.Graph()
    graph.threads = threads
    source, sink = _source(graph, frame.width, frame.height), graph.add("buffersink")
    name, _, options = _HARD.format(wide=_WIDE, high=_HIGH).partition("=")
    graph.link_nodes(source, graph.add(name, options), sink)
    graph.configure()
    return _pushing(graph, [(source, frame)])


def _faded(frame: av.VideoFrame, rig: Rig, threads: int) -> Callable[[], None]:
    graph = av.filter.Graph()
    graph.threads = threads
    source, mask = _source(graph, frame.width, frame.height), _source(graph, _WIDE, _HIGH)
    split, merge, sink = graph.add("split", "2"), graph.add("maskedmerge"), graph.add("buffersink")
    source.link_to(split)
    half = frame.width // 2
    # Where the mask is white, the second picture shows: the left lens, which looks at the middle.
    for number, (left, yaw) in enumerate(((half, 180), (0, 0))):
        crop = graph.add("crop", f"{half}:{frame.height}:{left}:0")
        name, _, options = _LENS.format(wide=_WIDE, high=_HIGH, yaw=yaw).partition("=")
        warp = graph.add(name, options)
        split.link_to(crop, number)
        crop.link_to(warp)
        warp.link_to(merge, 0, number)
    mask.link_to(merge, 0, 2)
    merge.link_to(sink)
    graph.configure()
    white = av.VideoFrame(_WIDE, _HIGH, "yuv420p")
    white.time_base = frame.time_base
    rays = Equirectangular(_WIDE, _HIGH).grid()
    angles = np.stack([each.project(rays)[1] for each in rig.lenses])
    weights = weights_of(rig, angles, 8.0)[0] * 255
    for plane, times in zip(planes_of(white), (1, 2, 2), strict=True):
        plane[:] = weights[::times, ::times]
    return _pushing(graph, [(source, frame), (mask, white)])


def _source(graph: av.filter.Graph, width: int, height: int) -> av.filter.context.FilterContext:
    return graph.add_buffer(width=width, height=height, format=av.VideoFormat("yuv420p"), time_base=Fraction(1, 25))


def _pushing(
    graph: av.filter.Graph, given: list[tuple[av.filter.context.FilterContext, av.VideoFrame]]
) -> Callable[[], None]:
    number = 0

    def work() -> None:
        nonlocal number
        for _ in range(_PICTURES):
            for source, frame in given:
                frame.pts = number
                source.push(frame)
            made = graph.pull()
            assert isinstance(made, av.VideoFrame)
            assert (made.width, made.height) == (_WIDE, _HIGH)
            number += 1

    return work


def _memory() -> Row:
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.sphere_memory"], capture_output=True, check=True, text=True
    )
    early, late = (int(line) / 1e9 for line in done.stdout.split())
    flat = late - early < 0.1
    return Row(
        "both eyes of six lenses to 7680×7680, 10 bits 4:2:2, into ProRes: peak memory",
        "lens pictures in memory, nothing decoded",
        "≤ 2.5 GB, flat",
        f"{late:.2f} GB, {'flat' if flat else f'growing from {early:.2f}'}",
        late <= 2.5 and flat,
    )


def _six_lenses(two: Rig) -> Row:
    six = rig_named("ring-of-six-160")
    target = Equirectangular(_WIDE, _HIGH)
    frames = [_noise(six) for _ in range(six.pictures)]
    with Stitcher(six, target) as ring, Stitcher(two, target) as pair:
        one, other = _stitching(ring, frames), _stitching(pair, [_noise(two)])
        timed(one)
        timed(other)
        measured = ratio(one, other)
    return at_most("stitch six lenses to the same", "two lenses", 1.6, measured)


def _near(rig: Rig) -> Row:
    """Near things matched anew in every picture, on what can be matched: a smooth field with edges in it."""
    target, frame = Equirectangular(_WIDE, _HIGH), _noise(rig)
    for plane in planes_of(frame):
        plane[:] = cv2.GaussianBlur(plane, (0, 0), 6)
    with Stitcher(rig, target, near=NearMatching(rig, USUAL_BAND_DEG)) as near, Stitcher(rig, target) as plain:
        one, other = _stitching(near, [frame]), _stitching(plain, [frame])
        timed(one)
        timed(other)
        measured = ratio(one, other)
    return at_most("the same, near things matched in each picture", "the same without", 2.0, measured)
