"""The ledger view's rules: search, disks, ages, checks that fall due, and what is done with copies."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import text, update

from diadoche.core.errors import LedgerError
from diadoche.core.offload.copies import CopyState
from diadoche.core.watch import Watch
from diadoche.screens.ledger import age_text
from diadoche.screens.marks import Mark
from diadoche.services.jobs.verify import perform_verify
from diadoche.services.ledger.models import CopyRow
from diadoche.services.queue.states import State
from tests.screens.scene import Scene
from tests.system_bus import wait_until


@pytest.mark.parametrize(
    ("days", "words"), [(0, "today"), (1, "1 day ago"), (59, "59 days ago"), (90, "3 months ago"), (800, "2 years ago")]
)
def test_ages_as_people_say_them(days: int, words: str) -> None:
    assert age_text(datetime.now(UTC) - timedelta(days=days, minutes=1)) == words


def test_nothing_was_ever_read_back() -> None:
    assert age_text(None) == "never"


def test_a_row_tells_copies_disks_age_and_whether_the_camera_may_format(scene: Scene, drone: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    texts = ledger.texts(0)
    assert texts[:2] == ("Drone", "Rock")
    assert texts[3:] == ("3", "4.3 MB", "2 of 2, 2 disks", "today", "yes")
    assert ledger.mark(0) is Mark.PROVEN
    ledger.select(0)
    # What is on show waits for no disk: it is told again when that has answered.
    wait_until(lambda: (shown := ledger.detail()) and shown.page and shown.can_copy_on, 20, "the disks have answered")
    detail = ledger.detail()
    assert detail is not None
    assert [mark for mark, _text in detail.copies] == [Mark.PROVEN, Mark.PROVEN]
    assert "On disk A." in detail.copies[0][1]
    assert "not known" not in detail.copies[0][1]
    assert [row.texts()[2] for row in ledger.disks] == ["1 card", "1 card"]
    assert all(row.here for row in ledger.disks)


def test_a_disk_in_the_drawer_is_listed_as_one(scene: Scene, drone: Path, tmp_path: Path) -> None:
    scene.offloaded(drone)
    (tmp_path / "B").rename(tmp_path / "in the drawer")

    def away_is_seen() -> bool:
        scene.desk.ledger.refresh()
        return not scene.desk.ledger.disks[-1].here

    wait_until(away_is_seen, 20, "the disk is seen to be away")
    here, away = scene.desk.ledger.disks
    assert (here.name, here.here, away.name, away.here) == ("disk A", True, "disk B", False)
    assert away.where == f"not here now; was {tmp_path / 'B'}"


def test_the_search_narrows_the_list(scene: Scene, drone: Path, camcorder: Path) -> None:
    scene.offloaded(drone, "r1")
    scene.offloaded(camcorder, "r2")
    ledger = scene.desk.ledger
    assert len(ledger.entries) == 2
    ledger.search("DRON0002")
    assert ([entry.card for entry in ledger.entries], ledger.searching) == (["Drone"], True)
    assert len(ledger.disks) == 2
    ledger.search("nobody")
    assert ledger.entries == []
    ledger.search("")
    assert len(ledger.entries) == 2


def test_the_list_waits_for_no_search_and_claims_nothing_meanwhile(
    scene: Scene, drone: Path, camcorder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    scene.offloaded(drone, "r1")
    scene.offloaded(camcorder, "r2")
    ledger = scene.desk.ledger
    asked: list[tuple[Callable[[], Any], Callable[[Any], None]]] = []
    monkeypatch.setattr(scene.desk.station, "in_background", lambda work, then: asked.append((work, then)))

    def answer() -> None:
        work, then = asked.pop(0)
        then(work())

    for words in ("DRON", "DRON0", "DRON0002"):
        ledger.search(words)
    # Three keys, and the ledger is asked once; what was shown stays, and that nothing matches is not said.
    assert (len(asked), len(ledger.entries), ledger.is_looking) == (1, 2, True)
    answer()
    assert (len(asked), len(ledger.entries), ledger.is_looking) == (1, 2, True)
    answer()
    assert (asked, [entry.card for entry in ledger.entries], ledger.is_looking) == ([], ["Drone"], False)
    ledger.search("nobody")
    ledger.search("")
    assert (len(ledger.entries), ledger.is_looking) == (2, False)
    answer()
    assert (len(ledger.entries), asked) == (2, [])


def test_what_could_not_be_searched_is_not_called_without_a_match(
    scene: Scene, drone: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    held = LedgerError("Another program holds the ledger.", do="Close it.")
    with monkeypatch.context() as patched:
        patched.setattr(scene.desk.station, "in_background", lambda _work, then: then(held))
        ledger.search("DRON")
    assert (len(ledger.entries), ledger.is_looking) == (1, False)
    assert ledger.message.startswith("The ledger could not be searched. Another program holds the ledger.")
    ledger.search("nobody")
    assert (ledger.entries, ledger.message) == ([], "")


def test_a_search_leaves_the_count_on_the_rail_alone(scene: Scene, drone: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    ledger.refresh()
    ledger.read_all()
    assert ledger.summary() == "1 waybill"
    ledger.search("nothing like it")
    assert (ledger.entries, ledger.summary()) == ([], "1 waybill")


def test_a_ledger_that_cannot_be_read_keeps_what_is_shown_and_says_so(scene: Scene, drone: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    for before, after in (("waybills", "gone"), ("gone", "waybills")):
        with scene.ledger.session() as session:
            session.execute(text(f"ALTER TABLE {before} RENAME TO {after}"))
        ledger.refresh()
        assert len(ledger.entries) == 1
        assert ledger.message.startswith("The ledger could not be read anew") is (after == "gone")


def test_checks_fall_due_and_are_asked_for_once(scene: Scene, drone: Path, tmp_path: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    now = datetime.now(UTC)
    assert ledger.check_due(now + timedelta(days=1000)) == 0
    ledger.set_check_every_days(90)
    ledger.refresh()
    assert ledger.check_every_days == 90
    assert ledger.check_due(now + timedelta(days=89)) == 0
    with scene.ledger.session() as session:
        session.execute(update(CopyRow).values(verified=now - timedelta(days=91)))
    (tmp_path / "B").rename(tmp_path / "in the drawer")
    # What is not here cannot be read; what waits already is not asked for twice.
    scene.written()
    ledger.refresh()
    # A disk that does not answer at once is asked at the next look.
    wait_until(lambda: ledger.check_due(now) == 1, 60, "one copy is due")
    assert ledger.check_due(now) == 0
    assert scene.runner.last("verify").request.root.is_relative_to(tmp_path / "A")
    scene.carried_out("verify")
    assert ledger.check_due(now) == 0
    assert "as it was" in ledger.message


def test_a_check_that_finds_damage_says_so_on_the_copy(scene: Scene, drone: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    ledger.select(0)
    root = Path(ledger.entries[0].copies[0].root)
    (root / "DCIM/100DRONE/DRON0001.MP4").unlink()
    assert ledger.check_copies() == 2
    job = next(job for job in scene.runner.added if job.kind == "verify" and job.request.root == root)
    scene.tell(job, State.DONE, perform_verify(job.request, Watch()))
    ledger.select(0)
    detail = ledger.detail()
    assert detail is not None
    assert detail.copies[0][0] is Mark.PROBLEM
    assert "1 missing" in detail.copies[0][1]
    assert ledger.texts(0)[5:] == ("1 of 2, 1 disk", "today", "no, on 1 of 2 disks")
    assert "not as it was" in ledger.message


def test_copies_are_copied_on_fetched_and_brought_level(scene: Scene, drone: Path, tmp_path: Path) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    ledger.select(0)
    ledger.copy_on(tmp_path / "C")
    scene.carried_out("copy on")
    assert ledger.texts(0)[5] == "3 of 3, 3 disks" or ledger.entries[0].proven == 3
    assert ledger.message.endswith("1 of 1 copy proven.")
    ledger.restore("DRON0003.MP4", tmp_path / "desk")
    scene.carried_out("restore")
    assert (tmp_path / "desk/DCIM/100DRONE/DRON0003.MP4").exists()
    assert "read back and matched" in ledger.message
    ledger.restore("nobody's.MP4", tmp_path / "desk")
    assert ledger.message.startswith("No proven copy of nobody's.MP4")
    next((tmp_path / "B").rglob("DRON0002.MP4")).unlink()
    ledger.level(tmp_path / "A", tmp_path / "B")
    scene.carried_out("level")
    assert ledger.message == "Bring A and B level: 0 copies made, 1 file fetched."


def test_footage_is_taken_in_and_the_ledger_filled_from_manifests(
    scene: Scene, small_card: Path, tmp_path: Path
) -> None:
    ledger = scene.desk.ledger
    ledger.take_in(small_card)
    scene.carried_out("take in")
    assert [entry.card for entry in ledger.entries] == ["card"]
    assert ledger.texts(0)[5] == "1 of 1, 1 disk"
    other = Scene(tmp_path / "other")
    try:
        other.desk.ledger.rebuild(small_card.parent)
        other.carried_out("rebuild")
        # Nothing was read for it: it is listed, and proven only when it is read back.
        assert [entry.proven for entry in other.desk.ledger.entries] == [0]
        assert [entry.copies[0].status for entry in other.desk.ledger.entries] == [CopyState.LISTED]
        assert other.desk.ledger.message.endswith("1 copy came into the ledger.")
    finally:
        other.close()


def test_cards_with_too_few_copies_are_shown_alone(scene: Scene, drone: Path, camcorder: Path, tmp_path: Path) -> None:
    scene.offloaded(drone, "r1")
    scene.desk.cards.remove_place(tmp_path / "B")
    scene.offloaded(camcorder, "r2")
    ledger = scene.desk.ledger
    assert len(ledger.entries) == 2
    ledger.show_only_wanting(True)
    assert [entry.card for entry in ledger.entries] == ["Keeper's camcorder"]
    assert len(ledger.disks) == 2
    ledger.show_only_wanting(False)
    assert len(ledger.entries) == 2


def test_what_a_disk_holds_is_found_by_its_row(scene: Scene, drone: Path, camcorder: Path, tmp_path: Path) -> None:
    scene.offloaded(drone, "r1")
    scene.desk.cards.remove_place(tmp_path / "B")
    scene.offloaded(camcorder, "r2")
    ledger = scene.desk.ledger
    by_name = {row.name: row for row in ledger.disks}
    ledger.search(by_name["disk B"].search)
    assert [entry.card for entry in ledger.entries] == ["Drone"]


def test_the_machines_load_is_told(scene: Scene) -> None:
    words = scene.desk.work.load()
    assert words.startswith("Processor ")
    assert "memory" in words
    assert scene.desk.work.load() == words
