"""The index files of an AVCHD tree, as the simulated camcorder writes them.

Source: the structure as libbluray's parsers read it (general-purpose library); field names follow
[BDROM] the published white paper on the BD-ROM audio-visual format. Times in 45 kHz ticks.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

VIDEO_PID, AUDIO_PID, PMT_PID, PCR_PID = 0x1011, 0x1100, 0x0100, 0x1001
PACKET_BYTES = 192
_H264, _AC3, _LPCM = 0x1B, 0x81, 0x80
_FORMAT_1080I = 4
_RATES = {(25, 1): 3, (30000, 1001): 4}
_STEREO, _48K = 3, 1


@dataclass(frozen=True, slots=True)
class Span:
    """One stream file: its packets, where its key pictures are, and when it begins and ends."""

    name: str
    packets: int
    keys: tuple[tuple[int, int], ...]
    begin_45k: int
    end_45k: int
    continues: bool


def index_bdm() -> bytes:
    """INDEX.BDM: first playback and one title, both the movie object 0."""
    title = struct.pack(">IHHI", 0x40000000, 0x0000, 0, 0)
    indexes = title + title + struct.pack(">H", 1) + title
    info = struct.pack(">I", 34) + bytes(34)
    head = b"INDX0100" + struct.pack(">II", 40 + len(info), 0) + bytes(24)
    return head + info + struct.pack(">I", len(indexes)) + indexes


def movieobj_bdm(playlists: int) -> bytes:
    """MOVIEOBJ.BDM: one object that plays every playlist in turn."""
    commands = b"".join(struct.pack(">III", 0x22800000, number, 0) for number in range(playlists))
    objects = struct.pack(">IHHH", 0, 1, 0x8000, playlists) + commands
    return b"MOBJ0100" + bytes(4) + bytes(28) + struct.pack(">I", len(objects)) + objects


def playlist_mpl(spans: list[Span], rate: tuple[int, int]) -> bytes:
    """One playlist over all spans, with a mark where each recording begins."""
    info = struct.pack(">IBBHQH", 14, 0, 1, 0, 0, 0)
    items = b"".join(_play_item(span, rate) for span in spans)
    play_list = struct.pack(">HHH", 0, len(spans), 0) + items
    begins = [(place, span) for place, span in enumerate(spans) if not span.continues]
    marks = struct.pack(">H", len(begins)) + b"".join(
        struct.pack(">BBHIHI", 0, 1, place, span.begin_45k, 0xFFFF, 0) for place, span in begins
    )
    list_at = 40 + len(info)
    marks_at = list_at + 4 + len(play_list)
    head = b"MPLS0100" + struct.pack(">III", list_at, marks_at, 0) + bytes(20)
    return head + info + struct.pack(">I", len(play_list)) + play_list + struct.pack(">I", len(marks)) + marks


def _play_item(span: Span, rate: tuple[int, int]) -> bytes:
    streams = struct.pack(">HBBBBBBB5x", 0, 1, 1, 0, 0, 0, 0, 0)
    streams += _stream_entry(VIDEO_PID) + struct.pack(">BBBBxxx", 5, _H264, _FORMAT_1080I << 4 | _RATES[rate], 0)[:6]
    streams += _stream_entry(AUDIO_PID) + struct.pack(">BBB3s", 5, _AC3, _STEREO << 4 | _48K, b"und")
    body = span.name.encode() + b"M2TS" + struct.pack(">HB", 6 if span.continues else 1, 0)
    body += struct.pack(">IIQBBH", span.begin_45k, span.end_45k, 0, 0, 0, 0)
    body += struct.pack(">H", len(streams)) + streams
    return struct.pack(">H", len(body)) + body


def _stream_entry(pid: int) -> bytes:
    return struct.pack(">BBH6x", 9, 1, pid)


def clip_info_cpi(span: Span, rate: tuple[int, int]) -> bytes:
    """The clip information of one stream file, with its entry-point map."""
    info = struct.pack(">HBBIII", 0, 1, 1, 0, 3_000_000, span.packets) + bytes(128)
    info += struct.pack(">HB4s25x", 30, 0x80, b"HDMV")
    sequence = struct.pack(">BBIBB", 0, 1, 0, 1, 0) + struct.pack(">HIII", PCR_PID, 0, span.begin_45k, span.end_45k)
    video = struct.pack(">HBBBB18x", VIDEO_PID, 21, _H264, _FORMAT_1080I << 4 | _RATES[rate], 0x30)
    audio = struct.pack(">HBBB3s16x", AUDIO_PID, 21, _AC3, _STEREO << 4 | _48K, b"und")
    program = struct.pack(">BBIHBB", 0, 1, 0, PMT_PID, 2, 0) + video + audio
    cpi = struct.pack(">H", 1) + _entry_points(span)
    parts = [struct.pack(">I", len(part)) + part for part in (info, sequence, program, cpi)] + [struct.pack(">I", 0)]
    places, place = [], 40
    for part in parts:
        places.append(place)
        place += len(part)
    return b"HDMV0100" + struct.pack(">IIIII", *places[1:], 0) + bytes(12) + b"".join(parts)


def _entry_points(span: Span) -> bytes:
    coarse, fine = bytearray(), bytearray()
    coarse_count, last = 0, None
    for place, (packet, pts_90k) in enumerate(span.keys):
        group = (pts_90k >> 19, packet >> 17)
        if group != last:
            last = group
            coarse_count += 1
            coarse += struct.pack(">II", place << 14 | pts_90k >> 19 & 0x3FFF, packet)
        fine += struct.pack(">I", (pts_90k >> 9 & 0x7FF) << 17 | packet & 0x1FFFF)
    head_bytes = 2 + 12
    counts = 1 << 34 | coarse_count << 18 | len(span.keys)
    head = struct.pack(">BBH", 0, 1, VIDEO_PID) + counts.to_bytes(6, "big") + struct.pack(">I", head_bytes)
    return head + struct.pack(">I", 4 + len(coarse)) + bytes(coarse) + bytes(fine)
