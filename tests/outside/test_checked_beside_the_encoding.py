"""Outputs whose packets were decoded as they left the encoder, by files that hold something else than was decoded."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest

from diadoche.core.convert import examine as examining
from diadoche.core.convert.check import Checks, Expected, Finding
from diadoche.core.convert.examine import examine
from diadoche.core.convert.packet_decoder import PacketDecoder
from diadoche.core.convert.picture_check import PictureCheck
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.signature import picture_digest, signature_of
from diadoche.core.media import packet_of
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import HEIGHT, WIDTH, ffmpeg, film, picture

PICTURES, RATE = 20, 25
_Packets = list["av.Packet[Any]"]


@dataclass
class Encoded:
    """A film, what was to be in it, and what decoded its packets on their way."""

    path: Path
    expected: Expected
    beside: PacketDecoder

    def verdicts(self) -> tuple[Checks, tuple[Finding, ...]]:
        return examine(self.path, self.expected, Watch(), self.beside)

    def by_decoding(self) -> tuple[Checks, tuple[Finding, ...]]:
        return examine(self.path, self.expected, Watch())


@dataclass
class Fault:
    """What a writer does wrong."""

    codec: str = "ffv1"
    ending: str = "mkv"
    before: Callable[[int, av.VideoFrame], av.VideoFrame] = lambda _number, frame: frame
    with_packets: Callable[[_Packets], _Packets] = lambda packets: packets
    afterwards: Callable[[Path], None] = lambda _path: None
    options: dict[str, str] = field(default_factory=dict)


def numbered(number: int) -> av.VideoFrame:
    planes = np.frombuffer(picture(number), np.uint8).reshape(HEIGHT * 3 // 2, WIDTH)
    return av.VideoFrame.from_ndarray(planes, format="yuv420p")


def encode(folder: Path, fault: Fault) -> Encoded:
    expected = Expected(Fraction(RATE))
    path = folder / f"out.{fault.ending}"
    packets: _Packets = []
    with av.open(str(path), "w") as target:
        stream = target.add_stream(fault.codec, rate=RATE, options=fault.options)
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, "yuv420p"
        target.start_encoding()
        beside = PacketDecoder(stream.codec_context.codec.canonical_name, stream.codec_context, PictureCheck(expected))
        for number in range(PICTURES):
            right = numbered(number)
            expected.signatures.append(signature_of(right))
            if fault.codec == "ffv1":
                expected.digests.append(picture_digest(right))
            given = fault.before(number, right)
            given.pts, given.time_base = number, Fraction(1, RATE)
            packets += stream.encode(given)
        packets += stream.encode(None)
        for packet in packets:
            beside.take(packet)
        beside.end()
        for packet in fault.with_packets(packets):
            packet.stream = stream
            target.mux(packet)
    fault.afterwards(path)
    return Encoded(path, expected, beside)


def instead(packet: av.Packet[Any], data: bytes) -> av.Packet[Any]:
    other: av.Packet[Any] = av.Packet(data)
    other.pts, other.dts, other.duration, other.time_base = packet.pts, packet.dts, packet.duration, packet.time_base
    other.is_keyframe = packet.is_keyframe
    return other


def one_bit_turned(packets: _Packets) -> _Packets:
    data = bytearray(bytes(packets[7]))
    data[len(data) // 2] ^= 4
    return [*packets[:7], instead(packets[7], bytes(data)), *packets[8:]]


def one_lost(packets: _Packets) -> _Packets:
    return packets[:7] + packets[8:]


def one_late(packets: _Packets) -> _Packets:
    for packet in packets[7:]:
        packet.pts, packet.dts = (packet.pts or 0) + 1, (packet.dts or 0) + 1
    return packets


def two_exchanged(packets: _Packets) -> _Packets:
    seventh, eighth = packets[7], packets[8]
    return [*packets[:7], instead(seventh, bytes(eighth)), instead(eighth, bytes(seventh)), *packets[9:]]


def stamps_exchanged(packets: _Packets) -> _Packets:
    """The pictures are all there, and each stamp too: two are shown in each other's place."""
    between = [packet for packet in packets if (packet.pts or 0) > 2 and not packet.is_keyframe]
    one, other = next((a, b) for a, b in itertools.pairwise(between) if (a.pts or 0) > (b.pts or 0))
    one.pts, other.pts = other.pts, one.pts
    return packets


