"""Spatial metadata written by hand, against `ffprobe`'s side data; DNG and raw heads against other readers; telemetry."""

from __future__ import annotations

import struct
import subprocess
import tempfile
from pathlib import Path

import av
import numpy as np
import pillow_heif
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pymediainfo import MediaInfo

from diadoche.core.ebml import picture_heads
from diadoche.core.errors import MediaError
from diadoche.core.footage.still import still_picture
from diadoche.core.identify.probe import identify
from diadoche.core.identify.sphere import view_px
from diadoche.core.identify.tiff import read_tiff
from diadoche.core.spatial import Bounds, equirectangular_bounds
from tests.outside.heif_by_hand import tiled_heif
from tests.outside.public_tools import ffprobe
from tests.outside.spherical import v1_uuid, v2_boxes, with_boxes
from tests.outside.test_every_container import ffmpeg


@pytest.fixture(scope="module")
def wide(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    path = tmp_path_factory.mktemp("wide") / "wide.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=1920x960:r=25:d=0.4", "-c:v", "libx264", "-preset", "ultrafast", path)
    return path.read_bytes()


@pytest.mark.parametrize(
    ("track", "entry", "projection", "stereo", "spatial"),
    [
        (b"", b"", "flat", "mono", "missing"),
        (v1_uuid(), b"", "equirectangular", "mono", "present"),
        (v1_uuid("top-bottom"), b"", "equirectangular", "top-bottom", "wrong"),
        (b"", v2_boxes(), "equirectangular", "mono", "present"),
        (b"", v2_boxes(stereo=2), "equirectangular", "side-by-side", "wrong"),
        (b"", v2_boxes(b"cbmp"), "cubemap", "mono", "present"),
        (v1_uuid(), v2_boxes(stereo=1), "equirectangular", "top-bottom", "wrong"),
    ],
)
def test_spatial_boxes(
    tmp_path: Path, wide: bytes, track: bytes, entry: bytes, projection: str, stereo: str, spatial: str
) -> None:
    path = tmp_path / "sphere.mp4"
    path.write_bytes(with_boxes(wide, in_track=track, in_entry=entry))
    facts = identify([path], "headers")
    assert (facts.projection, facts.stereo, facts.spatial) == (projection, stereo, spatial)
    assert bool(facts.problems) is (spatial == "wrong")
    side = ffprobe(path)["streams"][0].get("side_data_list", [])
    said = next((each for each in side if each["side_data_type"] == "Spherical Mapping"), None)
    assert (said is not None) is bool(track or entry)
    if said is not None:
        assert said["projection"] == projection
    if stereo != "mono":
        # FFmpeg's words for how two eyes are packed.
        packed = next(each for each in side if each["side_data_type"] == "Stereo 3D")
        assert packed["type"] == {"top-bottom": "top and bottom", "side-by-side": "side by side"}[stereo]


_WHOLE, _QUARTER = 1 << 32, 1 << 30


