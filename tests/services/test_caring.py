"""Copies after the offload, through the ledger: copied on, brought level, fetched, taken in, filled in again."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from diadoche.core.errors import RequestError
from diadoche.core.offload.copies import CopyState
from diadoche.core.watch import Watch
from diadoche.services.jobs.adopt_folder import AdoptFolderRequest, perform_adopt_folder
from diadoche.services.jobs.compare_card import CompareCardRequest, perform_compare_card
from diadoche.services.jobs.copy_on import CopyOnRequest, perform_copy_on
from diadoche.services.jobs.level import LevelRequest, perform_level
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import OffloadRequest, perform_offload
from diadoche.services.jobs.rebuild import RebuildRequest, perform_rebuild
from diadoche.services.jobs.restore import RestoreRequest, perform_restore
from diadoche.services.jobs.verify import VerifyRequest, perform_verify
from diadoche.services.ledger.copies import last_disks
from diadoche.services.ledger.happenings import happenings, note_happening, seen_until
from diadoche.services.ledger.job_results import (
    record_adopted,
    record_copy_on,
    record_level,
    record_outcome,
    record_rebuilt,
    record_verdict,
)
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.known_copies import familiar, good_copy_for, holders, known_roots, place_below
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.remembered import forget, recall, recall_all, remember
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.ledger.waybills import waybills
from tests.snapshots import contents, flip_unsampled


@pytest.fixture
def ledger(tmp_path: Path) -> Iterator[Ledger]:
    made = Ledger(tmp_path / "ledger.sqlite")
    yield made
    made.close()


@pytest.fixture
def roots(ledger: Ledger, drone: Path, tmp_path: Path) -> list[Path]:
    """The drone's card, offloaded to two places."""
    shoot = open_shoot(ledger, "Rock")
    request = OffloadRequest(drone, (tmp_path / "a", tmp_path / "b"), shoot.id, shoot.name, try_copy=False)
    outcome = perform_offload(request, Watch())
    record_outcome(ledger, request, outcome)
    return [Path(copy.root) for copy in outcome.result.copies]


def test_a_copy_that_was_copied_on_stands_on_the_same_waybill(
    ledger: Ledger, roots: list[Path], tmp_path: Path
) -> None:
    place = tmp_path / "c"
    target = place_below(ledger, roots[0], place)
    assert target.relative_to(place) == roots[0].relative_to(tmp_path / "a")
    record_copy_on(ledger, perform_copy_on(CopyOnRequest(roots[0], ((place, target),)), Watch()))
    (entry,) = waybills(ledger)
    assert [copy.destination for copy in entry.copies] == [str(tmp_path / name) for name in "abc"]
    assert entry.proven == 3
    # The tests' folders are one disk: three copies, lost together.
    assert entry.proven_disks == 1
    assert not entry.may_format(2)
    assert entry.may_format(1)
    assert set(last_disks(ledger)) == {str(tmp_path / name) for name in "abc"}


def test_two_places_are_brought_level_and_nothing_is_deleted(
    ledger: Ledger, roots: list[Path], camcorder: Path, tmp_path: Path
) -> None:
    shoot = open_shoot(ledger, "Rock")
    request = OffloadRequest(camcorder, (tmp_path / "a",), shoot.id, shoot.name, try_copy=False)
    record_outcome(ledger, request, perform_offload(request, Watch()))
    lost = roots[1] / "DCIM/100DRONE/DRON0002.MP4"
    lost.unlink()
    (tmp_path / "b/somebody's.txt").write_text("stays")
    done = perform_level(LevelRequest(tmp_path / "a", tmp_path / "b"), Watch())
    record_level(ledger, done)
    assert [copy.status for copy in done.copied] == ["proven"]
    assert done.restored == (str(lost),)
    assert done.differing == done.problems == ()
    assert lost.exists()
    assert (tmp_path / "b/somebody's.txt").read_text() == "stays"
    assert [entry.proven for entry in waybills(ledger)] == [2, 2]
    again = perform_level(LevelRequest(tmp_path / "a", tmp_path / "b"), Watch())
    assert (again.made, again.restored, again.differing) == ((), (), ())


