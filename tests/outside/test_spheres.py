"""Spheres from lens films, through the command line; judged by the scene that was drawn and by FFmpeg's own tools."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

from diadoche.core.sphere.projection import Equirectangular
from diadoche.demo.fisheye import read_corner
from diadoche.demo.ray_scene import BOARD_HALF, BOARD_MIDDLE, EYE_M, Moment, RayScene, read_board
from tests.conftest import diadoche
from tests.outside.gallery import RATE, beside, drawn, encode, psnr, truth, two_lenses
from tests.outside.numbered import ffmpeg
from tests.outside.public_tools import ffprobe

SIZE, COUNT = 400, 5
OUT = (720, 360)
SCENE = RayScene(seed=3)

pytestmark = pytest.mark.usefixtures("own_state")


@pytest.fixture(scope="module")
def lenses() -> list[list[tuple[np.ndarray, ...]]]:
    return [drawn(lens, SCENE, COUNT) for lens in two_lenses(SIZE)]


@pytest.fixture
def film(lenses: list[list[tuple[np.ndarray, ...]]], tmp_path: Path) -> Path:
    return encode(tmp_path / "take.mov", [beside(*lenses)])


def stitch(*words: str | Path, code: int = 0) -> dict[str, Any]:
    done = diadoche("stitch", *words, "--json")
    assert done.returncode == code, done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def lumas(path: Path, size: tuple[int, int] = OUT) -> np.ndarray:
    raw = ffmpeg("-i", path, "-map", "0:v", "-vf", "extractplanes=y,format=gray", "-f", "rawvideo", "-")
    return np.frombuffer(raw, np.uint8).reshape(-1, size[1], size[0])


def board(luma: np.ndarray) -> int | None:
    """The number on the board of a sphere, cut out by where it stands in the scene."""
    target = Equirectangular(luma.shape[1], luma.shape[0])
    steps = [np.linspace(-half * 0.97, half * 0.97, 180) for half in BOARD_HALF]
    east, up = np.meshgrid(steps[0], -steps[1])
    rays = np.stack((east, EYE_M - BOARD_MIDDLE[2] - up, np.full(east.shape, BOARD_MIDDLE[1])), axis=-1)
    places = target.places(rays).round().astype(int)
    return read_board(luma[places[..., 1], places[..., 0]])


def by_true_maps(lenses: list[list[tuple[np.ndarray, ...]]], number: int) -> np.ndarray:
    """Each half of the sphere out of one lens's luma, looked up by SciPy where the drawn optics say."""
    rays = Equirectangular(*OUT).grid()
    world = np.stack((rays[..., 0], rays[..., 2], -rays[..., 1]), axis=-1)
    halves = []
    for lens, pictures in zip(two_lenses(SIZE), lenses, strict=True):
        places, _ = lens.place(world)
        halves.append(
            map_coordinates(pictures[number][0].astype(float), [places[..., 1] - 0.5, places[..., 0] - 0.5], order=1)
        )
    return np.where(rays[..., 2] > 0, halves[0], halves[1])


def test_a_take_becomes_a_sphere_with_every_picture_at_its_place(
    lenses: list[list[tuple[np.ndarray, ...]]], film: Path, tmp_path: Path
) -> None:
    told = stitch(film, "--to", tmp_path / "out" / "sphere.mov", "--size", "720x360")
    assert told["frames"] == COUNT
    assert told["problems"] == []
    made = lumas(Path(str(told["output"])))
    assert [board(luma) for luma in made] == list(range(COUNT))
    for number in (0, COUNT - 1):
        seen, depth = truth(SCENE, Equirectangular(*OUT), Moment(number / RATE, number))
        far = depth > 20
        # What is far looks the same from everywhere: what is lost is lost in the lens pictures already.
        best = psnr(by_true_maps(lenses, number)[far], seen[far])
        assert best > 25
        assert psnr(made[number][far], seen[far]) > best - 1
    heard = [ffmpeg("-i", path, "-map", "0:a", "-f", "s16le", "-") for path in (film, told["output"])]
    assert heard[0] == heard[1]


def test_the_corner_numbers_of_lens_files_are_read_back(lenses: list[list[tuple[np.ndarray, ...]]]) -> None:
    assert [[read_corner(picture[0]) for picture in lens] for lens in lenses] == [list(range(COUNT))] * 2


