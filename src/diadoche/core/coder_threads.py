"""How a coder uses the processors: all of them, as far as the pictures in its threads' hands leave memory to others."""

from __future__ import annotations

import os

import av
from av.codec import Capabilities

# Threads of one coder may hold so much of the machine's memory, and never more than this.
_OUR_PART, _MOST_BYTES = 1 / 16, 2_000_000_000
# What a thread holds beside its picture: encoders make room for the largest coded one that could be.
_ENCODER_HOLDS, _DECODER_HOLDS = 5, 2
# Decoders that conceal damage and mark the picture, and lose marks between threads: a picture is handed out while the
# thread that decodes it still makes its mark, and what threads find in slices that they share is not marked at all.
_LOSE_MARKS = frozenset({"h264"})


def use_processors(context: av.VideoCodecContext) -> None:
    """Sets how many threads an encoder or decoder has, and what they share.

    Threads that take a picture each are the fastest, and each holds its own. Where that is too much, threads share a
    picture that is coded in slices, or are fewer. Where a damaged picture would not always be told, there is one.

    Args:
        context: with size and pixels set where they are known, not opened yet.
    """
    processors = os.cpu_count() or 1
    if not context.is_encoder and context.codec.name in _LOSE_MARKS:
        context.thread_type = "NONE"
        return
    context.thread_type = "AUTO"
    threads = min(processors, threads_for(_picture_bytes(context), encoder=context.is_encoder))
    if threads == processors:
        return
    codec = context.codec
    if not context.is_encoder and codec.intra_only and codec.capabilities & Capabilities.slice_threads:
        context.thread_type = "SLICE"
    else:
        context.thread_count = threads


def threads_for(picture_bytes: int, *, encoder: bool) -> int:
    """How many threads may hold a picture each."""
    memory = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    each = max(1, picture_bytes * (_ENCODER_HOLDS if encoder else _DECODER_HOLDS))
    return max(1, int(min(memory * _OUR_PART, _MOST_BYTES)) // each)


def _picture_bytes(context: av.VideoCodecContext) -> int:
    if not context.width or context.format is None:
        return 0
    return context.width * context.height * context.format.padded_bits_per_pixel // 8
