"""A simulated tape-less camcorder: interlaced H.264 with AC-3 in a whole AVCHD tree."""

from __future__ import annotations

import os
from dataclasses import dataclass
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from typing import Any

import av

from diadoche.demo import avchd, packs
from diadoche.demo.recording import SAMPLE_RATE_HZ, Recording, picture_frames, prepare_video, sound_frames

_AC3_SAMPLES = 1536
_PACKET = avchd.PACKET_BYTES
_KEY_EVERY = 12
_ENCODER = (
    f"tff=1:keyint={_KEY_EVERY}:min-keyint={_KEY_EVERY}:scenecut=0:bframes=2:open-gop=0:aud=1:bluray-compat=1:"
    "nal-hrd=vbr:vbv-maxrate=17000:vbv-bufsize=17000:force-cfr=1"
)


@dataclass(frozen=True, slots=True)
class _Key:
    packet: int
    pts_90k: int


def write_card(root: Path, recordings: list[tuple[Recording, int]]) -> None:
    """Writes the card of a camcorder; each recording comes with the number of spans it was cut into."""
    bdmv = root / "PRIVATE" / "AVCHD" / "BDMV"
    for folder in ("PLAYLIST", "CLIPINF", "STREAM"):
        (bdmv / folder).mkdir(parents=True)
    (root / "PRIVATE" / "AVCHD" / "AVCHDTN").mkdir()
    rate = recordings[0][0].rate
    spans: list[avchd.Span] = []
    for recording, pieces in recordings:
        spans += _write_recording(bdmv, recording, pieces, len(spans))
    for span in spans:
        info = avchd.clip_info_cpi(span, rate.as_integer_ratio())
        (bdmv / "CLIPINF" / f"{span.name}.CPI").write_bytes(info)
    (bdmv / "PLAYLIST" / "00000.MPL").write_bytes(avchd.playlist_mpl(spans, rate.as_integer_ratio()))
    (bdmv / "INDEX.BDM").write_bytes(avchd.index_bdm())
    (bdmv / "MOVIEOBJ.BDM").write_bytes(avchd.movieobj_bdm(1))


def _write_recording(bdmv: Path, recording: Recording, pieces: int, first: int) -> list[avchd.Span]:
    whole = bdmv / "STREAM" / "whole.part"
    _encode(whole, recording)
    data = whole.read_bytes()
    whole.unlink()
    keys = _key_pictures(data)
    cuts = [0, *(keys[len(keys) * piece // pieces].packet for piece in range(1, pieces)), len(data) // _PACKET]
    frame_90k = int(90_000 / recording.rate)
    end_90k = keys[0].pts_90k + recording.pictures * frame_90k
    spans = []
    for piece in range(pieces):
        begin, end = cuts[piece], cuts[piece + 1]
        inside = [key for key in keys if begin <= key.packet < end]
        after = [key for key in keys if key.packet >= end]
        name = f"{first + piece:05}"
        (bdmv / "STREAM" / f"{name}.MTS").write_bytes(data[begin * _PACKET : end * _PACKET])
        moment = (recording.start + timedelta(seconds=float(recording.pictures / recording.rate))).timestamp()
        os.utime(bdmv / "STREAM" / f"{name}.MTS", (moment, moment))
        spans.append(
            avchd.Span(
                name,
                end - begin,
                tuple((key.packet - begin, key.pts_90k) for key in inside),
                inside[0].pts_90k // 2,
                (after[0].pts_90k if after else end_90k) // 2,
                piece > 0,
            )
        )
    return spans


def _encode(path: Path, recording: Recording) -> None:
    with av.open(str(path), "w", format="mpegts", options={"mpegts_m2ts_mode": "1"}) as target:
        video = target.add_stream("libx264", rate=recording.rate)
        prepare_video(video, recording, {"preset": "superfast", "b": "9000000", "x264-params": _ENCODER})
        audio = target.add_stream("ac3", rate=SAMPLE_RATE_HZ)
        audio.bit_rate = 256_000
        sounds = sound_frames(recording, _AC3_SAMPLES)
        heard = 0
        for frame in [*picture_frames(recording), None]:
            for packet in video.encode(frame):
                target.mux(_with_packs(packet, recording))
            shown = (frame.pts + 1) / recording.rate if frame is not None and frame.pts is not None else Fraction(10**6)
            while Fraction(heard, SAMPLE_RATE_HZ) < shown and (sound := next(sounds, None)) is not None:
                target.mux(audio.encode(sound))
                heard += _AC3_SAMPLES
        target.mux(audio.encode(None))


def _with_packs(packet: av.Packet[Any], recording: Recording) -> av.Packet[Any]:
    """The packet with date and timecode of its picture in front of the slices."""
    assert packet.pts is not None
    assert packet.time_base is not None
    index = round(packet.pts * packet.time_base * recording.rate)
    moment = recording.start + timedelta(seconds=float(index / recording.rate))
    message = packs.sei(moment, _label(recording.timecode, index, round(recording.rate)))
    marked = av.Packet(packs.insert(bytes(packet), message))
    marked.pts, marked.dts, marked.time_base = packet.pts, packet.dts, packet.time_base
    marked.stream, marked.is_keyframe, marked.duration = packet.stream, packet.is_keyframe, packet.duration
    return marked


def _label(start: str, frames: int, base: int) -> tuple[int, int, int, int]:
    """Counts a non-drop label on; written here anew, so that the demo cannot share the product's mistakes."""
    hours, minutes, seconds, frame = (int(part) for part in start.split(":"))
    total = ((hours * 60 + minutes) * 60 + seconds) * base + frame + frames
    seconds, frame = divmod(total, base)
    return seconds // 3600 % 24, seconds // 60 % 60, seconds % 60, frame


def _key_pictures(data: bytes) -> list[_Key]:
    """Key pictures, each by the packet of the tables in front of it [13818-1, 2.4.3]."""
    keys: list[_Key] = []
    tables = 0
    for number in range(len(data) // _PACKET):
        packet = data[number * _PACKET + 4 : (number + 1) * _PACKET]
        pid = (packet[1] & 0x1F) << 8 | packet[2]
        if pid == 0:
            tables = number
        if pid != avchd.VIDEO_PID or not packet[1] & 0x40 or not packet[3] & 0x20 or not packet[5] & 0x40:
            continue
        pes = packet[5 + packet[4] :]
        stamp = pes[9:14]
        pts = (stamp[0] >> 1 & 7) << 30 | stamp[1] << 22 | (stamp[2] >> 1) << 15 | stamp[3] << 7 | stamp[4] >> 1
        keys.append(_Key(tables, pts))
    return keys
