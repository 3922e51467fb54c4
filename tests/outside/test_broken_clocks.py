"""Clocks that start again, film that repeats fields by flag, packets that were lost, files that were cut off."""

from __future__ import annotations

import random
import tracemalloc
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from diadoche.core.convert.formats import SoundFormat
from diadoche.core.convert.sound import SoundTrack
from diadoche.core.convert.sound_coding import coding_of
from diadoche.core.identify.probe import identify
from tests.outside.numbered import clicks_beside_the_picture, film, numbers_of, times_of
from tests.outside.public_tools import ffprobe
from tests.outside.test_true_to_the_picture import made, make


@pytest.mark.parametrize("way", ["convert", "rewrap"])
def test_a_clock_of_33_bits_that_starts_again(tmp_path: Path, way: str) -> None:
    # 2 to the power of 33 ticks of 90 kHz are 95443.7 s; it happens in the middle of the second second.
    source = film(
        tmp_path / "in.ts",
        range(100),
        "25",
        "-c:v",
        "libx264",
        "-bf",
        "2",
        "-c:a",
        "mp2",
        "-output_ts_offset",
        "95440.9",
    )
    stamps = [
        int(each["pts"]) for each in ffprobe(source, "-select_streams", "v:0", "-show_entries", "packet=pts")["packets"]
    ]
    assert max(stamps) - min(stamps) < 2**32 or min(stamps) < 2**20
    path = made([source], way, "prores-422" if way == "convert" else "mov", tmp_path / "out")
    assert numbers_of(path) == list(range(100))
    assert times_of(path) == pytest.approx([place / 25 for place in range(100)], abs=0.002)
    # Two pictures are coded ahead, not as many as lay before the clock began anew.
    first = ffprobe(path, "-select_streams", "v:0", "-show_entries", "packet=dts_time")["packets"][0]
    assert float(first["dts_time"]) > -0.2
    heard = clicks_beside_the_picture(path)
    assert np.diff(heard) == pytest.approx([1, 1, 1], abs=0.003)


def repeated_fields(stream: Path, pictures: int) -> Path:
    """MPEG-2 at 24000/1001 flagged for a video clock: fields repeat by turns, as film on discs is [13818-2, 6.3.10]."""
    plain = film(
        stream.with_name("plain.m2v"),
        range(pictures),
        "24000/1001",
        "-c:v",
        "mpeg2video",
        "-q:v",
        "2",
        "-bf",
        "0",
        "-g",
        "12",
        "-f",
        "mpeg2video",
        sound=False,
    )
    data = bytearray(plain.read_bytes())
    place, number = 0, 0
    while (place := data.find(b"\0\0\1\xb3", place)) >= 0:
        data[place + 7] = data[place + 7] & 0xF0 | 4  # 30000/1001
        place += 4
    place = 0
    while (place := data.find(b"\0\0\1\xb5", place)) >= 0:
        if data[place + 4] >> 4 == 8:
            # Which field is first, and whether it is shown again: two fields, then three.
            first, again = ((1, 1), (0, 0), (0, 1), (1, 0))[number % 4]
            data[place + 7] = data[place + 7] & 0x7D | first << 7 | again << 1
            data[place + 8] |= 0x80
            number += 1
        elif data[place + 4] >> 4 == 1:
            data[place + 5] &= 0xF7  # not progressive as a whole
        place += 4
    assert number == pictures
    flagged = stream.with_name("flagged.m2v")
    flagged.write_bytes(bytes(data))
    with av.open(str(flagged), format="mpegvideo") as media, av.open(str(stream), "w", format="mpegts") as target:
        copy = target.add_stream_from_template(media.streams.video[0])
        fields = 0
        for packet in media.demux(video=0):
            if packet.size:
                # A field lasts 1001/60000 s: 1501.5 ticks of 90 kHz.
                packet.stream, packet.time_base = copy, Fraction(1, 90_000)
                packet.pts = packet.dts = 90_000 + fields * 3003 // 2
                fields += 3 if number % 2 else 2
                number += 1
                target.mux(packet)
    return stream


