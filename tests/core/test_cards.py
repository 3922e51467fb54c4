"""Layouts, clips and completeness, on trees drawn by property and on damaged ones; none from the demo's code."""

from __future__ import annotations

import os
import shutil
import struct
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from diadoche.core.cards.avchd import read_playlist
from diadoche.core.cards.card import chosen_files, look
from diadoche.core.cards.layout import load_layouts
from diadoche.core.cards.recognise import recognise
from diadoche.core.cards.sorting import sort_files
from diadoche.core.cards.tree import list_tree
from diadoche.core.errors import MediaError, RequestError
from diadoche.core.watch import Watch
from tests.snapshots import snapshot

LAYOUTS = load_layouts()
_NAME = st.text("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_", min_size=5, max_size=5)


@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    folders=st.dictionaries(
        st.integers(100, 999),
        st.tuples(
            _NAME,
            st.lists(
                st.tuples(st.integers(1, 9999), st.booleans(), st.booleans()),
                max_size=4,
                unique_by=lambda each: each[0],
            ),
        ),
        min_size=1,
        max_size=3,
    )
)
def test_a_dcf_tree_lists_exactly_what_was_put_in(
    tmp_path: Path, folders: dict[int, tuple[str, list[tuple[int, bool, bool]]]]
) -> None:
    root = tmp_path / "card"
    shutil.rmtree(root, ignore_errors=True)
    clips: set[str] = set()
    stills: set[str] = set()
    companions: set[str] = set()
    for number, (name, shots) in folders.items():
        folder = root / "DCIM" / f"{number}{name}"
        folder.mkdir(parents=True)
        for shot, is_still, has_companion in shots:
            stem = folder / f"ABCD{shot:04}"
            (stills if is_still else clips).add(str(stem.relative_to(root)) + (".JPG" if is_still else ".MP4"))
            stem.with_suffix(".JPG" if is_still else ".MP4").write_bytes(b"x")
            if has_companion and not is_still:
                stem.with_suffix(".SRT").write_bytes(b"x")
                companions.add(f"{stem.relative_to(root)}.SRT")
    found = recognise(root, LAYOUTS)
    assert found.layout is not None
    assert found.layout.name == "dcf"
    listed = sort_files(found.tree, found.layout)
    assert {clip.spans[0] for clip in listed.clips} == clips
    assert set(listed.stills) == stills
    assert {each.path for clip in listed.clips for each in clip.companions} == companions


@pytest.mark.parametrize(
    "inside",
    [
        "",
        "PRIVATE",
        "PRIVATE/AVCHD",
        "PRIVATE/AVCHD/BDMV",
        "PRIVATE/AVCHD/BDMV/STREAM",
        "PRIVATE/AVCHD/BDMV/CLIPINF",
        "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS",
    ],
)
def test_the_top_is_found_from_any_level(camcorder: Path, inside: str) -> None:
    found = recognise(camcorder / inside, LAYOUTS)
    assert found.layout is not None
    assert (found.layout.name, found.tree.root) == ("avchd", camcorder)


def test_the_camcorder_card_is_listed_as_recorded(camcorder: Path) -> None:
    card = look(camcorder, LAYOUTS, Watch())
    assert [(clip.name, len(clip.spans), clip.duration_s) for clip in card.clips] == [
        ("00000", 2, 6.0),
        ("00002", 1, 3.0),
        ("00003", 1, 2.0),
    ]
    assert card.complete
    assert card.clips[0].start is not None
    assert card.clips[0].start.isoformat() == "2026-06-14T08:40:00+01:00"


@pytest.mark.parametrize("name", ["Drone", "Keeper's camcorder"])
def test_looking_leaves_no_trace(demo_cards: dict[str, Path], tmp_path: Path, name: str) -> None:
    card = tmp_path / "card"
    shutil.copytree(demo_cards[name], card)
    for path in card.rglob("*"):
        # Access times older than the files' own: the next ordinary reading would renew them.
        os.utime(path, (1e9, path.stat().st_mtime))
    before = snapshot(card)
    look(card, LAYOUTS, Watch())
    assert snapshot(card) == before


@pytest.fixture
def broken_tree(camcorder: Path, tmp_path: Path) -> Path:
    shutil.copytree(camcorder, tmp_path / "card")
    return tmp_path / "card"


def test_without_playlists_spans_are_joined_by_their_times(broken_tree: Path) -> None:
    (broken_tree / "PRIVATE/AVCHD/BDMV/PLAYLIST/00000.MPL").unlink()
    card = look(broken_tree, LAYOUTS, Watch())
    assert card.clips[0].spans == ("PRIVATE/AVCHD/BDMV/STREAM/00000.MTS", "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS")
    assert len(card.clips) == 3
    assert any("no playlist" in problem.what for problem in card.problems)