def test_inside_the_lenses_it_is_what_v360_makes_of_them(film: Path, tmp_path: Path) -> None:
    """FFmpeg's `v360` of two fisheyes puts the right half in the middle: it is turned by half a circle."""
    told = stitch(film, "--to", tmp_path / "out" / "sphere.mov", "--size", "720x360")
    chain = "v360=dfisheye:e:ih_fov=200:iv_fov=200:yaw=180:w=720:h=360:interp=linear,extractplanes=y"
    theirs = np.frombuffer(ffmpeg("-i", film, "-vf", chain, "-f", "rawvideo", "-"), np.uint8).reshape(-1, 360, 720)
    ours = lumas(Path(str(told["output"])))
    longitude = np.abs(np.arange(720) + 0.5 - 360) / 2
    inside = (longitude < 70) | (longitude > 110)
    rows = slice(60, 300)
    # It looks up to half a pixel beside the place, so that sharp edges differ.
    assert psnr(ours[2][rows][:, inside], theirs[2][rows][:, inside]) > 24


def test_a_picture_two_tracks_and_two_files_give_the_same_sphere(
    lenses: list[list[tuple[np.ndarray, ...]]], film: Path, tmp_path: Path
) -> None:
    tracks = encode(tmp_path / "tracks.mov", lenses)
    files = [encode(tmp_path / f"lens{number}.mov", [lens]) for number, lens in enumerate(lenses)]
    rest = ["--size", "720x360", "--recipe", "ffv1"]
    one = stitch(film, "--to", tmp_path / "out" / "one.mkv", *rest, code=1)
    two = stitch(tracks, "--to", tmp_path / "out" / "two.mkv", "--rig", "two-files-200", *rest, code=1)
    three = stitch(*files, "--to", tmp_path / "out" / "three.mkv", "--rig", "two-files-200", *rest, code=1)
    # Matroska cannot be told by us that this is a sphere, and that is said.
    assert all("without the marks of a sphere" in each["problems"][0]["what"] for each in (one, two, three))
    raw = [ffmpeg("-i", each["output"], "-map", "0:v", "-f", "rawvideo", "-") for each in (one, two, three)]
    assert raw[1] == raw[2]
    # Places farther to the right are told less finely by single precision: a code value here and there.
    off = np.abs(np.frombuffer(raw[0], np.uint8).astype(int) - np.frombuffer(raw[1], np.uint8))
    assert off.max() <= 1
    assert (off > 0).mean() < 0.001


@pytest.mark.parametrize(("recipe", "ending"), [("prores-422", "mov"), ("review-h264", "mp4")])
def test_it_says_that_it_is_a_sphere_and_keeps_saying_so(film: Path, tmp_path: Path, recipe: str, ending: str) -> None:
    """Read by ffprobe, and V1 by hand; then rewrapped, and cut to a part."""
    made = tmp_path / "out" / f"half.{ending}"
    stitch(film, "--to", made, "--size", "360x360", "--width-deg", "180", "--recipe", recipe)
    again = diadoche("rewrap", made, "--to", tmp_path / "again", "--json")
    part = diadoche("convert", made, "--to", tmp_path / "part", "--recipe", "vc3-hq", "--mark", "1", "3", "--json")
    for path in (made, *(Path(json.loads(done.stdout)[0]["output"]) for done in (again, part))):
        data = ffprobe(path)["streams"][0]["side_data_list"]
        sphere = next(each for each in data if each["side_data_type"] == "Spherical Mapping")
        assert sphere["projection"] == "tiled equirectangular"
        # Half of a sphere of 720 pixels; ffprobe rounds to whole pixels on its own way.
        assert abs(sphere["bound_left"] - 180) <= 1
        assert abs(sphere["bound_right"] - 180) <= 1
        assert (sphere["bound_top"], sphere["bound_bottom"]) == (0, 0)
        raw = path.read_bytes()
        place = raw.index(bytes.fromhex("ffcc8263f8554a938814587a02521fdd"))
        (length,) = struct.unpack(">I", raw[place - 8 : place - 4])
        words = raw[place + 16 : place - 8 + length].decode()
        for element, value in (("FullPanoWidthPixels", 720), ("CroppedAreaLeftPixels", 180), ("StereoMode", "mono")):
            assert f"<GSpherical:{element}>{value}</GSpherical:{element}>" in words


