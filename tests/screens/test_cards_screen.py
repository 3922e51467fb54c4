"""The crossing board's rules: pause, unattended, known cards, drops, shoots, and what the desktop is told."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from diadoche.core.errors import Problem
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.journal import Journal
from diadoche.core.open_folder import OpenFolder
from diadoche.core.watch import Part, Progress, Watch
from diadoche.screens.attendant import Attendant
from diadoche.screens.glance import GlanceScreen
from diadoche.screens.marks import Mark
from diadoche.screens.results import done_words, format_words
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import perform_offload
from diadoche.services.ledger.happenings import happenings, note_happening
from diadoche.services.queue.states import State
from diadoche.services.station.card_in import Stage
from tests.screens.scene import Scene
from tests.snapshots import flip_unsampled


def test_pause_and_go_on_are_offered_while_it_crosses(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    assert not scene.desk.cards.rows()[0].can_pause
    scene.desk.cards.offload(key)
    scene.tell(scene.runner.last("offload"), State.RUNNING)
    assert scene.desk.cards.rows()[0].can_pause
    scene.desk.cards.pause(key, paused=True)
    row = scene.desk.cards.rows()[0]
    assert (row.can_pause, row.can_resume) == (False, True)
    assert row.kept.startswith("Paused.")
    # A card that is paused is still in use.
    assert row.may_come_out == "Leave it in"
    assert scene.desk.watch_line().mark is Mark.UNDER_WAY
    scene.desk.cards.pause(key, paused=False)
    assert scene.desk.cards.rows()[0].can_pause


def test_a_reader_that_gives_nothing_is_named(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    scene.runner.silent_s[job.number] = 42.0
    row = scene.desk.cards.rows()[0]
    assert row.remark == "Nothing has come from Reader 1 for 42 s."
    assert "another reader" in row.advice


def test_a_place_that_gives_no_answer_is_named_and_its_reader_is_not(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    parts = (Part("Shuttle A", 5, 5, 10), Part("Shuttle B", 5, 0, 10, "silent", 17.2))
    scene.runner.shown[job.number] = Progress(15, 40, "copying", parts)
    row = scene.desk.cards.rows()[0]
    assert row.remark == "Shuttle B has not answered for 17 s."
    assert "left behind" in row.advice
    assert scene.desk.watch_line().first == "Leave the card in."


def test_unattended_starts_a_card_that_goes_in_and_asks_nothing(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path, unattended=True)
    try:
        scene.listed(drone)
        assert scene.station.cards["r1"].stage is Stage.WAITING
        assert scene.desk.watch_line().first == "Leave the card in."
        scene.carried_out()
        assert scene.desk.watch_line().first == "The card can come out."
        scene.station.pulled_out("r1")
        scene.listed(drone)
        # All of it is proven by names, sizes and times: it is read to be sure, not copied again.
        assert scene.station.cards["r1"].stage is Stage.COMPARING
        scene.carried_out("recognise")
        assert scene.station.cards["r1"].stage is Stage.PROVEN
        assert [job.kind for job in scene.runner.added].count("offload") == 1
    finally:
        scene.close()


def test_unattended_leaves_folders_alone_and_can_be_switched(tmp_path: Path, drone: Path) -> None:
    scene = Scene(tmp_path)
    try:
        assert not scene.desk.cards.unattended
        scene.desk.cards.set_unattended(True)
        assert scene.desk.cards.unattended
        scene.desk.cards.sources.open_folder(drone)
        scene.tell(scene.runner.last("look"), State.DONE, perform_list_card(ListCardRequest(drone), Watch()))
        assert scene.station.cards[str(drone)].stage is Stage.LISTED
    finally:
        scene.close()


def test_a_card_with_another_content_under_the_same_names_is_not_called_kept(
    scene: Scene, drone: Path, tmp_path: Path
) -> None:
    scene.station.pulled_out(scene.offloaded(drone))
    twin = tmp_path / "twin/Drone"
    shutil.copytree(drone, twin)
    victim = twin / "DCIM/100DRONE/DRON0001.MP4"
    flip_unsampled(victim)
    key = scene.listed(twin)
    assert scene.desk.cards.rows()[0].can_recognise
    assert "not read again" in scene.desk.watch_line().second
    assert scene.desk.watch_line().mark is Mark.EXPECTED
    scene.desk.cards.recognise(key)
    assert scene.desk.watch_line().first == "Leave the card in."
    scene.carried_out("recognise")
    row = scene.desk.cards.rows()[0]
    assert "another content" in row.remark
    assert row.mark is not Mark.PROVEN
    assert row.can_offload


@pytest.mark.usefixtures("known_disk")
def test_what_is_not_whole_is_completed_from_a_good_copy(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    outcome = perform_offload(job.request, Watch())
    lost = Path(outcome.result.copies[1].root)
    (lost / "DCIM/100DRONE/DRON0001.MP4").unlink()
    for manifest in (lost / "ascmhl").iterdir():
        manifest.unlink()
    (lost / "ascmhl").rmdir()
    half = Journal(lost, outcome.fingerprint, identity=outcome.result.copies[1].identity)
    with OpenFolder.at(lost) as folder:
        half.begin(folder)
        half.close(whole=False)
    copies = (outcome.result.copies[0], replace(outcome.result.copies[1], status=CopyState.FAILED))
    scene.tell(job, State.DONE, replace(outcome, result=replace(outcome.result, copies=copies, whole=True)))
    row = scene.desk.cards.rows()[0]
    assert (row.mark, row.can_complete) == (Mark.PROBLEM, True)
    scene.station.complete(key)
    request = scene.runner.last("copy on").request
    assert request.root == Path(copies[0].root)
    scene.carried_out("copy on")
    row = scene.desk.cards.rows()[0]
    assert row.mark is Mark.PROVEN
    assert row.advice == "The camera may format it: it is on 2 disks."
    scene.desk.cards.shoots.want_copies(3)
    assert scene.desk.cards.rows()[0].advice == "Not to be formatted yet: it is on 2 disks, the shoot wants 3."
    assert scene.desk.undo.take_back() == "the shoot wants 2 disks"
    assert scene.desk.cards.rows()[0].advice == "The camera may format it: it is on 2 disks."
    assert scene.desk.ledger.entries[0].proven == 2


def test_a_drop_says_how_many_came_and_what_was_refused(scene: Scene, drone: Path, tmp_path: Path) -> None:
    place = tmp_path / "A"
    place.mkdir()
    said: list[str] = []
    scene.desk.cards.sources.dropped(
        [drone / "DCIM", drone / "DCIM/100DRONE/DRON0001.MP4", tmp_path / "no", place], said.append
    )
    assert said.pop() == "2 folders came. Refused: no is not there; A holds a place for copies."
    assert len(scene.station.cards) == 2
    scene.written()
    assert scene.desk.cards.sources.earlier()[0] == str(drone / "DCIM/100DRONE")
    scene.desk.cards.sources.dropped([], said.append)
    assert said == ["Nothing came."]


def test_a_disk_that_copies_go_to_is_no_card(scene: Scene, tmp_path: Path) -> None:
    scene.station.put_in(Medium("m", tmp_path, "Shuttle", "usb"))
    assert scene.station.cards == {}


def test_letting_out_is_offered_only_when_nothing_reads(scene: Scene, drone: Path) -> None:
    asked: list[str] = []
    scene.desk.cards.let_out = asked.append
    key = scene.listed(drone)
    assert scene.desk.cards.rows()[0].can_eject
    scene.desk.cards.offload(key)
    assert not scene.desk.cards.rows()[0].can_eject
    scene.desk.cards.eject(key)
    assert asked == []
    scene.carried_out()
    scene.desk.cards.eject(key)
    assert asked == [key]


def test_a_new_shoot_starts_with_the_settings_of_this_one(scene: Scene, drone: Path) -> None:
    cards = scene.desk.cards
    cards.set_unattended(True)
    assert cards.shoots.go_to(" ") == "A shoot needs a name."
    assert cards.shoots.go_to("Day 2") == ""
    assert (cards.shoots.name, cards.unattended) == ("Day 2", True)
    cards.set_unattended(False)
    assert [shoot.name for shoot in cards.shoots.all()] == ["Day 2", "Rock"]
    key = scene.listed(drone)
    cards.offload(key)
    assert "being read" in cards.shoots.go_to("Rock")
    assert cards.shoots.name == "Day 2"
    scene.carried_out()
    assert cards.shoots.go_to("Rock") == ""
    assert cards.unattended
    assert scene.desk.footage.clips == []


class Told:
    def __init__(self, scene: Scene) -> None:
        self.held: list[bool] = []
        self.shown: list[tuple[str, str]] = []
        Attendant(scene.station, hold=self.held.append, show=lambda title, text: self.shown.append((title, text)))


def test_the_desktop_is_told_of_a_card_and_of_its_end_once(scene: Scene, drone: Path) -> None:
    told = Told(scene)
    scene.offloaded(drone)
    assert told.held[0] is True
    assert told.held[-1] is False
    first_false = told.held.index(False)
    assert set(told.held[:first_false]) == {True}
    titles = [title for title, _text in told.shown]
    assert titles == ["Drone is in", "Drone: 2 of 2 copies proven"]
    text = told.shown[1][1]
    for words in ("3 clips", "10 files", "4.3 MB", "Filmed 14 June 2026"):
        assert words in text
    scene.station.change_shoot(scene.station.shoot)
    assert len(told.shown) == 2


def test_a_card_pulled_too_early_is_told(scene: Scene, drone: Path) -> None:
    told = Told(scene)
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    scene.station.pulled_out(key)
    assert told.held[-1] is False
    assert told.shown[-1][0] == "Drone was pulled out while it was being read."


def test_the_words_of_formatting_follow_the_disks(scene: Scene, drone: Path) -> None:
    key = scene.offloaded(drone)
    card = scene.station.cards[key]
    assert format_words(card, 2) == "The camera may format it: it is on 2 disks."
    assert format_words(card, 3) == "Not to be formatted yet: it is on 2 disks, the shoot wants 3."
    assert format_words(replace(card, stage=Stage.PARTLY), 2) == ""
    remark = replace(card, problem=Problem("The last picture does not decode.", "", "", ""))
    assert done_words(remark)[1].endswith("The last picture does not decode.")


@pytest.mark.parametrize("kind", ["put in", "begun", "proven"])
def test_what_happened_can_be_read_in_order(scene: Scene, drone: Path, kind: str) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    scene.written()
    ledger.refresh()
    kinds = [each.kind for each in ledger.happened]
    assert kinds == ["proven", "begun", "put in"]
    assert kind in kinds
    assert ledger.unread() == 3
    assert ledger.summary() == "3 new in the log"
    ledger.read_all()
    assert ledger.unread() == 0
    assert ledger.summary() == "1 waybill"


def test_what_was_read_stays_read_while_the_ledger_does_not_take_it(
    scene: Scene, drone: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    scene.offloaded(drone)
    ledger = scene.desk.ledger
    scene.written()
    ledger.refresh()
    waiting: list[Callable[[], None]] = []
    monkeypatch.setattr(scene.ledger.writer, "do", waiting.append)
    ledger.read_all()
    ledger.refresh()
    assert ledger.unread() == 0
    note_happening(scene.ledger, "note", "meanwhile")
    ledger.read_happened()
    assert ledger.unread() == 1
    for write in waiting:
        write()
    assert [each.seen for each in happenings(scene.ledger)] == [False, True, True, True]


def test_a_clock_at_odds_with_the_shoot_is_pointed_out_before_the_start(
    scene: Scene, drone: Path, camcorder: Path
) -> None:
    scene.offloaded(drone, "r1")
    scene.listed(camcorder, "r2")
    action = Path(drone).parent / "Supply boat bow"
    scene.station.put_in(Medium("r3", action, "Boat", "Reader 3"))
    found = perform_list_card(ListCardRequest(action), Watch())
    early = tuple(replace(clip, start=clip.start.replace(year=2019)) for clip in found.clips if clip.start is not None)
    scene.tell(scene.runner.last("look"), State.DONE, replace(found, clips=early))
    # The drone's times are the ledger's, its card that is still in is no second witness.
    words = "Its clock may be wrong: it says 14 June 2019, the 2 other cards of this shoot 14 June 2026."
    assert [row.remark == words for row in scene.desk.cards.rows()] == [False, False, True]
    assert any(words in each for each in GlanceScreen(scene.station, scene.ledger).glance().advice)
    assert scene.station.clock_remark("r1") == scene.station.clock_remark("r2") == ""


def test_the_cards_of_a_rig_stand_as_one_set_and_what_needs_a_person_stands_first(
    scene: Scene, demo_cards: dict[str, Path], drone: Path
) -> None:
    scene.listed(drone, "r0")
    for number in (2, 1, 3):
        scene.listed(demo_cards[f"Gallery lens {number}"], f"r{number}")
    alone, rig = scene.desk.cards.groups()
    assert (alone.title, [row.name for row in alone.rows]) == ("", ["Drone"])
    assert rig.title == "Gallery"
    assert rig.words == "3 of 6 lenses; without lens 4 and 5 and 6 · 2 takes"
    assert rig.lacks
    assert [(row.name, row.short_name) for row in rig.rows] == [
        (f"Gallery lens {number}", f"Lens {number}") for number in (1, 2, 3)
    ]
    # What the set lacks is said of the set, and of none of its cards.
    assert [row.remark for row in rig.rows] == ["", "", ""]
    scene.desk.cards.offload("r3")
    scene.tell(scene.runner.last("offload"), State.RUNNING)
    scene.station.pulled_out("r3")
    first, *_, rig = scene.desk.cards.groups()
    assert [row.name for row in first.rows] == ["Gallery lens 3"]
    assert first.is_urgent
    assert rig.words.startswith("2 of 6 lenses")


def test_a_card_that_needs_a_person_is_named_beside_the_button_while_others_run(
    scene: Scene, drone: Path, demo_cards: dict[str, Path]
) -> None:
    for key, card in (("r0", drone), ("r1", demo_cards["Shore"])):
        scene.listed(card, key)
        scene.desk.cards.offload(key)
        scene.tell(scene.runner.last("offload"), State.RUNNING)
    assert scene.desk.cards.offload_hint() == "Nothing to do for you: it runs."
    scene.station.pulled_out("r0")
    assert scene.desk.cards.offload_hint() == "Drone: see above. The rest runs."
