"""Coded pictures are decoded again while the encoder works at the next ones: it leaves processors idle for that.

What was decoded are the encoder's packets, and not yet those of a file: `examine` proves that the file holds the same.
"""

from __future__ import annotations

import os
from typing import Any, cast

import av
import av.error

from diadoche.core.bounded_worker import BoundedWorker
from diadoche.core.coder_threads import use_processors
from diadoche.core.convert.picture_check import PictureCheck
from diadoche.core.convert.proof import TrackDigest
from diadoche.core.media import packet_of

# Codecs whose decoder, among those the media library has, is not the one of their own name.
_DECODERS = {"av1": "libdav1d"}


class PacketDecoder:
    """Decodes the packets of one encoder, in the order of coding, on a thread of its own."""

    def __init__(self, codec: str, encoder: av.VideoCodecContext, pictures: PictureCheck) -> None:
        """
        Args:
            codec: its published name.
            encoder: open; its head is the decoder's.
            pictures: takes what comes out.
        """
        self.pictures = pictures
        # Of the packets, for the file to be held against.
        self.digest = TrackDigest(codec, encoder.extradata)
        decoder = cast(av.VideoCodecContext, av.CodecContext.create(_DECODERS.get(codec, codec), "r"))
        # Without its tag, some decoders give fewer bits than they do for a file.
        decoder.extradata, decoder.codec_tag = encoder.extradata, encoder.codec_tag
        decoder.width, decoder.height, decoder.pix_fmt = encoder.width, encoder.height, encoder.pix_fmt
        use_processors(decoder)
        # The encoder has the rest, and needs more of them for a picture.
        most = max(1, (os.cpu_count() or 1) // 2)
        decoder.thread_count = min(decoder.thread_count or most, most)
        self._decoder: av.VideoCodecContext | None = decoder
        # When each packet's picture is shown, in the order of coding, in pictures; and whether they came out so.
        self.shown: list[int | None] = []
        self.is_in_order = True
        self._worker = BoundedWorker("decoding beside the encoder")

    def take(self, packet: av.Packet[Any]) -> None:
        """The next packet, whose bytes are taken now; waits where decoding is behind.

        Raises:
            Exception: what came of one before.
        """
        again = packet_of(bytes(packet))
        again.pts = packet.pts
        self.shown.append(packet.pts)
        self._worker.give(self._decode, again)

    def end(self) -> None:
        """Every picture was taken when it returns.

        Raises:
            Exception: what came of a packet.
        """
        self._worker.give(self._decode, None)
        self._worker.end()
        self.stop()

    def stop(self) -> None:
        """Ends the thread, wherever it is, and lets go of the decoder's pictures."""
        self._worker.stop()
        self._decoder = None

    def _decode(self, packet: av.Packet[Any] | None) -> None:
        assert self._decoder is not None
        if packet is not None:
            self.digest.take(memoryview(packet))
        try:
            frames = self._decoder.decode(packet)
        except av.error.FFmpegError:
            self.pictures.broken()
            return
        for frame in frames:
            self.is_in_order = self.is_in_order and frame.pts == self.pictures.count
            self.pictures.take(frame)
