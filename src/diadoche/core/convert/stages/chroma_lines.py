"""More lines of colour and nothing else (4:2:0 to 4:2:2), plane by plane.

The scaler takes brightness along through all its steps, though it comes out as it went in: that is most of its work.
Here the planes are taken apart, those of colour alone are scaled, and all are put together again: the same samples, for
the scaler takes chroma to be sited at the left, wherever a picture says that it is.
"""

from __future__ import annotations

import os
from fractions import Fraction

import av
import av.filter

# From, to: eight bits alone, for deeper samples the scaler is quicker than taking planes apart.
_FORMATS = {"yuv420p": "yuv422p", "yuvj420p": "yuv422p"}


def only_adds_lines(frame: av.VideoFrame, pixel_format: str) -> bool:
    """Whether a progressive picture of the same levels becomes one of a pixel format by more lines of colour alone."""
    is_even = not frame.width % 2 and not frame.height % 2
    return _FORMATS.get(frame.format.name) == pixel_format and is_even


def planes_graph(like: av.VideoFrame, pixel_format: str, tick_s: Fraction) -> av.filter.Graph:
    """Takes progressive pictures apart, gives their colour as many lines as they have, and puts them together.

    Args:
        like: a picture of the size and pixel format of those that come in.
        pixel_format: what comes out.
        tick_s: of the pictures' stamps.
    """
    graph = av.filter.Graph()
    # Others work at the same time.
    graph.threads = max(1, (os.cpu_count() or 1) // 2)
    whole = graph.add_buffer(template=None, width=like.width, height=like.height, format=like.format, time_base=tick_s)
    progressive = graph.add("setfield", "prog")
    apart = graph.add("extractplanes", "y+u+v")
    whole.link_to(progressive)
    progressive.link_to(apart)
    places = ":".join(f"map{plane}s={plane}:map{plane}p=0" for plane in range(3))
    together = graph.add("mergeplanes", f"{places}:format={pixel_format}")
    apart.link_to(together, 0, 0)
    size = f"{like.width // 2}:{like.height}"
    for plane in (1, 2):
        # A range that is not told would be taken for another one.
        scaled = graph.add("scale", f"{size}:flags=bicubic+accurate_rnd:in_range=limited:out_range=limited")
        # Taller alone, the plane would be told as one of narrow pixels.
        square = graph.add("setsar", "1")
        apart.link_to(scaled, plane, 0)
        scaled.link_to(square)
        square.link_to(together, 0, plane)
    together.link_to(graph.add("buffersink"))
    graph.configure()
    return graph