def test_a_clip_comes_back_from_the_first_copy_that_has_it_whole(
    ledger: Ledger, roots: list[Path], drone: Path, tmp_path: Path
) -> None:
    path = "DCIM/100DRONE/DRON0001.MP4"
    (roots[0] / path).write_bytes(b"damaged")
    for wanted in ("DRON0001.MP4", path, "DRON0001"):
        to = tmp_path / f"desk-{len(wanted)}"
        found = perform_restore(RestoreRequest(wanted, to, holders(ledger, wanted)), Watch())
        assert found.root == roots[1]
        assert (to / path).read_bytes() == (drone / path).read_bytes()
    # A damaged file named where it stands, into its own copy.
    wanted = str(roots[0] / path)
    perform_restore(RestoreRequest(wanted, roots[0], holders(ledger, wanted)), Watch())
    assert contents(roots[0])[path] == contents(drone)[path]
    with pytest.raises(RequestError, match="No proven copy of NOWHERE"):
        perform_restore(RestoreRequest("NOWHERE", tmp_path, holders(ledger, "NOWHERE")), Watch())


def test_what_is_no_unfinished_copy_cannot_be_completed(ledger: Ledger, roots: list[Path]) -> None:
    with pytest.raises(RequestError, match="not an unfinished copy"):
        good_copy_for(ledger, roots[0], Watch())


def test_footage_taken_in_is_a_card_with_one_copy(ledger: Ledger, small_card: Path) -> None:
    shoot = open_shoot(ledger, "Archive")
    before = contents(small_card)
    record_adopted(ledger, perform_adopt_folder(AdoptFolderRequest(small_card, shoot.id), Watch()))
    (entry,) = waybills(ledger)
    assert (entry.shoot, entry.proven, entry.files, entry.whole) == ("Archive", 1, 6, True)
    assert contents(small_card) == before


def test_the_ledger_is_filled_again_from_the_disks(
    ledger: Ledger, roots: list[Path], drone: Path, tmp_path: Path
) -> None:
    fresh = Ledger(tmp_path / "fresh.sqlite")
    try:
        request = RebuildRequest((tmp_path / "a", tmp_path / "b"), known_roots(fresh))
        rebuilt = record_rebuilt(fresh, perform_rebuild(request, Watch()))
        assert (rebuilt.waybills, rebuilt.clips, rebuilt.files) == (1, 3, 10)
        (entry,) = waybills(fresh)
        # By manifests and sizes alone nothing is proven, and no time of reading is made up.
        assert (entry.shoot, entry.card, entry.proven) == ("Rock", "Drone", 0)
        assert [(copy.status, copy.verified) for copy in entry.copies] == [(CopyState.LISTED, None)] * 2
        card = perform_list_card(ListCardRequest(drone), Watch())
        assert familiar(fresh, card).files == 0
        record_verdict(fresh, perform_verify(VerifyRequest(roots[0]), Watch()))
        assert waybills(fresh)[0].proven == 1
        assert familiar(fresh, card).files == 10
        assert len(kept_clips(fresh, open_shoot(fresh, "Rock").id)) == 3
        nothing = perform_rebuild(RebuildRequest((tmp_path / "a",), known_roots(fresh)), Watch())
        assert nothing.taken == ()
    finally:
        fresh.close()


def test_a_manifest_that_cannot_be_read_is_named_and_the_others_come_back(
    ledger: Ledger, roots: list[Path], tmp_path: Path
) -> None:
    for manifest in (roots[0] / "ascmhl").iterdir():
        manifest.write_bytes(b"<not xml")
    found = perform_rebuild(RebuildRequest((tmp_path / "a", tmp_path / "b"), frozenset()), Watch())
    assert len(found.taken) == 1
    assert len(found.problems) == 1