def test_what_lay_beside_comes_into_the_middle_and_what_hung_stands(film: Path, tmp_path: Path) -> None:
    size = ["--size", "720x360"]
    plain = lumas(Path(str(stitch(film, "--to", tmp_path / "out" / "plain.mov", *size)["output"])))[0]
    beside_it = lumas(
        Path(str(stitch(film, "--to", tmp_path / "out" / "right.mov", "--centre", "90,0,0", *size)["output"]))
    )[0]
    # 90 degrees are 180 columns: what was there is in the middle now.
    assert psnr(np.roll(plain, -180, axis=1), beside_it) > 28
    over = lumas(
        Path(str(stitch(film, "--to", tmp_path / "out" / "over.mov", "--centre", "0,0,180", *size)["output"]))
    )[0]
    assert psnr(plain[::-1, ::-1], over) > 28
    assert board(over[::-1, ::-1]) == 0
    told = stitch(film, "--to", tmp_path / "out" / "no.mov", "--centre", "north", *size, code=2)
    assert "north is no direction" in told["problems"][0]["what"]


@pytest.mark.parametrize("short", [0, 1])
@pytest.mark.parametrize("as_tracks", [False, True])
def test_a_lens_that_ends_early_ends_the_sphere_and_is_named(
    lenses: list[list[tuple[np.ndarray, ...]]], tmp_path: Path, short: int, as_tracks: bool
) -> None:
    pictures = [lens[:3] if number == short else lens for number, lens in enumerate(lenses)]
    if as_tracks:
        files = [encode(tmp_path / "both.mov", pictures)]
        name = "both.mov" + (", track 2" if short else "")
    else:
        files = [encode(tmp_path / f"lens{number}.mov", [each]) for number, each in enumerate(pictures)]
        name = f"lens{short}.mov"
    told = stitch(*files, "--to", tmp_path / "out" / "s.mov", "--rig", "two-files-200", "--size", "720x360", code=1)
    assert told["frames"] == 3
    assert f"{name} ends at 0.12 s" in told["problems"][0]["what"]
    assert [board(luma) for luma in lumas(Path(str(told["output"])))] == [0, 1, 2]


def test_a_lens_whose_pictures_change_their_size_is_refused_where_they_do(
    lenses: list[list[tuple[np.ndarray, ...]]], tmp_path: Path
) -> None:
    """Two transport streams after each other in one file: the size changes in the middle."""
    small = [tuple(plane[:-32, :-32] for plane in each) for each in lenses[1]]
    # The first part is longer than what is looked at to learn what a file is.
    parts = [encode(tmp_path / "a.ts", [lenses[1] * 12]), encode(tmp_path / "b.ts", [small])]
    back = tmp_path / "back.ts"
    back.write_bytes(b"".join(part.read_bytes() for part in parts))
    front = encode(tmp_path / "front.mov", [lenses[0] * 13])
    told = stitch(
        front, back, "--to", tmp_path / "out" / "s.mov", "--rig", "two-files-200", "--size", "720x360", code=1
    )
    assert "back.ts changes from 400×400" in told["problems"][0]["what"]
    assert told["output"] == ""
    assert list((tmp_path / "out").iterdir()) == []


def test_what_does_not_fit_together_is_refused_by_name(
    lenses: list[list[tuple[np.ndarray, ...]]], film: Path, tmp_path: Path
) -> None:
    one = encode(tmp_path / "one.mov", [lenses[0]])
    other_rate = encode(tmp_path / "rate.mov", [lenses[1]], rate=30)
    small = encode(tmp_path / "small.mov", [[tuple(plane[:-32, :-32] for plane in each) for each in lenses[1]]])
    rig: list[str | Path] = ["--rig", "two-files-200", "--to", tmp_path / "out" / "s.mov"]
    refused: tuple[tuple[list[str | Path], str], ...] = (
        ([one, *rig], "takes 2 pictures, and 1 were given"),
        ([one, other_rate, *rig], "rate.mov has another rate than one.mov: 30, not 25"),
        ([one, small, *rig], "small.mov has another size than one.mov"),
        ([one, one, "--to", tmp_path / "out" / "s.mov"], "takes 1 picture, and 2 were given"),
        ([one, "--to", tmp_path / "out" / "s.mov"], "is made for pictures shaped 3840×1920, not 400×400"),
        ([film, "--to", tmp_path / "out" / "s.mov", "--size", "720x720"], "what is round would be squeezed"),
        ([film, "--to", tmp_path / "out" / "s.mov", "--size", "720"], "is no size"),
        ([film, "--to", tmp_path / "out" / "s.mov", "--layout", "top-bottom"], "has one eye"),
        ([film, "--to", tmp_path / "out" / "s.mp4"], "does not end in .mov"),
        ([film, "--to", tmp_path / "s.mov"], "holds the originals themselves"),
        ([film, "--to", film], "is there already"),
        ([tmp_path / "none.mov", "--to", tmp_path / "out" / "s.mov"], "There is no file"),
        ([film, "--to", tmp_path / "out" / "s.mov", "--rig", "nobodys"], "There is no rig called nobodys"),
    )
    for words, said in refused:
        told = stitch(*words, code=2)
        assert said in told["problems"][0]["what"], told
    assert not (tmp_path / "out").exists() or not list((tmp_path / "out").iterdir())