def another_head(path: Path) -> None:
    """The head of the lossless codec, by which its packets are read, damaged in the file alone."""
    with av.open(str(path)) as media:
        head = bytes(media.streams.video[0].codec_context.extradata or b"")
    data = path.read_bytes()
    assert data.count(head) == 1
    path.write_bytes(data.replace(head, bytes(each ^ 0x55 for each in head)))


def hidden_by_edit_list(path: Path) -> None:
    """The first second is cut off the way players believe: it is in the file, and nobody sees it."""
    ffmpeg("-ss", "0.4", "-i", path, "-c", "copy", path.with_name("cut.mp4"))
    path.with_name("cut.mp4").replace(path)


def another_picture(number: int, frame: av.VideoFrame) -> av.VideoFrame:
    return numbered(1234) if number == 7 else frame


FAULTS = {
    "one bit is turned": (Fault(with_packets=one_bit_turned), "changed"),
    "one is lost": (Fault(with_packets=one_lost), "out of step"),
    "one is late": (Fault(with_packets=one_late), "out of step"),
    "two are exchanged": (Fault(with_packets=two_exchanged), "changed"),
    "stamps are exchanged": (
        Fault("libx264", "mkv", with_packets=stamps_exchanged, options={"bf": "2"}),
        "out of step",
    ),
    "the head is another": (Fault(afterwards=another_head), ""),
    "an edit list hides some": (
        Fault("libx264", "mp4", afterwards=hidden_by_edit_list, options={"bf": "0", "g": "10"}),
        "",
    ),
    "the encoder made another": (Fault(before=another_picture), "changed"),
}


@pytest.mark.parametrize("name", FAULTS)
def test_a_fault_between_the_encoder_and_the_file_is_found(tmp_path: Path, name: str) -> None:
    fault, kind = FAULTS[name]
    made = encode(tmp_path, fault)
    checks, findings = made.verdicts()
    assert not checks.passed, findings
    assert not kind or kind in {each.kind for each in findings}
    # The same is said by who decodes the file alone.
    assert made.by_decoding()[0] == checks


@pytest.mark.parametrize("codec", ["ffv1", "libx264", "mpeg4"])
def test_the_very_packets_are_enough(tmp_path: Path, codec: str, monkeypatch: pytest.MonkeyPatch) -> None:
    made = encode(tmp_path, Fault(codec, options={"bf": "2"} if codec == "libx264" else {}))
    whole = made.by_decoding()
    assert whole[0].passed, whole
    monkeypatch.delattr(examining, "_decode")
    assert made.verdicts() == whole


def test_no_recipe_decodes_its_output_twice(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = film(tmp_path / "in.mov", range(30), "25", "-c:v", "libx264", "-bf", "2", "-c:a", "pcm_s16le")
    monkeypatch.delattr(examining, "_decode")
    for recipe in recipes().values():
        made = perform_make(MakeRequest((source,), recipe, tmp_path / recipe.name), Watch())
        assert made.output, (recipe.name, made.problems)


def test_what_lies_behind_a_packet_is_not_decoded(tmp_path: Path) -> None:
    # A decoder of MPEG-4 that is told no tag looks for stuffing there, and takes a picture for damaged that is whole.
    film = tmp_path / "in.avi"
    raw = b"".join(picture(number) for number in range(PICTURES))
    ffmpeg(
        "-f",
        "rawvideo",
        "-pix_fmt",
        "yuv420p",
        "-s",
        f"{WIDTH}x{HEIGHT}",
        "-r",
        str(RATE),
        "-i",
        "-",
        "-c:v",
        "mpeg4",
        film,
        given=raw,
    )
    decoder = av.CodecContext.create("mpeg4", "r")
    with av.open(str(film)) as media:
        decoder.extradata = media.streams.video[0].codec_context.extradata
        coded = [bytes(packet) for packet in media.demux(video=0) if packet.size]
    assert isinstance(decoder, av.VideoCodecContext)
    again = [packet_of(data) for data in coded]
    assert [bytes(packet) for packet in again] == coded
    shown = [frame for packet in (*again, None) for frame in decoder.decode(packet)]
    assert len(shown) == PICTURES
    assert not any(frame.is_corrupt for frame in shown)
