"""Every kind of card: recognised from any level, listed whole, and what it lacks is named. Trees are drawn by property."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from diadoche.core.cards.card import LookChoice, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.cards.recognise import recognise
from diadoche.core.cards.sorting import sort_files
from diadoche.core.errors import RequestError
from diadoche.core.watch import Watch

LAYOUTS = load_layouts()
_MXF = bytes.fromhex("060e2b34020501010d0102010102000000000000") * 4


@dataclass(frozen=True)
class Drawn:
    """A tree: its files, which of them are clips (first span each), and which belong to the first clip."""

    files: dict[str, bytes]
    clips: list[list[str]]
    companions: list[str]


def _m4root(numbers: list[int]) -> Drawn:
    files: dict[str, bytes] = {"PRIVATE/M4ROOT/MEDIAPRO.XML": b"<x/>"}
    for number in numbers:
        for path in (
            f"CLIP/C{number:04}.MP4",
            f"CLIP/C{number:04}M01.XML",
            f"THMBNL/C{number:04}T01.JPG",
            f"SUB/C{number:04}S03.MP4",
        ):
            files[f"PRIVATE/M4ROOT/{path}"] = b"x"
    first = f"{numbers[0]:04}"
    return Drawn(
        files,
        [[f"PRIVATE/M4ROOT/CLIP/C{number:04}.MP4"] for number in numbers],
        [
            f"PRIVATE/M4ROOT/{each}"
            for each in (f"SUB/C{first}S03.MP4", f"THMBNL/C{first}T01.JPG", f"CLIP/C{first}M01.XML")
        ],
    )


def _xdroot(numbers: list[int]) -> Drawn:
    files = {"XDROOT/MEDIAPRO.XML": b"<x/>"}
    for number in numbers:
        files |= {f"XDROOT/Clip/Clip{number:04}.MXF": _MXF, f"XDROOT/Clip/Clip{number:04}M01.XML": b"x"}
    clips = [[f"XDROOT/Clip/Clip{number:04}.MXF"] for number in numbers]
    return Drawn(files, clips, [f"XDROOT/Clip/Clip{numbers[0]:04}M01.XML"])


def _bpav(numbers: list[int]) -> Drawn:
    files = {"BPAV/MEDIAPRO.XML": b"<x/>"}
    for number in numbers:
        name = f"{number:03}_{number:04}_01"
        for ending in (".MP4", "M01.XML", "R01.BIM", ".SMI"):
            files[f"BPAV/CLPR/{name}/{name}{ending}"] = b"x"
    clips = [[f"BPAV/CLPR/{n:03}_{n:04}_01/{n:03}_{n:04}_01.MP4"] for n in numbers]
    first = f"BPAV/CLPR/{numbers[0]:03}_{numbers[0]:04}_01/{numbers[0]:03}_{numbers[0]:04}_01"
    return Drawn(files, clips, [f"{first}M01.XML", f"{first}.SMI", f"{first}R01.BIM"])


def _contents(numbers: list[int]) -> Drawn:
    files = {"LASTCLIP.TXT": b"x"}
    sounds = "<EssenceList>" + "<Audio/>" * 3 + "</EssenceList>"
    for number in numbers:
        name = f"{number:04}AB"
        files |= {f"CONTENTS/VIDEO/{name}.MXF": _MXF, f"CONTENTS/CLIP/{name}.XML": f"<C>{sounds}</C>".encode()}
        files |= {f"CONTENTS/AUDIO/{name}{channel:02}.MXF": _MXF for channel in range(3)}
        files[f"CONTENTS/ICON/{name}.BMP"] = b"x"
    first = f"{numbers[0]:04}AB"
    return Drawn(
        files,
        [[f"CONTENTS/VIDEO/{number:04}AB.MXF"] for number in numbers],
        [
            f"CONTENTS/ICON/{first}.BMP",
            *(f"CONTENTS/AUDIO/{first}{n:02}.MXF" for n in range(3)),
            f"CONTENTS/CLIP/{first}.XML",
        ],
    )


def _sd_video(numbers: list[int]) -> Drawn:
    files = {"SD_VIDEO/MGR_INFO.MGR": b"x"}
    for number in numbers:
        files |= {f"SD_VIDEO/PRG001/MOV{number:03X}.MOD": b"x", f"SD_VIDEO/PRG001/MOV{number:03X}.MOI": b"x"}
    clips = [[f"SD_VIDEO/PRG001/MOV{number:03X}.MOD"] for number in numbers]
    return Drawn(files, clips, [f"SD_VIDEO/PRG001/MOV{numbers[0]:03X}.MOI"])


def _quicktime(numbers: list[int]) -> Drawn:
    clips = [[f"PRIVATE/ANYONE/CLIP/AB{number:04}.MOV"] for number in numbers]
    files = {clip[0]: b"x" for clip in clips} | {clips[0][0].replace(".MOV", ".SMI"): b"x"}
    return Drawn(files, clips, [clips[0][0].replace(".MOV", ".SMI")])


def _raw_reel(numbers: list[int]) -> Drawn:
    files: dict[str, bytes] = {}
    clips: list[list[str]] = []
    for number in numbers:
        name = f"A001_C{number:03}_0101AB"
        spans = [f"A001_0101AB.RDM/{name}.RDC/{name}_{part:03}.R3D" for part in (1, 2)]
        files |= dict.fromkeys(spans, b"\x00\x00\x02\x00RED1" + bytes(600))
        files[f"A001_0101AB.RDM/{name}.RDC/{name}.RMD"] = b"x"
        clips.append(spans)
    return Drawn(files, clips, [clips[0][0].rpartition("_")[0] + ".RMD"])


def _cinemadng(numbers: list[int]) -> Drawn:
    files: dict[str, bytes] = {}
    clips: list[list[str]] = []
    for number in numbers:
        frames = [f"TAKE_{number:04}/TAKE_{number:04}_{frame:06}.DNG" for frame in range(number % 7 + 1)]
        files |= dict.fromkeys(frames, b"II*\0")
        files[f"TAKE_{number:04}/TAKE_{number:04}.WAV"] = b"RIFF"
        clips.append(frames)
    return Drawn(files, clips, [f"TAKE_{numbers[0]:04}/TAKE_{numbers[0]:04}.WAV"])


def _dv_avi(numbers: list[int]) -> Drawn:
    head = b"RIFF\0\0\0\0AVI LIST\0\0\0\0hdrlavih" + bytes(60) + b"LIST\0\0\0\0strlstrh\x38\0\0\0vidsdvsd"
    clips = [[f"REEL {number}.AVI"] for number in sorted(numbers, key=lambda number: f"REEL {number}.AVI")]
    return Drawn({clip[0]: head for clip in clips}, clips, [])


DRAWN: dict[str, Callable[[list[int]], Drawn]] = {
    "m4root": _m4root,
    "xdroot": _xdroot,
    "bpav": _bpav,
    "contents": _contents,
    "sd-video": _sd_video,
    "quicktime": _quicktime,
    "raw-reel": _raw_reel,
    "cinemadng": _cinemadng,
    "dv-avi": _dv_avi,
}


def put(root: Path, files: dict[str, bytes]) -> Path:
    shutil.rmtree(root, ignore_errors=True)
    for path, data in files.items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_bytes(data)
    return root


@pytest.mark.parametrize("name", DRAWN)
@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(numbers=st.lists(st.integers(1, 999), min_size=1, max_size=5, unique=True).map(sorted))
def test_a_tree_lists_exactly_what_was_put_in(tmp_path: Path, name: str, numbers: list[int]) -> None:
    drawn = DRAWN[name](numbers)
    root = put(tmp_path / "UNTITLED", drawn.files)
    found = recognise(root, LAYOUTS)
    assert found.layout is not None
    assert (found.layout.name, found.tree.root) == (name, root)
    assert found.evidence
    listed = sort_files(found.tree, found.layout)
    # Numbered segments are still one file each here: their heads decide whether they belong together.
    wanted = [[span] for spans in drawn.clips for span in spans] if name == "raw-reel" else drawn.clips
    assert [list(clip.spans) for clip in listed.clips] == wanted
    assert [problem.what for problem in listed.problems] == []
    assert {each.path for each in listed.clips[0].companions} == set(drawn.companions)


@pytest.mark.parametrize("name", [each for each in DRAWN if each not in {"dv-avi", "cinemadng"}])
def test_the_top_is_found_from_every_folder_and_file(tmp_path: Path, name: str) -> None:
    drawn = DRAWN[name]([3, 4])
    root = put(tmp_path / "UNTITLED", drawn.files)
    folders = {parent for path in drawn.files for parent in (root / path).parents if parent.is_relative_to(root)}
    inside = {folder for folder in folders if any((root / clip[0]).is_relative_to(folder) for clip in drawn.clips)}
    for place in [*sorted(inside), *(root / clip[0] for clip in drawn.clips)]:
        found = recognise(place, LAYOUTS)
        assert found.layout is not None, place
        assert (found.layout.name, found.tree.root) == (name, root), place


@pytest.mark.parametrize(
    ("name", "taken", "words"),
    [
        ("m4root", "PRIVATE/M4ROOT/CLIP/C0003M01.XML", "metadata file C0003M01.XML is missing (C0003.MP4 asks for it)"),
        ("m4root", "PRIVATE/M4ROOT/CLIP/C0003.MP4", "recording C0003.MP4 is missing (C0003M01.XML asks for it)"),
        ("m4root", "PRIVATE/M4ROOT/MEDIAPRO.XML", "list of recordings (MEDIAPRO.XML) is missing"),
        ("xdroot", "XDROOT/Clip/Clip0003.MXF", "recording Clip0003.MXF is missing"),
        ("bpav", "BPAV/CLPR/003_0003_01/003_0003_01.MP4", "recording 003_0003_01.MP4 is missing"),
        ("contents", "CONTENTS/AUDIO/0003AB01.MXF", "sound track 0003AB01.MXF is missing"),
        ("contents", "CONTENTS/AUDIO/0003AB02.MXF", "sound track 0003AB02.MXF is missing (0003AB.XML asks for it)"),
        ("contents", "CONTENTS/VIDEO/0003AB.MXF", "picture 0003AB.MXF is missing"),
        ("contents", "CONTENTS/CLIP/0003AB.XML", "description 0003AB.XML is missing"),
        ("sd-video", "SD_VIDEO/PRG001/MOV003.MOI", "clip information MOV003.MOI is missing"),
        ("cinemadng", "TAKE_0004/TAKE_0004_000002.DNG", "TAKE_0004 lacks picture 2"),
    ],
)
def test_what_is_missing_is_named_once(tmp_path: Path, name: str, taken: str, words: str) -> None:
    files = DRAWN[name]([3, 4]).files
    del files[taken]
    found = recognise(put(tmp_path / "card", files), LAYOUTS)
    assert found.layout is not None
    problems = [problem.what for problem in sort_files(found.tree, found.layout).problems]
    assert len([problem for problem in problems if words in problem]) == 1, problems
    assert len(problems) == 1, problems


def test_an_empty_recording_is_named(tmp_path: Path) -> None:
    files = _m4root([1]).files | {"PRIVATE/M4ROOT/CLIP/C0001.MP4": b""}
    found = recognise(put(tmp_path / "card", files), LAYOUTS)
    assert found.layout is not None
    assert "C0001.MP4 is empty" in sort_files(found.tree, found.layout).problems[0].what


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('name = "mine"\ntitle = "Mine"\nclipz = []\n', "line 3: there is no key called 'clipz'"),
        ('name = "mine"\ntitle = "Mine\n', "at line 2"),
        (
            'name = "mine"\ntitle = "Mine"\ncamera = "C"\nmarks = ["A/("]\nclips = []\n',
            "line 4: 'marks': 'A/(' is no pattern",
        ),
        ('name = "mine"\ntitle = "Mine"\ncamera = "C"\nmarks = ["A/"]\n', "the key 'clips' is missing"),
        (
            'name = "m"\ntitle = "M"\ncamera = "C"\nmarks = ["A/"]\nhead = "("\nclips = []\n',
            "line 5: 'head': '(' is no pattern",
        ),
        (
            'name = "m"\ntitle = "M"\ncamera = "C"\nmarks = ["A/"]\nclips = []\n[folders]\n"(" = "x"\n',
            "'(' is no pattern",
        ),
        (
            'name = "m"\ntitle = "M"\ncamera = "C"\nmarks = ["A/"]\nclips = []\nnumbered = ["A(?P<part>1)"]\n',
            "line 6: 'numbered': 'A(?P<part>1)' has no group called recording",
        ),
        (
            'name = "m"\ntitle = "M"\ncamera = "C"\nmarks = ["A/"]\nclips = []\n'
            '[[needs]]\nwhat = "x"\nfor_each = ["(?P<clip>.*)"]\nthere = "{clop}"\n',
            "asks for 'clop'",
        ),
        ('name = "m"\ntitle = "M"\ncamera = "C"\nmarks = ["A/"]\nclips = []\norder = 200\n', "line 6: 'order'"),
    ],
)
def test_a_mistake_in_a_layout_of_ones_own_is_named_with_its_line(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "mine.toml").write_text(text)
    with pytest.raises(RequestError) as raised:
        load_layouts(tmp_path)
    assert words in raised.value.problem.what
    assert raised.value.problem.path.endswith("mine.toml")


def test_a_layout_of_ones_own_is_tried_before_the_supplied_ones(tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text(
        'name = "mine"\ntitle = "Mine"\ncamera = "Mine"\norder = 1\nmarks = ["DCIM/100ABCDE/"]\nclips = ["DCIM/.*\\\\.XYZ"]\n'
    )
    root = put(tmp_path / "card", {"DCIM/100ABCDE/A.XYZ": b"x"})
    found = recognise(root, load_layouts(tmp_path))
    assert found.layout is not None
    assert found.layout.name == "mine"


def test_the_person_may_say_what_it_is(tmp_path: Path) -> None:
    root = put(tmp_path / "card", _m4root([1]).files)
    card = look(root, LAYOUTS, Watch(), choice=LookChoice("loose"))
    assert (card.layout, card.evidence) == ("loose", "you say so")
    with pytest.raises(RequestError, match="no card layout called"):
        look(root, LAYOUTS, Watch(), choice=LookChoice("nonsense"))


def test_a_file_of_unknown_ending_is_a_recording_by_its_content(tmp_path: Path) -> None:
    movie = b"\0\0\0\x14ftypisom\0\0\0\0isom" + bytes(8000)
    root = put(tmp_path / "card", {"DCIM/100ABCDE/ABCD0001.QQQ": movie, "DCIM/100ABCDE/ABCD0002.QQQ": bytes(8000)})
    found = recognise(root, LAYOUTS)
    assert found.layout is not None
    assert [clip.spans for clip in sort_files(found.tree, found.layout).clips] == [("DCIM/100ABCDE/ABCD0001.QQQ",)]


def test_every_folder_that_a_layout_names_has_its_line() -> None:
    for layout in LAYOUTS:
        for pattern, purpose in layout.folders.items():
            assert purpose.endswith("."), (layout.name, pattern)
    names = [layout.name for layout in LAYOUTS]
    assert names[-1] == "loose"
    assert len(names) == len(set(names)) >= 13