def rig_with(tmp_path: Path, **changes: object) -> Path:
    lens = {
        "name": "a", "part": [0, 0, 400, 400], "model": "equidistant", "focal": 114.6, "centre": [200, 200],
        "field_deg": 200,
    } | changes  # fmt: skip
    path = tmp_path / "own.json"
    rig = {"format": "diadoche-rig", "version": 1, "name": "own", "picture": [800, 400], "lenses": [lens]}
    path.write_text(json.dumps(rig, indent=1))
    return path


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"focal": -1}, "focal"),
        ({"model": "nobodys"}, "model"),
        ({"terms": [1, 2]}, "takes 0 terms, not 2"),
        ({"model": "kannala-brandt", "terms": [-0.5, 0, 0, 0]}, "nearer to the axis"),
        ({"part": [700, 0, 400, 400]}, "reaches out of a picture"),
        ({"eye": "left"}, "both eyes"),
        ({"field_deg": 400}, "field_deg"),
        ({"colour": "red"}, "no key called 'colour'"),
        ({"centre": ["NaN", 3]}, "centre"),
    ],
)
def test_nonsense_in_a_rig_is_named(film: Path, tmp_path: Path, changes: dict[str, object], said: str) -> None:
    told = stitch(film, "--to", tmp_path / "out" / "s.mov", "--rig", rig_with(tmp_path, **changes), code=2)
    assert "The rig own.json has a mistake" in told["problems"][0]["what"]
    assert said in told["problems"][0]["what"]


@pytest.mark.parametrize("text", ["", "[]", "{", '{"format": "else"}', "\x00\xff", '{"lenses": ' + "[" * 5000])
def test_what_is_no_rig_at_all_is_named(film: Path, tmp_path: Path, text: str) -> None:
    path = tmp_path / "own.json"
    path.write_text(text, "latin-1")
    told = stitch(film, "--to", tmp_path / "out" / "s.mov", "--rig", path, code=2)
    assert "own.json has a mistake" in told["problems"][0]["what"]


def told_of(path: Path) -> dict[str, dict[str, Any]]:
    return {each["side_data_type"]: each for each in ffprobe(path)["streams"][0].get("side_data_list", [])}


def test_what_a_file_says_of_a_sphere_is_set_corrected_and_taken_away_by_rewrap(film: Path, tmp_path: Path) -> None:
    """No picture is encoded: packets stay as they are, and ffprobe reads what was asked for."""
    made = Path(str(stitch(film, "--to", tmp_path / "out" / "s.mov", "--size", "720x360")["output"]))
    bare = tmp_path / "bare.mov"
    # FFmpeg 7 carries the tags along where 5.1 did not: the boxes are blotted out by hand.
    untagged = made.read_bytes()
    for box in (b"sv3d", b"st3d", b"uuid"):
        untagged = untagged.replace(box, b"free")
    bare.write_bytes(untagged)
    assert "Spherical Mapping" not in told_of(bare)

    def rewrap(path: Path, *words: str, code: int = 0) -> Path:
        done = diadoche("rewrap", path, "--to", tmp_path / f"to {'-'.join(words)}", "--json", *words)
        assert done.returncode == code, done.stdout
        (found,) = json.loads(done.stdout) if code == 0 else ({"output": ""},)
        assert code or found["packets_identical"]
        return Path(found["output"] or tmp_path)

    whole = rewrap(bare, "--sphere", "mono")
    assert told_of(whole)["Spherical Mapping"]["projection"] == "equirectangular"
    eyes = rewrap(whole, "--sphere", "side-by-side", "--width-deg", "180")
    assert told_of(eyes)["Stereo 3D"]["type"] == "side by side"
    assert told_of(eyes)["Spherical Mapping"]["projection"] == "tiled equirectangular"
    flat = rewrap(eyes, "--sphere", "flat")
    assert "Spherical Mapping" not in told_of(flat)
    raw = flat.read_bytes()
    assert all(each not in raw for each in (b"sv3d", b"st3d", bytes.fromhex("ffcc8263f8554a938814587a02521fdd")))
    # A shape that contradicts what is to be said stops it.
    rewrap(bare, "--sphere", "top-bottom", code=2)
    rewrap(bare, "--sphere", "round", code=2)
    rewrap(bare, "--sphere", "mono", "--container", "mkv", code=2)
