"""Names of folders from tokens, and names that a disk cannot hold."""

from __future__ import annotations

import unicodedata
from datetime import UTC, date, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diadoche.core.disks import Limits
from diadoche.core.errors import RequestError
from diadoche.core.offload.kept_names import kept_names
from diadoche.core.offload.naming import TOKENS, Naming, NamingValues, card_folder, checked_naming, folder_parts

TAKING = NamingValues(
    "Tern Rock, day 1",
    date(2026, 6, 14),
    "Drone",
    "Ada",
    "Card 7",
    "A001",
    "DRON0001",
    datetime(2026, 6, 14, 9, 42, tzinfo=UTC),
)
EXFAT = Limits("exFAT", plain_names=True, folds_case=True)


@pytest.mark.parametrize(
    ("pattern", "parts"),
    [
        ("{shoot}/Originals/{day}/{camera}", ("Tern Rock, day 1", "Originals", "2026-06-14", "Drone")),
        ("{person} {reel}/{time}", ("Ada A001", "0942")),
        ("/{card}//{clip}/", ("Card 7", "DRON0001")),
        ("plain", ("plain",)),
    ],
)
def test_tokens_stand_for_what_they_say(pattern: str, parts: tuple[str, ...]) -> None:
    assert folder_parts(Naming(pattern), TAKING) == parts


def test_an_empty_token_leaves_no_gap() -> None:
    bare = NamingValues("Shoot", date(2026, 6, 14), "")
    assert folder_parts(Naming("{shoot}/{camera}/{person}-{day}"), bare) == ("Shoot", "2026-06-14")
    assert folder_parts(Naming("{person}"), bare) == ("Shoot",)
    assert card_folder(Naming(card="{person}-{day}-{clip}"), bare, 3) == "2026-06-14-003"


@pytest.mark.parametrize(
    ("naming", "word"),
    [
        (Naming("{shot}"), "shot"),
        (Naming("{shoot"), "stands alone"),
        (Naming("{}"), "nothing"),
        (Naming("../{shoot}"), "leaves"),
        (Naming("{shoot}/.. /x"), "leaves"),
        (Naming(" / "), "need a name"),
        (Naming(card="a/b"), "one name"),
        (Naming(card="{nonsense}"), "nonsense"),
    ],
)
def test_a_pattern_that_makes_no_sense_is_named(naming: Naming, word: str) -> None:
    with pytest.raises(RequestError, match=word):
        checked_naming(naming)


def test_a_token_that_holds_a_path_stays_one_folder() -> None:
    evil = NamingValues("a/../../etc", date(2026, 6, 14), "..", card="/root")
    for part in (*folder_parts(Naming("{shoot}/{camera}/{card}"), evil), card_folder(Naming(card="{card}"), evil, 1)):
        assert "/" not in part
        assert part not in {".", "..", ""}


@given(st.text(max_size=60), st.text(max_size=60), st.sampled_from(sorted(TOKENS)))
def test_whatever_tokens_hold_the_folders_are_plain_names(shoot: str, camera: str, token: str) -> None:
    taking = NamingValues(shoot, date(2026, 6, 14), camera, card=camera)
    for part in folder_parts(Naming(f"{{shoot}}/x{{{token}}}"), taking):
        assert part
        assert "/" not in part
        assert "\0" not in part
        assert part not in {".", ".."}
        assert len(part.encode("utf-8", "surrogateescape")) <= 255


def test_a_disk_that_holds_every_name_changes_none() -> None:
    assert kept_names(["a?.mov", "A", "a"], Limits("ext4")) == {}


def test_folders_are_changed_for_all_that_is_in_them() -> None:
    kept = kept_names(["DAY 1.", "DAY 1./C.MOV", "DAY 1./c.mov", "DAY 1"], EXFAT)
    folder = kept["DAY 1."]
    assert kept["DAY 1./C.MOV"] == f"{folder}/C.MOV"
    assert kept["DAY 1./c.mov"] == f"{folder}/c (2).mov"
    assert kept.get("DAY 1", "DAY 1").casefold() != folder.casefold()


@given(
    st.lists(
        st.text(st.characters(exclude_characters="/\0"), min_size=1, max_size=20).filter(lambda n: n not in {".", ".."}),
        max_size=30, unique=True,
    )
)  # fmt: skip
def test_no_two_names_become_one_and_every_name_fits(names: list[str]) -> None:
    kept = kept_names(names, EXFAT)
    after = [kept.get(name, name) for name in names]
    assert len({unicodedata.normalize("NFC", name).casefold() for name in after}) == len(names)
    assert [name for name in after if EXFAT.refuses(name, 0)] == []
