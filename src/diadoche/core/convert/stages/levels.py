"""Levels and colour: from what a decoder gives to what an encoder takes, without a detour and without a lie.

Within YUV only depth and chroma change, never a colour's coordinates, unless the target can say fewer matrices than
the source uses. RGB becomes YUV by a matrix that is then written into the file: one that a file does not name is
guessed by every reader, and guessed differently.
"""

from __future__ import annotations

import itertools
import os
from dataclasses import dataclass, replace
from fractions import Fraction

import av
import av.filter

from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, UNSPECIFIED, code_of, matrix_for
from diadoche.core.identify.facts import Color, VideoFacts

_FULL = "full"
_TRANSFER_WITH = {"BT.601 (625)": "BT.601", "BT.601 (525)": "BT.601"}
# swscale's names of the matrices.
_SCALE_MATRICES = {
    "BT.709": "bt709",
    "BT.601 (625)": "bt470bg",
    "BT.601 (525)": "smpte170m",
    "SMPTE 240M": "smpte240m",
    "BT.2020": "bt2020nc",
}
# One matrix under two names: targets that know only one of them say the other.
_ALSO_CALLED = {"BT.601 (625)": "BT.601 (525)", "BT.601 (525)": "BT.601 (625)"}


def matrix_of(video: VideoFacts) -> str:
    """By which matrix a picture is to be read, or, RGB, to be written."""
    return matrix_for(video.color.matrix, video.color.primaries, video.height, rgb=video.chroma == "RGB")


@dataclass(frozen=True, slots=True)
class Levels:
    """How the pictures of one source become those of one encoder."""

    video: VideoFacts
    pixel_format: str
    matrix_in: str
    full_in: bool
    color: Color

    @classmethod
    def between(
        cls, video: VideoFacts, pixel_format: str, *, holds_full_range: bool, matrices: tuple[str, ...] = ()
    ) -> Levels:
        """What has to be done.

        Args:
            video: the source.
            pixel_format: what the encoder takes.
            holds_full_range: whether the target can say that levels are full.
            matrices: those that the target can name; none for all.
        """
        rgb = video.chroma == "RGB"
        full_in = video.color.range == _FULL or (rgb and video.color.range != "limited")
        matrix = matrix_of(video)
        names = (matrix, _ALSO_CALLED.get(matrix, matrix))
        out = next((name for name in names if not matrices or name in matrices), (*matrices, matrix)[0])
        full_out = not rgb and full_in and holds_full_range
        color = replace(video.color, matrix=out, range=_FULL if full_out else "limited")
        # Containers write all three or none: what is not told is what the matrix is used with.
        if color.primaries not in PRIMARIES.values():
            color = replace(color, primaries=out)
        if color.transfer not in TRANSFERS.values():
            color = replace(color, transfer=_TRANSFER_WITH.get(out, "BT.709"))
        return cls(video, pixel_format, matrix, full_in, color)

    @property
    def guessed(self) -> str:
        """Which colours were taken where the source names none, or nothing."""
        return "" if self.video.color.matrix in MATRICES.values() else self.matrix_in

    def tag(self, context: av.VideoCodecContext) -> None:
        """Writes into an encoder's head what its pictures are."""
        context.color_primaries = code_of(PRIMARIES, self.color.primaries)
        context.color_trc = code_of(TRANSFERS, self.color.transfer)
        context.colorspace = code_of(MATRICES, self.color.matrix, otherwise=UNSPECIFIED)
        context.color_range = code_of(RANGES, self.color.range, otherwise=0)

    def graph(self, frame: av.VideoFrame, rate: Fraction) -> av.filter.Graph:
        """A filter for frames like this one."""
        graph = av.filter.Graph()
        graph.threads = os.cpu_count() or 1
        interlaced = self.video.interlaced
        chain = [
            graph.add_buffer(
                template=None, width=frame.width, height=frame.height, format=frame.format, time_base=1 / rate
            )
        ]
        order = {"top": "tff", "bottom": "bff"}.get(self.video.field_order or "top", "tff")
        chain.append(graph.add("setfield", order if interlaced else "prog"))
        if self._changes(frame.format.name):
            ranges = f"in_range={_range(self.full_in)}:out_range={self.color.range}"
            into, out = (_SCALE_MATRICES[name] for name in (self.matrix_in, self.color.matrix))
            flags = "bicubic+accurate_rnd"
            if frame.format.is_rgb or into != out:
                # Chroma is computed at every pixel before it is thinned out, or it is off by a code value or two.
                flags += "+full_chroma_int+full_chroma_inp"
            chain.append(
                graph.add(
                    "scale",
                    f"flags={flags}:interl={int(interlaced)}:{ranges}:in_color_matrix={into}:out_color_matrix={out}",
                )
            )
            chain.append(graph.add("format", self.pixel_format))
        chain.append(graph.add("buffersink"))
        for before, after in itertools.pairwise(chain):
            before.link_to(after)
        graph.configure()
        return graph

    def _changes(self, format_in: str) -> bool:
        same_levels = self.full_in == (self.color.range == _FULL)
        same_matrix = self.color.matrix in {self.matrix_in, _ALSO_CALLED.get(self.matrix_in)}
        return format_in != self.pixel_format or not same_levels or not same_matrix


def _range(full: bool) -> str:
    return _FULL if full else "limited"
