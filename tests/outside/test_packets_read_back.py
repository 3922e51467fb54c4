"""Rewrapped files are read back by their tables: the same packets, however units were framed, and every other is found."""

from __future__ import annotations

import itertools
import json
import random
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import av
import pytest

from diadoche.core.boxes import find, movie_payload
from diadoche.core.convert import read_back as reading
from diadoche.core.convert import rewrap as rewrapping
from diadoche.core.convert.copied_track import CopiedTrack, Muxer
from diadoche.core.convert.outputs import Output
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.identify.probe import identify
from diadoche.core.identify.units import split_units
from diadoche.core.run import TimedPacket
from diadoche.core.sampletable import sample_places
from diadoche.core.watch import Watch
from tests.outside.numbered import ffmpeg, film

PICTURES = 60


@pytest.fixture(scope="module")
def stream(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """H.264 in several slices with delimiters, and sound, in a transport stream."""
    folder = tmp_path_factory.mktemp("stream")
    return film(folder / "in.ts", range(PICTURES), "25", "-c:v", "libx264", "-bf", "2", "-g", "15", "-x264-params",
                "aud=1:slices=4", "-c:a", "ac3")  # fmt: skip


def made_of(source: Path, folder: Path, container: str = "mov") -> Output:
    return rewrap([source], identify([source]), folder, Watch(), container=container)


def reframed(source: Path, folder: Path, is_long: Callable[[int], bool]) -> Path:
    """The same pictures, with start codes of other lengths, by the number of each unit in its packet."""
    path = folder / "in.ts"
    with av.open(str(source)) as media, av.open(str(path), "w") as target:
        streams = {stream.index: target.add_stream_from_template(stream) for stream in media.streams}
        for packet in media.demux():
            if not packet.size:
                continue
            data = bytes(packet)
            if packet.stream.type == "video":
                units = enumerate(split_units(data, 0))
                data = b"".join((b"\0" if is_long(number) else b"") + b"\0\0\1" + unit for number, unit in units)
            again: av.Packet[Any] = av.Packet(data)
            again.pts, again.dts, again.time_base = packet.pts, packet.dts, packet.time_base
            again.is_keyframe, again.stream = packet.is_keyframe, streams[packet.stream.index]
            target.mux(again)
    return path


HABITS: dict[str, Callable[[int], bool]] = {"all long": lambda _number: True, "all short": lambda _number: False}


@pytest.mark.parametrize("container", ["mov", "mp4", "mkv"])
@pytest.mark.parametrize("habit", ["as coded", *HABITS])
def test_packets_are_the_same_however_their_units_were_framed(
    stream: Path, tmp_path: Path, container: str, habit: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = reframed(stream, tmp_path, HABITS[habit]) if habit in HABITS else stream
    # Reading the source a second time is not needed.
    monkeypatch.delattr(reading, "_are_equal_by_digests")
    output = made_of(source, tmp_path / "out", container)
    assert output.output, output.problems
    assert output.packets_identical
    assert output.frames_out == PICTURES


def test_units_that_were_framed_by_chance_are_found_by_reading_both_again(stream: Path, tmp_path: Path) -> None:
    chance = random.Random(3)
    output = made_of(reframed(stream, tmp_path, lambda _number: bool(chance.getrandbits(1))), tmp_path / "out")
    assert output.output, output.problems
    assert output.packets_identical


def in_the_picture(path: Path) -> None:
    turn(path, packets(path, "v")[30], 100)


def in_the_sound(path: Path) -> None:
    turn(path, packets(path, "a")[30], 20)


def in_a_length(path: Path) -> None:
    """The first unit of a packet ends a byte early: what follows is nothing."""
    turn(path, packets(path, "v")[30], 3)


def in_the_table(path: Path) -> None:
    """A chunk is said to stand a byte further on."""
    data = bytearray(path.read_bytes())
    place = data.index(b"stco") + 12 + 4 * 5
    data[place : place + 4] = (int.from_bytes(data[place : place + 4], "big") + 1).to_bytes(4, "big")
    path.write_bytes(data)


def in_the_order_of_the_table(path: Path) -> None:
    """Two chunks of the sound are said to stand in each other's place; all their packets are of one size."""
    data = bytearray(path.read_bytes())
    table = data.rindex(b"stco") + 12
    heard = packets(path, "a")
    assert len({each["size"] for each in heard}) == 1
    places = {int(each["pos"]): number for number, each in enumerate(heard)}
    chunks = [table + 4 * chunk for chunk in range(int.from_bytes(data[table - 4 : table], "big"))]
    firsts = [places[int.from_bytes(data[place : place + 4], "big")] for place in chunks]
    held = [
        b"".join(data[int(each["pos"]) : int(each["pos"]) + int(each["size"])] for each in heard[first:later])
        for first, later in itertools.pairwise(firsts)
    ]
    # As many packets in both, and others.
    one, other = next(
        (a, b)
        for a, b in itertools.combinations(range(len(held)), 2)
        if len(held[a]) == len(held[b]) and held[a] != held[b]
    )
    here, there = slice(chunks[one], chunks[one] + 4), slice(chunks[other], chunks[other] + 4)
    data[here], data[there] = data[there], data[here]
    path.write_bytes(data)


def cut_short(path: Path) -> None:
    """The last packet of the sound is said to be longer than the file."""
    data = bytearray(path.read_bytes())
    place = data.rindex(b"stsz")
    data[place + 8 : place + 12] = (40_000).to_bytes(4, "big")
    path.write_bytes(data)


def turn(path: Path, packet: dict[str, str], byte: int) -> None:
    with path.open("r+b") as file:
        file.seek(int(packet["pos"]) + byte)
        (value,) = file.read(1)
        file.seek(-1, 1)
        file.write(bytes([value ^ 1]))


def packets(path: Path, kind: str) -> list[dict[str, str]]:
    """Where FFmpeg finds packets, in bytes from the beginning of a file."""
    done = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", kind, "-show_entries", "packet=pos,size", "-of", "json", path],
        capture_output=True, check=True,
    )  # fmt: skip
    found: list[dict[str, str]] = json.loads(done.stdout)["packets"]
    return found


FAULTS = [in_the_picture, in_the_sound, in_a_length, in_the_table, in_the_order_of_the_table, cut_short]


@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_of_the_disk_is_never_delivered(
    stream: Path, tmp_path: Path, fault: Callable[[Path], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The file is changed between its writing and its reading."""
    monkeypatch.setattr(rewrapping._Copying, "finish", lambda _self, part: fault(part))
    output = rewrap([stream], identify([stream]), tmp_path / "out", Watch(), decode_check=False)
    assert not output.output
    assert "packets differ" in output.problems[-1].what
    assert not list((tmp_path / "out").iterdir())


@pytest.mark.parametrize("options", [(), ("-movflags", "+faststart"), ("-min_frag_duration", "1", "-c:a", "pcm_s16le")])
def test_samples_lie_where_a_public_tool_finds_them(stream: Path, tmp_path: Path, options: tuple[str, ...]) -> None:
    path = tmp_path / "in.mov"
    ffmpeg("-i", stream, "-c", "copy", *options, path)
    movie = movie_payload(path)
    assert movie is not None
    for kind, track in zip(("v", "a"), find(movie, "trak"), strict=True):
        places = sample_places(track)
        assert places is not None
        wanted = [(int(each["pos"]), int(each["size"])) for each in packets(path, kind)]
        mine = list(zip(places.offsets.tolist(), places.sizes.tolist(), strict=True))
        if "pcm_s16le" in options and kind == "a":
            # The tool gives many samples at once.
            assert sum(size for _place, size in mine) == sum(size for _place, size in wanted)
            assert {place for place, _size in wanted} <= {place for place, _size in mine}
        else:
            assert mine == wanted


@pytest.mark.parametrize("ending", ["ts", "mp4", "mkv", "avi"])
@pytest.mark.parametrize("container", ["mov", "mkv"])
def test_stamps_that_two_pictures_exchanged_are_found(
    stream: Path, tmp_path: Path, ending: str, container: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All packets are there, and all instants: two pictures are shown in each other's place."""
    source = tmp_path / f"in.{ending}"
    ffmpeg("-i", stream, "-map", "0:v", "-c", "copy", source)
    put = CopiedTrack.put
    waiting: list[TimedPacket] = []
    exchanged: list[int] = []

    def exchanging(self: CopiedTrack, muxer: Muxer, timed: TimedPacket) -> None:
        """Puts each packet when the next one is there."""
        waiting.append(timed)
        if len(waiting) == 2:
            one, other = waiting
            if not exchanged and one.pts > other.pts > 20:
                one.pts, other.pts = other.pts, one.pts
                exchanged.append(one.pts)
            put(self, muxer, waiting.pop(0))

    def ending_it(self: CopiedTrack, muxer: Muxer) -> None:
        put(self, muxer, waiting.pop())

    monkeypatch.setattr(CopiedTrack, "put", exchanging)
    monkeypatch.setattr(CopiedTrack, "flush", ending_it)
    # What an AVI shows when, decoding alone tells.
    decode_check = ending == "avi"
    output = rewrap(
        [source], identify([source]), tmp_path / "out", Watch(), container=container, decode_check=decode_check
    )
    assert exchanged
    assert not output.output
    assert {each.kind for each in output.findings} == {"out of step"}
    assert not list((tmp_path / "out").iterdir())