def test_a_stream_without_clip_information_is_named(broken_tree: Path) -> None:
    (broken_tree / "PRIVATE/AVCHD/BDMV/CLIPINF/00002.CPI").unlink()
    (broken_tree / "PRIVATE/AVCHD/BDMV/CLIPINF/00003.CPI").write_bytes(b"HDMV0100")
    card = look(broken_tree, LAYOUTS, Watch())
    assert [problem.what for problem in card.problems] == [
        "00002.MTS has no clip information.",
        "00003.MTS has clip information that is damaged.",
    ]
    assert len(card.clips) == 3


def test_a_missing_stream_and_missing_index_are_named(broken_tree: Path) -> None:
    (broken_tree / "PRIVATE/AVCHD/BDMV/STREAM/00001.MTS").unlink()
    (broken_tree / "PRIVATE/AVCHD/BDMV/INDEX.BDM").unlink()
    card = look(broken_tree, LAYOUTS, Watch())
    words = " ".join(problem.what for problem in card.problems)
    assert "00001, which is not there" in words
    assert "INDEX.BDM" in words
    assert not card.complete


def test_streams_alone_are_still_a_card(camcorder: Path, tmp_path: Path) -> None:
    shutil.copytree(camcorder / "PRIVATE/AVCHD/BDMV/STREAM", tmp_path / "streams")
    card = look(tmp_path / "streams", LAYOUTS, Watch())
    assert card.layout == "loose"
    # Times and timecode of the first two run on; what was left behind is said.
    assert [len(clip.spans) for clip in card.clips] == [2, 1, 1]
    assert "without its playlists" in card.problems[0].what


@pytest.mark.parametrize("junk", [b"", b"MPLS", b"nonsense" * 20])
def test_a_playlist_that_is_none(junk: bytes) -> None:
    with pytest.raises(MediaError, match="x cannot be read"):
        read_playlist(junk, "x")


def test_a_playlist_cut_off_anywhere_never_crashes(camcorder: Path) -> None:
    whole = (camcorder / "PRIVATE/AVCHD/BDMV/PLAYLIST/00000.MPL").read_bytes()
    assert len(read_playlist(whole, "x")) == 4
    for end in range(0, len(whole), 3):
        try:
            read_playlist(whole[:end], "x")
        except MediaError:
            continue


def test_a_playlist_that_claims_a_thousand_items() -> None:
    data = b"MPLS0100" + struct.pack(">III", 40, 0, 0) + bytes(20) + struct.pack(">IHHH", 0, 0, 1000, 0)
    with pytest.raises(MediaError):
        read_playlist(data, "x")


def test_no_card_and_empty_card_say_so(tmp_path: Path) -> None:
    (tmp_path / "papers").mkdir()
    (tmp_path / "papers" / "letter.txt").write_text("x")
    (tmp_path / "empty").mkdir()
    assert "no card" in look(tmp_path / "papers", LAYOUTS, Watch()).problems[0].what
    assert "is empty" in look(tmp_path / "empty", LAYOUTS, Watch()).problems[0].what
    with pytest.raises(RequestError, match="nothing at"):
        look(tmp_path / "nowhere", LAYOUTS, Watch())


def test_links_are_listed_and_not_followed(tmp_path: Path) -> None:
    (tmp_path / "out.txt").write_text("secret")
    card = tmp_path / "card"
    card.mkdir()
    (card / "link").symlink_to(tmp_path / "out.txt")
    tree = list_tree(card)
    assert tree.files == ()
    assert "is a link" in tree.left_out[0].what


def test_chosen_clips_keep_what_belongs_to_all(camcorder: Path) -> None:
    card = look(camcorder, LAYOUTS, Watch())
    files = chosen_files(card, LAYOUTS, ["00000"])
    names = {path.rpartition("/")[2] for path in files}
    assert {"00000.MTS", "00001.MTS", "00000.CPI", "00001.CPI", "INDEX.BDM", "MOVIEOBJ.BDM", "00000.MPL"} == names
    with pytest.raises(RequestError, match="no clip called"):
        chosen_files(card, LAYOUTS, ["99999"])


def test_a_layout_of_ones_own_with_a_mistake_is_named(tmp_path: Path) -> None:
    (tmp_path / "mine.toml").write_text('name = "mine"\nclipz = []\n')
    with pytest.raises(RequestError, match=r"mine\.toml"):
        load_layouts(tmp_path)
