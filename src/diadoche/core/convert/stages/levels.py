"""Levels and colour: from what a stage gives to what an encoder takes, without a detour and without a lie.

Within YUV only depth and chroma change, never a colour's coordinates, unless the target can say fewer matrices than
the source uses. RGB becomes YUV by a matrix that is then written into the file: one that a file does not name is
guessed by every reader, and guessed differently. A look-up table works on RGB of 16 bits, and what it gives is told.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator
from dataclasses import replace

import av
import av.filter

from diadoche.core.colortags import MATRICES, PRIMARIES, RANGES, TRANSFERS, code_of, matrix_for
from diadoche.core.convert.formats import PictureFormat, samples_of
from diadoche.core.convert.lookup_table import LookUpTable
from diadoche.core.convert.stages.chroma_lines import only_adds_lines, planes_graph
from diadoche.core.convert.stages.timing import Placed
from diadoche.core.identify.facts import Color

_FULL = "full"
# Sixteen bits: nothing of twelve is rounded away on the way through a table.
_TABLE_PIXELS = "gbrp16le"
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


def matrix_of(picture: PictureFormat) -> str:
    """By which matrix a picture is to be read, or, RGB, to be written."""
    return matrix_for(picture.color.matrix, picture.color.primaries, picture.height, rgb=picture.chroma == "RGB")


class Levels:
    """Makes the pictures of a stage those of an encoder."""

    def __init__(
        self,
        format_in: PictureFormat,
        pixel_format: str,
        *,
        holds_full_range: bool,
        matrices: tuple[str, ...] = (),
        table: LookUpTable | None = None,
        table_gives: str = "BT.709",
    ) -> None:
        """
        Args:
            format_in: what comes in.
            pixel_format: what the encoder takes.
            holds_full_range: whether the target can say that levels are full.
            matrices: those that the target can name; none for all.
            table: a look-up table.
            table_gives: the colours that come out of it.
        """
        self._in = format_in
        self._pixel_format = pixel_format
        self._table = table
        self._graph: av.filter.Graph | None = None
        rgb_in, rgb_out = format_in.chroma == "RGB", samples_of(pixel_format).chroma == "RGB"
        self._full_in = format_in.color.range == _FULL or (rgb_in and format_in.color.range != "limited")
        self._matrix_in = matrix_of(format_in)
        told = format_in.color
        matrix = self._matrix_in
        if table is not None:
            told, matrix = Color(table_gives, table_gives, table_gives, "limited"), table_gives
            if table_gives == "BT.2020":
                told = replace(told, transfer="BT.2020 (10 bits)")
        names = (matrix, _ALSO_CALLED.get(matrix, matrix))
        out = next((name for name in names if not matrices or name in matrices), (*matrices, matrix)[0])
        full_out = rgb_out or (table is None and not rgb_in and self._full_in and holds_full_range)
        # By which matrix pictures are written; RGB has none, and says so.
        self._matrix_out = out
        color = replace(told, matrix="RGB" if rgb_out else out, range=_FULL if full_out else "limited")
        # Containers write all three or none: what is not told is what the matrix is used with.
        if color.primaries not in PRIMARIES.values():
            color = replace(color, primaries=out)
        if color.transfer not in TRANSFERS.values():
            color = replace(color, transfer=_TRANSFER_WITH.get(out, "BT.709"))
        self.color = color

    def format_out(self, format_in: PictureFormat) -> PictureFormat:
        """What the encoder takes."""
        samples = samples_of(self._pixel_format)
        return replace(
            format_in, chroma=samples.chroma, bit_depth=samples.bits, has_alpha=samples.has_alpha, color=self.color
        )

    @property
    def guessed(self) -> str:
        """Which colours were taken where the source names none, or nothing."""
        known = self._in.color.matrix in MATRICES.values() or self._in.chroma == "RGB"
        return "" if known else self._matrix_in

    def push(self, placed: Placed) -> Iterator[Placed]:
        """The picture as the encoder takes it."""
        frame = placed.frame
        if self._graph is None:
            self._graph = self._filter(frame)
        frame.pts, frame.time_base = placed.number, 1 / self._in.rate
        # The decoder's picture type would force the encoder's.
        frame.pict_type = 0
        self._graph.push(frame)
        ready = self._graph.pull()
        assert isinstance(ready, av.VideoFrame)
        # Some encoders write what the frame says, and not what they were set to.
        ready.colorspace = code_of(MATRICES, self.color.matrix)
        ready.color_primaries = code_of(PRIMARIES, self.color.primaries)
        ready.color_trc = code_of(TRANSFERS, self.color.transfer)
        ready.color_range = code_of(RANGES, self.color.range, otherwise=0)
        yield Placed(placed.number, ready, placed.again)

    def flush(self) -> Iterator[Placed]:
        """Nothing is held."""
        return iter(())

    def _filter(self, frame: av.VideoFrame) -> av.filter.Graph:
        tick_s, interlaced = 1 / self._in.rate, self._in.interlaced
        is_plain = self._table is None and not interlaced and self._keeps_levels
        if is_plain and only_adds_lines(frame, self._pixel_format):
            return planes_graph(frame, self._pixel_format, tick_s)
        graph = av.filter.Graph()
        graph.threads = os.cpu_count() or 1
        chain = [
            graph.add_buffer(
                template=None, width=frame.width, height=frame.height, format=frame.format, time_base=tick_s
            )
        ]
        order = {"top": "tff", "bottom": "bff"}.get(self._in.field_order or "top", "tff")
        chain.append(graph.add("setfield", order if interlaced else "prog"))
        full_out = self.color.range == _FULL
        if self._table is not None:
            chain.append(self._scale(graph, frame.format.is_rgb, self._full_in, full_out=True, out=self._matrix_in))
            chain.append(graph.add("format", _TABLE_PIXELS))
            name, between = ("lut3d", "tetrahedral") if self._table.is_cube else ("lut1d", "linear")
            chain.append(graph.add(name, file=os.fspath(self._table.path), interp=between))
            chain.append(self._scale(graph, True, True, full_out=full_out, out=self._matrix_out))
            chain.append(graph.add("format", self._pixel_format))
        elif self._changes(frame.format.name):
            chain.append(
                self._scale(graph, frame.format.is_rgb, self._full_in, full_out=full_out, out=self._matrix_out)
            )
            chain.append(graph.add("format", self._pixel_format))
        chain.append(graph.add("buffersink"))
        for before, after in itertools.pairwise(chain):
            before.link_to(after)
        graph.configure()
        return graph

    def _scale(
        self, graph: av.filter.Graph, rgb_in: bool, full_in: bool, *, full_out: bool, out: str
    ) -> av.filter.context.FilterContext:
        ranges = f"in_range={_range(full_in)}:out_range={_range(full_out)}"
        into, onto = (_SCALE_MATRICES[name] for name in (self._matrix_in if not rgb_in else out, out))
        flags = "bicubic+accurate_rnd"
        if rgb_in or into != onto or samples_of(self._pixel_format).chroma == "RGB" or self._table is not None:
            # Chroma is computed at every pixel before it is thinned out, or it is off by a code value or two.
            flags += "+full_chroma_int+full_chroma_inp"
        interlaced = int(self._in.interlaced)
        return graph.add(
            "scale", f"flags={flags}:interl={interlaced}:{ranges}:in_color_matrix={into}:out_color_matrix={onto}"
        )

    def _changes(self, format_in: str) -> bool:
        return format_in != self._pixel_format or not self._keeps_levels

    @property
    def _keeps_levels(self) -> bool:
        """Whether range and matrix stay what they are."""
        same_matrix = self._matrix_out in {self._matrix_in, _ALSO_CALLED.get(self._matrix_in)}
        return same_matrix and self._full_in == (self.color.range == _FULL)


def _range(full: bool) -> str:
    return _FULL if full else "limited"