@pytest.mark.parametrize("ending", ["mp4", "mkv"])
@pytest.mark.parametrize(
    ("stereo", "bounds", "arc", "spatial"),
    [
        # Half a sphere an eye: 960 x 960 of 180 degrees each way.
        (2, (0, 0, _QUARTER, _QUARTER), (180.0, 180.0), "present"),
        # The same cut of the sphere in one picture of 1920 x 960 is twice as wide as it should be.
        (None, (0, 0, _QUARTER, _QUARTER), (180.0, 180.0), "wrong"),
        # A quarter less at top and bottom and as much at the sides stays two to one.
        (None, (_QUARTER // 2, _QUARTER // 2, _QUARTER // 2, _QUARTER // 2), (270.0, 135.0), "present"),
    ],
)
def test_parts_of_a_sphere(
    tmp_path: Path, wide: bytes, ending: str, stereo: int | None, bounds: tuple[int, int, int, int],
    arc: tuple[float, float], spatial: str,
) -> None:  # fmt: skip
    path = tmp_path / "part.mp4"
    path.write_bytes(with_boxes(wide, in_entry=v2_boxes(stereo=stereo, bounds=bounds)))
    if ending == "mkv":
        path = path.with_suffix(".mkv")
        ffmpeg("-i", tmp_path / "part.mp4", "-c", "copy", path)
    facts = identify([path], "headers")
    assert (facts.projection, facts.spatial) == ("equirectangular", spatial)
    assert facts.as_dict()["field_of_view_deg"] == list(arc)
    side = ffprobe(path)["streams"][0]["side_data_list"]
    said = next(each for each in side if each["side_data_type"] == "Spherical Mapping")
    # FFmpeg's word for a part of the sphere; it tells its bounds in pixels of the picture.
    assert said["projection"] == "tiled equirectangular"
    left_px = 1920 * bounds[2] * _WHOLE // (_WHOLE - bounds[2] - bounds[3]) // _WHOLE
    assert abs(said["bound_left"] - left_px) <= 1


def test_bounds_that_leave_nothing_are_named(tmp_path: Path, wide: bytes) -> None:
    assert equirectangular_bounds(struct.pack(">IIIII", 0, 3 * _QUARTER, 3 * _QUARTER, 0, 0)) == Bounds()
    path = tmp_path / "nonsense.mp4"
    path.write_bytes(with_boxes(wide, in_entry=v2_boxes(bounds=(3 * _QUARTER, 3 * _QUARTER, 0, 0))))
    facts = identify([path], "headers")
    # FFmpeg refuses the whole file for it.
    assert facts.container == "MP4"
    assert facts.problems


@pytest.mark.parametrize("stereo", [None, 1, 2])
def test_matroska_says_what_boxes_say(tmp_path: Path, wide: bytes, stereo: int | None) -> None:
    boxes, matroska = tmp_path / "sphere.mp4", tmp_path / "sphere.mkv"
    boxes.write_bytes(with_boxes(wide, in_entry=v2_boxes(b"cbmp", stereo=stereo)))
    ffmpeg("-i", boxes, "-c", "copy", matroska)
    one, other = (identify([path], "headers") for path in (boxes, matroska))
    assert (one.projection, one.stereo, one.spatial) == (other.projection, other.stereo, other.spatial)
    assert other.projection == "cubemap"
    # MediaInfo's words for Matroska's StereoMode.
    words = MediaInfo.parse(matroska).video_tracks[0].multiview_layout
    told = {None: None, 1: "Top-Bottom (left eye first)", 2: "Side by Side (left eye first)"}
    assert words == told[stereo]


def test_a_part_of_the_sphere_by_the_older_document(tmp_path: Path, wide: bytes) -> None:
    crop = {
        "FullPanoWidthPixels": 2560, "FullPanoHeightPixels": 1280, "CroppedAreaImageWidthPixels": 1920,
        "CroppedAreaImageHeightPixels": 960, "CroppedAreaLeftPixels": 320, "CroppedAreaTopPixels": 160,
    }  # fmt: skip
    path = tmp_path / "part.mp4"
    path.write_bytes(with_boxes(wide, in_track=v1_uuid(crop=crop)))
    facts = identify([path], "headers")
    assert (facts.spatial, facts.as_dict()["field_of_view_deg"]) == ("present", [270.0, 135.0])
    assert view_px(facts) == 640
    # Nonsense is no part.
    path.write_bytes(with_boxes(wide, in_track=v1_uuid(crop=crop | {"CroppedAreaLeftPixels": 2000})))
    assert identify([path], "headers").as_dict()["field_of_view_deg"] == [360.0, 180.0]


@settings(max_examples=200, deadline=None)
@given(cut=st.integers(0, 2000), flips=st.lists(st.tuples(st.integers(0, 1999), st.integers(0, 255)), max_size=8))
def test_damaged_matroska_heads_never_raise(small_matroska: Path, cut: int, flips: list[tuple[int, int]]) -> None:
    data = bytearray(small_matroska.read_bytes()[:2000])
    for place, value in flips:
        if place < len(data):
            data[place] = value
    with tempfile.NamedTemporaryFile(suffix=".mkv") as file:
        file.write(bytes(data[:cut]))
        file.flush()
        assert len(picture_heads(Path(file.name))) <= 2000


@pytest.fixture(scope="module")
def small_matroska(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("small") / "small.mkv"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=64x32:r=25:d=0.2", "-c:v", "libx264", path)
    assert len(picture_heads(path)) == 1
    return path


def test_raw_heads_agree_with_ffprobe(demo_cards: dict[str, Path]) -> None:
    path = next(demo_cards["Lamp raw reel"].rglob("*C001*_001.R3D"))
    said = ffprobe(path)
    theirs = next(each for each in said["streams"] if each["codec_type"] == "video")
    facts = identify([path])
    video = facts.video[0]
    assert said["format"]["format_name"] == "r3d"
    assert (video.width, video.height) == (theirs["width"], theirs["height"])
    assert theirs["avg_frame_rate"] == "24/1" == f"{video.frame_rate}/1"
    assert not video.decodable


def test_a_dng_says_what_exif_readers_say(demo_cards: dict[str, Path]) -> None:
    path = sorted(demo_cards["Lamp"].rglob("*.DNG"))[5]
    head = read_tiff(path)
    # FFmpeg's TIFF reader as second opinion on size and depth.
    theirs = ffprobe(path)["streams"][0]
    assert (head.width, head.height) == (theirs["width"], theirs["height"])
    assert "bayer" in theirs["pix_fmt"]
    assert (head.is_dng, head.frame_rate, head.timecode) == (True, 24, "20:15:00:05")


def dng(values: np.ndarray, bits: int, *, order: str = "<", tile: int = 0) -> bytes:
    """A plain DNG by hand [TIFF6, sections 2 and 15; DNG 1.6]: packed samples, in strips of 3 lines or in square tiles."""
    height, width = values.shape
    pieces = []
    if tile:
        for top in range(0, height, tile):
            for left in range(0, width, tile):
                piece = np.zeros((tile, tile), values.dtype)
                part = values[top : top + tile, left : left + tile]
                piece[: part.shape[0], : part.shape[1]] = part
                pieces.append(piece)
    else:
        pieces = [values[top : top + 3] for top in range(0, height, 3)]
    packed = []
    for piece in pieces:
        if bits == 16:
            packed.append(piece.astype(f"{order}u2").tobytes())
        else:
            lines = [
                np.packbits(((line[:, None] >> np.arange(bits - 1, -1, -1)) & 1).astype(np.uint8)) for line in piece
            ]
            packed.append(b"".join(line.tobytes() for line in lines))
    entries: list[tuple[int, int, list[int]]] = [
        (254, 4, [0]), (256, 4, [width]), (257, 4, [height]), (258, 3, [bits]), (259, 3, [1]), (262, 3, [32803]), (277, 3, [1]),
        (33421, 3, [2, 2]), (33422, 1, [1, 0, 2, 1]), (50706, 1, [1, 4, 0, 0]), (50714, 3, [0]), (50717, 4, [(1 << bits) - 1]),
    ]  # fmt: skip
    counts = [len(each) for each in packed]
    entries += [(322, 3, [tile]), (323, 3, [tile]), (325, 4, counts)] if tile else [(278, 3, [3]), (279, 4, counts)]
    starts_tag = 324 if tile else 273
    entries = sorted([*entries, (starts_tag, 4, [0] * len(packed))])
    kinds = {1: "B", 3: "H", 4: "I"}
    place = 8 + 2 + 12 * len(entries) + 4
    long_bytes = sum(
        struct.calcsize(f"{len(each)}{kinds[kind]}")
        for _, kind, each in entries
        if struct.calcsize(f"{len(each)}{kinds[kind]}") > 4
    )
    samples_at = place + long_bytes
    starts = [samples_at + sum(counts[:number]) for number in range(len(counts))]
    table, long_values = b"", b""
    for tag, kind, each in entries:
        data = struct.pack(f"{order}{len(each)}{kinds[kind]}", *(starts if tag == starts_tag else each))
        if len(data) > 4:
            data, long_values = struct.pack(f"{order}I", place + len(long_values)), long_values + data
        table += struct.pack(f"{order}HHI", tag, kind, len(each)) + data.ljust(4, b"\0")
    head = (b"II" if order == "<" else b"MM") + struct.pack(f"{order}HI", 42, 8)
    return head + struct.pack(f"{order}H", len(entries)) + table + bytes(4) + long_values + b"".join(packed)


@pytest.mark.parametrize(
    ("bits", "order", "tile"),
    [(16, "<", 0), (16, ">", 0), (12, "<", 0), (10, ">", 0), (14, "<", 0), (16, "<", 16), (12, ">", 16)],
)
def test_plain_dng_of_every_packing_shows_its_colours(tmp_path: Path, bits: int, order: str, tile: int) -> None:
    rng = np.random.default_rng(bits)
    height, width = 38, 52
    values = rng.integers(0, 1 << bits, (height, width)).astype(np.uint16)
    path = tmp_path / "a.dng"
    path.write_bytes(dng(values, bits, order=order, tile=tile))
    picture = still_picture(path)
    assert picture.shape == (19, 26, 3)
    linear = values / ((1 << bits) - 1)
    # The filter is green, red, blue, green.
    wanted = np.stack([linear[::2, 1::2], (linear[::2, ::2] + linear[1::2, 1::2]) / 2, linear[1::2, ::2]], axis=-1)
    # The curve of IEC 61966-2-1.
    curve = np.where(wanted <= 0.0031308, 12.92 * wanted, 1.055 * wanted ** (1 / 2.4) - 0.055)
    assert np.abs(picture.astype(float) - curve * 255).max() <= 1.0
    facts = identify([path])
    assert (facts.container, facts.video[0].bit_depth, facts.video[0].chroma) == ("DNG", bits, "raw")


def test_a_damaged_dng_never_crashes(tmp_path: Path) -> None:
    whole = dng(np.arange(48 * 32, dtype=np.uint16).reshape(32, 48), 12)
    path = tmp_path / "a.dng"
    rng = np.random.default_rng(7)
    for number in range(400):
        data = bytearray(whole)
        for _ in range(rng.integers(1, 6)):
            data[rng.integers(0, 260)] = rng.integers(0, 256)
        path.write_bytes(bytes(data[: rng.integers(8, len(data))] if number % 2 else data))
        identify([path])
        try:
            still_picture(path)
        except (MediaError, OSError):
            continue


def test_stills_of_every_kind_decode_for_a_look(tmp_path: Path) -> None:
    for ending in ("jpg", "png", "tif", "bmp", "webp", "exr", "dpx"):
        path = tmp_path / f"still.{ending}"
        ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x90:d=0.04", "-frames:v", "1", path)
        assert still_picture(path).shape == (90, 160, 3), ending
        facts = identify([path])
        assert (facts.video[0].width, facts.video[0].height) == (160, 90), ending
        assert facts.container not in {"unknown", "MP4"}, ending


def test_telemetry_is_found_by_what_it_tells(tmp_path: Path) -> None:
    place, talk = tmp_path / "place.srt", tmp_path / "talk.srt"
    place.write_text("1\n00:00:00,000 --> 00:00:01,000\n[latitude: 48.123456] [longitude: -20.123456]\n")
    talk.write_text("1\n00:00:00,000 --> 00:00:01,000\nMind the step.\n")
    assert identify([place]).data == ("subtitle telemetry",)
    assert identify([talk]).data == ("SubRip",)
    for text, name in ((place, "subtitle telemetry"), (talk, "subtitles")):
        path = tmp_path / f"{name}.mp4"
        ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x90:d=1", "-i", text, "-c:v", "libx264", "-c:s", "mov_text", path)
        assert identify([path]).data == (name,)


def test_camera_motion_metadata_and_unknown_tracks_are_named(tmp_path: Path) -> None:
    path = tmp_path / "timecode.mov"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x90:d=1", "-c:v", "libx264", "-timecode", "10:00:00:00", path)
    data = path.read_bytes()
    assert identify([path]).data == ("timecode",)
    # The entry of the timecode track becomes one of Camera Motion Metadata (`camm`, in a `meta` track), then one nobody knows.
    for entry, name in ((b"camm", "Camera Motion Metadata"), (b"zzzz", "track 'zzzz'")):
        end = data.rindex(b"tmcd")
        changed = bytearray(data)
        places = [place for place in range(len(data)) if data.startswith(b"tmcd", place)]
        assert end in places
        for place in places:
            if data[place - 4 : place] != b"\0\0\0\x0c":
                changed[place : place + 4] = b"meta" if data[place - 4 : place] == bytes(4) else entry
        path.write_bytes(bytes(changed))
        assert identify([path], "headers").data[0].startswith(name), identify([path], "headers").data


def test_who_wrote_a_file(tmp_path: Path, drone: Path) -> None:
    path = tmp_path / "made.mp4"
    ffmpeg("-f", "lavfi", "-i", "testsrc2=s=160x90:d=1", "-c:v", "libx264", path)
    made = identify([path], "headers")
    assert made.origin == "converted"
    assert "Lavf" in made.origin_reason
    bare = tmp_path / "bare.mp4"
    ffmpeg(
        "-i",
        path,
        "-c",
        "copy",
        "-map_metadata",
        "-1",
        "-fflags",
        "+bitexact",
        "-bsf:v",
        "filter_units=remove_types=6",
        bare,
    )
    assert identify([bare], "headers").origin == "unknown"
    assert identify([drone / "DCIM/100DRONE/DRON0001.MP4"], "headers").origin == "camera"


def test_a_likely_log_curve_is_said_with_its_reason(tmp_path: Path) -> None:
    flat, normal = tmp_path / "flat.mp4", tmp_path / "normal.mp4"
    scene = "testsrc2=s=320x180:r=25:d=1"
    # Black lifted to 12 %, white at 65 %, colour at a third: what a log curve does to a scene. Common practice, no source.
    ffmpeg("-f", "lavfi", "-i", scene, "-vf", "format=yuv420p,lutyuv=y=16+219*(0.12+0.53*(val-16)/219):u=128+(val-128)/6:v=128+(val-128)/6",
           "-c:v", "libx264", flat)  # fmt: skip
    ffmpeg("-f", "lavfi", "-i", scene, "-pix_fmt", "yuv420p", "-c:v", "libx264", normal)
    assert "Likely a log curve: nothing is darker than 1" in identify([flat]).video[0].log_curve
    assert identify([normal]).video[0].log_curve == ""


def test_a_variable_rate_is_measured(tmp_path: Path) -> None:
    path = tmp_path / "vfr.mp4"
    words = [
        "-f",
        "lavfi",
        "-i",
        "testsrc2=d=3:s=320x180:r=30",
        "-vf",
        "select='not(mod(n,3))+gt(n,45)'",
        "-fps_mode",
        "vfr",
    ]
    subprocess.run(["ffmpeg", "-v", "error", *words, "-c:v", "libx264", str(path)], check=True)
    video = identify([path]).video[0]
    assert video.frame_rate_mode == "variable"
    assert video.rate_range == (10, 30)


def test_a_picture_cut_into_tiles_is_one_picture(tmp_path: Path) -> None:
    red, green, blue, grey = (200, 30, 30), (30, 160, 30), (30, 30, 200), (120, 120, 120)
    path = tmp_path / "tiles.heic"
    path.write_bytes(tiled_heif([[red, green], [blue, grey]], 128, 250, 200))
    facts = identify([path])
    # FFmpeg 5.1 refuses it; to FFmpeg 8 each tile is a track.
    with av.open(str(path)) as media:
        assert [stream.codec_context.width for stream in media.streams.video] == [128] * 4
    assert (facts.container, len(facts.video), facts.video[0].width, facts.video[0].height) == ("HEIF", 1, 250, 200)
    assert facts.projection == "flat"
    picture = still_picture(path)
    assert picture.shape == (200, 250, 3)
    for (line, column), colour in {(60, 60): red, (60, 200): green, (180, 60): blue, (180, 200): grey}.items():
        assert np.abs(picture[line, column].astype(int) - colour).max() <= 3


@pytest.mark.parametrize("bits", [8, 10])
def test_heif_of_one_piece(tmp_path: Path, bits: int) -> None:
    path = tmp_path / "one.heic"
    flat = np.full((90, 120, 3), 60 << (bits - 8 if bits == 8 else 8), np.uint8 if bits == 8 else np.uint16)
    pillow_heif.from_bytes("RGB" if bits == 8 else "RGB;16", (120, 90), flat.tobytes()).save(path, quality=100)
    facts = identify([path])
    assert (facts.video[0].width, facts.video[0].height, facts.video[0].bit_depth) == (120, 90, bits)
    assert np.abs(still_picture(path).astype(int) - 60).max() <= 2


@pytest.mark.parametrize("left", [20, 200, -60])
def test_a_heif_that_was_cut_off_is_named(tmp_path: Path, left: int) -> None:
    path = tmp_path / "cut.heic"
    path.write_bytes(tiled_heif([[(200, 30, 30)] * 2], 128, 256, 128)[:left])
    facts = identify([path])
    assert facts.container == "HEIF"
    assert any("cut off" in each.what or "cannot be opened" in each.what for each in facts.problems)
    assert not identify([whole_heif(tmp_path)]).problems


def whole_heif(folder: Path) -> Path:
    path = folder / "whole.heic"
    path.write_bytes(tiled_heif([[(200, 30, 30)] * 2], 128, 256, 128))
    return path
