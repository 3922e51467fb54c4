"""What a file says about its recording is in what is made of it, or told as lost: read back by FFmpeg's `ffprobe`."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import pytest

from diadoche.core.boxes import find, inner_boxes, movie_payload
from diadoche.core.convert.outputs import Output
from diadoche.core.convert.recipes import recipes
from diadoche.core.convert.rewrap import rewrap
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from tests.outside.numbered import ffmpeg
from tests.outside.public_tools import ffprobe

FILM = {
    "title": "First light",
    "comment": "wind",
    "make": "Invented",
    "model": "One",
    "location": "+48.1000-011.5000/",
    "date": "2026",
}
KEYS = {
    "com.example.lens": "wide",
    "com.apple.quicktime.creationdate": "2026-06-14T13:10:00+0100",
    "com.apple.quicktime.software": "1.2",
}


def made(path: Path, *options: str | Path) -> Path:
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x120:r=25:d=0.4", "-f", "lavfi", "-i", "sine=r=48000:d=0.4",
           "-c:v", "libx264", "-c:a", "aac", *options, path)  # fmt: skip
    return path


def tagged(path: Path, tags: dict[str, str], *options: str) -> Path:
    words = [word for key, value in tags.items() for word in ("-metadata", f"{key}={value}")]
    language = "ger" if path.suffix == ".mov" else "deu"
    tracks = ("-metadata:s:a:0", f"language={language}", "-metadata:s:a:0", "handler_name=Left microphone")
    return made(path, *words, *tracks, *options)


def output_of(source: Path, way: str, folder: Path) -> Output:
    if way in {"mov", "mp4", "mkv"}:
        output = rewrap([source], identify([source]), folder, Watch(), container=way)
    else:
        output = perform_make(MakeRequest((source,), recipes()[way], folder), Watch())
    assert output.output, output.problems
    return output


def said(path: str | Path) -> tuple[dict[str, str], dict[str, str]]:
    """The tags of a film and of its first sound track, with keys in small letters."""
    found: dict[str, Any] = ffprobe(Path(path))
    sound = next(stream for stream in found["streams"] if stream["codec_type"] == "audio")
    film, track = (
        {key.lower(): value for key, value in each.get("tags", {}).items()} for each in (found["format"], sound)
    )
    return film, track


@pytest.mark.parametrize("ending", ["mov", "mkv"])
@pytest.mark.parametrize("way", ["mov", "mp4", "mkv", "prores-422", "ffv1"])
def test_tags_are_in_the_output_or_told_as_lost(tmp_path: Path, ending: str, way: str) -> None:
    source = tagged(tmp_path / f"in.{ending}", FILM)
    output = output_of(source, way, tmp_path / "out")
    film, track = said(output.output)
    lost = " ".join(each.what for each in output.problems if "no place for" in each.what)
    for key, value in FILM.items():
        assert film.get(key) == value or key in lost, key
    # Boxes that any program reads have no place for a maker.
    assert {key for key in FILM if key not in film} == ({"make", "model"} if way == "mp4" else set())
    # QuickTime knows the older code of a language alone [ISO 639-2].
    assert track.get("language") in {"deu", "ger"}
    assert track["handler_name"] == "Left microphone"
    # Whoever made it says so: it is no camera's original.
    assert identify([Path(output.output)]).origin == "converted"


@pytest.mark.parametrize("way", ["mov", "mp4", "prores-422"])
def test_keys_of_any_name_have_a_place_where_no_place_on_earth_is_moved_for_them(tmp_path: Path, way: str) -> None:
    told = {"company_name": "Invented", "product_name": "One", "make": "Invented"}
    source = tagged(tmp_path / "in.mp4", told, "-movflags", "use_metadata_tags")
    output = output_of(source, way, tmp_path / "out")
    film, _track = said(output.output)
    assert {key: film.get(key) for key in told} == told
    assert not any("no place for" in each.what for each in output.problems)


@pytest.mark.parametrize("way", ["mov", "mp4", "prores-422"])
def test_keys_with_a_domain_stay_what_they_are(tmp_path: Path, way: str) -> None:
    source = tagged(tmp_path / "in.mov", FILM | KEYS, "-movflags", "use_metadata_tags")
    film, _track = said(output_of(source, way, tmp_path / "out").output)
    assert {key: film.get(key) for key in KEYS} == KEYS
    assert {key: film.get(key) for key in FILM} == FILM


def box(kind: str, payload: bytes) -> bytes:
    return struct.pack(">I4s", len(payload) + 8, kind.encode()) + payload


@pytest.mark.parametrize("way", ["mov", "mp4", "prores-422"])
def test_boxes_of_the_cameras_own_come_along_to_the_byte(tmp_path: Path, way: str) -> None:
    source = tagged(tmp_path / "in.mov", FILM)
    data, movie = source.read_bytes(), movie_payload(source) or b""
    own = {"FIRM": b"1.02.03", "SETT": bytes(range(200))}
    head = data.rindex(box("moov", movie))
    parts = [(kind, body) for kind, body in inner_boxes(movie)]
    told = next(body for kind, body in parts if kind == "udta") + b"".join(box(*each) for each in own.items())
    parts = [(kind, told if kind == "udta" else body) for kind, body in parts]
    source.write_bytes(data[:head] + box("moov", b"".join(box(*each) for each in parts)))
    output = output_of(source, way, tmp_path / "out")
    there = dict(inner_boxes(next(find(movie_payload(Path(output.output)) or b"", "udta"))))
    assert {kind: there.get(kind) for kind in own} == own
    assert said(output.output)[0]["title"] == FILM["title"]


def test_chapters_and_attachments_are_told(tmp_path: Path) -> None:
    (tmp_path / "chapters.txt").write_text(";FFMETADATA1\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=0\nEND=200\ntitle=A\n")
    (tmp_path / "notes.bin").write_bytes(b"notes")
    plain, source = made(tmp_path / "plain.mkv"), tmp_path / "in.mkv"
    ffmpeg("-i", plain, "-i", tmp_path / "chapters.txt", "-map_metadata", "1", "-map", "0", "-c", "copy", "-attach",
           tmp_path / "notes.bin", "-metadata:s:t", "mimetype=application/octet-stream", source)  # fmt: skip
    for way in ("mov", "ffv1"):
        told = " ".join(each.what for each in output_of(source, way, tmp_path / way).problems)
        assert "attachments, chapters" in told
    assert identify([plain]).data == ()
