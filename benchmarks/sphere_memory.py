"""How much memory a stitch of both eyes to 7680×7680 takes at 10 bits 4:2:2, encoder included, in a process of its own.

Lens pictures are in memory, nothing is decoded. Prints the peak after a third of the pictures and at the end, in bytes.
"""

from __future__ import annotations

import os
from fractions import Fraction

import av
import numpy as np

from benchmarks.measuring import high_water_bytes
from diadoche.core.coder_threads import use_processors
from diadoche.core.sphere.lens_planes import planes_of
from diadoche.core.sphere.projection import Equirectangular
from diadoche.core.sphere.rig import rig_named
from diadoche.core.sphere.stitcher import Stitcher

PICTURES, _SIDE_PX, _LENS_PX = 9, 7680, 1920


def main() -> None:
    """Stitches and encodes."""
    rig = rig_named("ring-of-six-160").for_size(_LENS_PX, _LENS_PX)
    lenses = [av.VideoFrame(_LENS_PX, _LENS_PX, "yuv422p10le") for _ in rig.lenses]
    dice = np.random.default_rng(1)
    for lens in lenses:
        for plane in planes_of(lens):
            # Much detail: an encoder's packets are as large as they get.
            plane[:] = dice.integers(200, 800, plane.shape)
    pictures = [planes_of(lens) for lens in lenses]
    target = Equirectangular(_SIDE_PX, _SIDE_PX // 2)
    with (
        Stitcher(rig.for_eye("left"), target, (2, 1), black=(64, 512)) as left,
        Stitcher(rig.for_eye("right"), target, (2, 1), black=(64, 512)) as right,
        av.open(os.devnull, "w", format="mov", options={"movflags": "frag_keyframe"}) as film,
    ):
        stream = film.add_stream("prores_aw", rate=25, options={"profile": "3"})
        context = stream.codec_context
        context.width = context.height = _SIDE_PX
        context.pix_fmt = "yuv422p10le"
        use_processors(context)
        for number in range(PICTURES):
            made = av.VideoFrame(_SIDE_PX, _SIDE_PX, "yuv422p10le")
            planes = planes_of(made)
            for eye, stitcher in enumerate((left, right)):
                own = tuple(plane[eye * _SIDE_PX // 2 : (eye + 1) * _SIDE_PX // 2] for plane in planes)
                stitcher.stitch(pictures, (own[0], own[1], own[2]))
            made.pts, made.time_base = number, Fraction(1, 25)
            for packet in stream.encode(made):
                film.mux(packet)
            if number == PICTURES // 3:
                _tell()
        for packet in stream.encode(None):
            film.mux(packet)
    _tell()


def _tell() -> None:
    print(high_water_bytes(), flush=True)  # the answer


if __name__ == "__main__":
    main()