def test_a_card_that_looks_the_same_and_is_not_is_found_by_reading_it(
    ledger: Ledger, roots: list[Path], drone: Path, tmp_path: Path
) -> None:
    import shutil

    again = tmp_path / "again"
    shutil.copytree(drone, again)
    card = perform_list_card(ListCardRequest(again), Watch())
    found = familiar(ledger, card)
    assert found.files == len(card.tree.files)
    request = CompareCardRequest(again, card.tree.files, found.digests)
    assert perform_compare_card(request, Watch()).differing == ()
    victim = again / "DCIM/100DRONE/DRON0003.MP4"
    flip_unsampled(victim)
    assert familiar(ledger, perform_list_card(ListCardRequest(again), Watch())).files == len(card.tree.files)
    assert perform_compare_card(request, Watch()).differing == ("DCIM/100DRONE/DRON0003.MP4",)


def test_a_check_is_written_down_with_its_verdict(ledger: Ledger, roots: list[Path]) -> None:
    record_verdict(ledger, perform_verify(VerifyRequest(roots[0]), Watch()))
    assert waybills(ledger)[0].copies[0].last_check == "as it was"
    (roots[0] / "DCIM/100DRONE/DRON0001.MP4").unlink()
    (roots[0] / "new.txt").write_text("x")
    record_verdict(ledger, perform_verify(VerifyRequest(roots[0]), Watch()))
    (entry,) = waybills(ledger)
    assert entry.copies[0].last_check == "1 missing, 1 extra"
    assert (entry.copies[0].status, entry.proven) == (CopyState.DAMAGED, 1)
    assert [each.kind for each in happenings(ledger)][:2] == ["problem", "check"]


def test_the_ledger_is_searched_by_what_people_remember(ledger: Ledger, roots: list[Path]) -> None:
    digest = next(iter(familiar(ledger, perform_list_card(ListCardRequest(roots[0]), Watch())).digests.values()))[
        "xxh128"
    ]
    for text in ("Drone", "Rock", "DRON0002", "2026-06-14", digest[:12], "/a/"):
        assert len(waybills(ledger, text)) == 1, text
    assert waybills(ledger, "nobody's") == []
    assert len(waybills(ledger, "  ")) == 1


def test_what_happened_is_kept_in_order_and_read_once(ledger: Ledger) -> None:
    for number in range(3):
        note_happening(ledger, "note", f"thing {number}")
    assert [each.words for each in happenings(ledger)] == ["thing 2", "thing 1", "thing 0"]
    assert not any(each.seen for each in happenings(ledger))
    read = happenings(ledger)[0].number
    # What is noted while the person reads is not read with it, though the clock was set back.
    note_happening(ledger, "problem", "later", datetime(2020, 1, 1, tzinfo=UTC))
    seen_until(ledger, read)
    assert [each.seen for each in happenings(ledger)] == [False, True, True, True]
    assert happenings(ledger)[0].at <= datetime.now(UTC)


def test_the_nearest_memory_wins(ledger: Ledger) -> None:
    remember(ledger, "s", "camera:x", "far")
    remember(ledger, "s", "camera:x/1", "near")
    assert recall(ledger, "s", ["card:1", "camera:x/1", "camera:x"], str) == "near"
    forget(ledger, "s", "camera:x/1")
    assert recall(ledger, "s", ["card:1", "camera:x/1", "camera:x"], str) == "far"
    remember(ledger, "s", "camera:x", {"another": "shape"})
    assert recall(ledger, "s", ["camera:x"], str) is None
    assert recall(ledger, "other", ["camera:x"], str) is None
    remember(ledger, "t", "a", "1")
    remember(ledger, "t", "b", "2")
    assert recall_all(ledger, "t", str) == [("b", "2"), ("a", "1")]