def test_film_that_repeats_fields_by_flag_stays_film(tmp_path: Path) -> None:
    source = repeated_fields(tmp_path / "in.ts", 96)
    facts = identify([source])
    count = len(times_of(source))
    assert count >= 95
    assert (facts.frames, facts.video[0].frame_rate_mode) == (count, "constant")
    assert facts.video[0].frame_rate == Fraction(24000, 1001)
    path = made([source], "convert", "prores-422", tmp_path / "out")
    assert numbers_of(path) == list(range(count))
    assert times_of(path) == pytest.approx([place * 1001 / 24000 for place in range(count)], abs=0.002)


def test_lost_packets_cost_their_pictures_and_nothing_else(tmp_path: Path) -> None:
    whole = film(
        tmp_path / "whole.ts",
        range(150),
        "25",
        "-c:v",
        "libx264",
        "-g",
        "10",
        "-bf",
        "0",
        "-x264-params",
        "keyint=10:scenecut=0",
        "-c:a",
        "mp2",
    )
    data, dice = whole.read_bytes(), random.Random(4)
    packets = [data[place : place + 188] for place in range(0, len(data), 188)]
    begin = len(packets) // 2
    gone = set(range(begin, begin + 12)) | {dice.randrange(len(packets) // 4, len(packets)) for _ in range(3)}
    source = tmp_path / "in.ts"
    source.write_bytes(b"".join(packet for number, packet in enumerate(packets) if number not in gone))
    output = make([source], "convert", "prores-422", tmp_path / "out")
    assert output.output, output.problems
    assert output.problems
    numbers, times = numbers_of(Path(output.output)), times_of(Path(output.output))
    # What decodes as it should stands at its place: no later picture is moved by what was lost.
    right = sum(abs(number - round(time_s * 25)) <= 1 for number, time_s in zip(numbers, times, strict=True))
    assert right >= 0.8 * len(numbers)
    assert numbers[-1] == len(numbers) - 1 == 149
    heard = clicks_beside_the_picture(Path(output.output))
    wanted = clicks_beside_the_picture(whole)
    assert len([each for each in heard if min(abs(each - other) for other in wanted) < 0.004]) >= 4


@pytest.mark.parametrize("way", ["convert", "rewrap"])
def test_a_file_cut_off_gives_what_is_left_and_says_so(tmp_path: Path, way: str) -> None:
    whole = film(
        tmp_path / "whole.mp4",
        range(100),
        "25",
        "-c:v",
        "libx264",
        "-bf",
        "0",
        "-g",
        "10",
        "-c:a",
        "aac",
        "-movflags",
        "+faststart",
    )
    source = tmp_path / "in.mp4"
    source.write_bytes(whole.read_bytes()[: whole.stat().st_size * 6 // 10])
    output = make([source], way, "prores-422" if way == "convert" else "mov", tmp_path / "out")
    assert output.output, output.problems
    numbers = numbers_of(Path(output.output))
    assert numbers == list(range(len(numbers)))
    assert 30 < len(numbers) < 100
    assert any("cut off" in problem.what for problem in output.problems)


def test_an_hour_of_silence_takes_no_gigabytes(tmp_path: Path) -> None:
    sound = SoundFormat(48_000, "stereo", 2, 16)
    with av.open(str(tmp_path / "out.mkv"), "w") as target:
        track = SoundTrack(target, sound, coding_of("pcm", sound), aligned=True)
        tracemalloc.start()
        for time_s in (Fraction(0), Fraction(3600)):
            frame = av.AudioFrame.from_ndarray(np.full((1, 2048), 1000, np.int16), format="s16", layout="stereo")
            frame.sample_rate, frame.time_base = 48_000, Fraction(1, 48_000)
            for packet in track.encode(frame, time_s):
                target.mux(packet)
        _now, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
    assert peak < 20_000_000
    assert track.samples == 3600 * 48_000 + 1024
