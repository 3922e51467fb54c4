"""The one glance before the start: what it shows is what will be done."""

from __future__ import annotations

import os
import shutil
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from diadoche.core.watch import Watch
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.ledger.kept_clips import kept_clips
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.queue.states import State
from diadoche.services.station.card_in import CameraSettings, CardChoices, Stage
from tests.screens.scene import Scene


@pytest.fixture
def more(drone: Path, tmp_path: Path) -> Path:
    """The drone's card with a clip more, as it comes back from the second flight."""
    card = tmp_path / "again/Drone"
    shutil.copytree(drone, card)
    clip = card / "DCIM/100DRONE/DRON0009.MP4"
    shutil.copy2(card / "DCIM/100DRONE/DRON0002.MP4", clip)
    os.utime(clip, (1_781_500_000, 1_781_500_000))
    return card


def test_it_shows_every_target_and_what_will_be_made(
    scene: Scene, drone: Path, camcorder: Path, tmp_path: Path
) -> None:
    scene.listed(drone, "r1")
    scene.listed(camcorder, "r2")
    glance = scene.desk.cards.glance.glance()
    assert glance.shoot == "Rock"
    assert [card.name for card in glance.cards] == ["Drone", "Keeper's camcorder"]
    assert glance.cards[0].folder == "Rock/Originals/2026-06-14/Drone/card-001"
    assert "3 clips" in glance.cards[0].words
    assert [place.name for place in glance.places] == ["A", "B"]
    assert str(tmp_path / "A") in glance.places[0].words
    assert "disk A" in glance.places[0].words
    assert glance.advice == ()
    assert glance.can_start
    assert glance.wait == "How long it takes is measured while it runs."
    assert "ProRes" in glance.made
    scene.desk.cards.glance.start()
    assert [job.kind for job in scene.runner.added].count("offload") == 2


def test_a_pattern_is_shown_on_the_real_card_and_nonsense_is_not_taken(scene: Scene, drone: Path) -> None:
    scene.listed(drone)
    screen = scene.desk.cards.glance
    screen.name_folders("{day} {camera}")
    assert screen.glance().cards[0].folder == "2026-06-14 Drone/card-001"
    screen.name_folders("{day} {nonsense}")
    assert "nonsense" in screen.naming_problem
    assert screen.folders == "{day} {camera}"
    screen.name_folders("{shoot}/{camera}")
    assert screen.naming_problem == ""
    assert "{camera}: the camera's name" in screen.tokens


def test_places_that_hinder_and_places_on_one_disk_are_said(
    scene: Scene, drone: Path, small_disk: Path, tmp_path: Path
) -> None:
    (small_disk / "full").write_bytes(bytes(7_000_000))
    scene.desk.cards.add_place(small_disk)
    scene.listed(drone)
    glance = scene.desk.cards.glance.glance()
    (place,) = [place for place in glance.places if place.hindered]
    assert "free; this card needs" in place.words
    assert glance.can_start
    for path in (tmp_path / "A", tmp_path / "B"):
        scene.desk.cards.remove_place(path)
    assert not scene.desk.cards.glance.glance().can_start


def test_only_the_new_by_one_key_and_the_whole_again_on_purpose(scene: Scene, drone: Path, more: Path) -> None:
    scene.station.pulled_out(scene.offloaded(drone))
    key = scene.listed(more)
    screen = scene.desk.cards.glance
    screen.begin()
    (card,) = screen.glance().cards
    assert card.is_partly_known
    assert card.new_only
    assert card.new_words == "Only what is new: 1 of 11 files"
    assert "1 of 11 files new" in scene.desk.cards.rows()[0].contents
    screen.start()
    outcome = scene.carried_out()
    assert [file.path for file in outcome.result.kept] == ["DCIM/100DRONE/DRON0009.MP4"]
    assert any("10 files" in problem.what for problem in outcome.result.skipped)
    row = scene.desk.cards.rows()[0]
    assert row.kept.startswith("Both copies are proven")
    # Most of it was only recognised by names, sizes and times: nobody says that the camera may format it.
    assert "read it to be sure" in row.advice
    assert row.can_recognise
    scene.desk.cards.recognise(key)
    scene.carried_out("recognise")
    assert scene.station.cards[key].stage is Stage.PROVEN
    assert "may format it" in scene.desk.cards.rows()[0].advice
    screen.set_new_only(key, False)
    scene.desk.cards.offload_whole(key)
    assert len(scene.carried_out().result.kept) == 11


def test_stills_can_be_left_out_on_purpose_and_the_waybill_says_so(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    screen = scene.desk.cards.glance
    assert screen.glance().cards[0].stills == 1
    screen.set_stills_left_out(key, True)
    assert screen.glance().cards[0].stills_left_out
    screen.start()
    outcome = scene.carried_out()
    root = Path(outcome.result.copies[0].root)
    assert (root / "DCIM/100DRONE").is_dir()
    assert not list(root.rglob("*.JPG"))
    assert any("still" in problem.what for problem in outcome.result.skipped)


def test_a_name_of_ones_own_is_remembered_with_the_card(scene: Scene, drone: Path, more: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.glance.name_card(key, "  North tower ")
    assert scene.station.cards[key].name == "North tower"
    assert scene.desk.cards.glance.glance().cards[0].folder.endswith("North tower/card-001")
    scene.station.pulled_out(key)
    # The same card with more on it, under another label and in another reader.
    assert scene.station.cards.get(key) is None
    scene.listed(more, "r5")
    assert scene.station.cards["r5"].name == "North tower"


def test_a_cameras_folders_are_remembered_in_its_shoot_and_the_nearest_wins(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    card = scene.station.cards[key].card
    assert card is not None
    assert card.camera
    scene.station.name_folders(key, "{shoot}/Air/{day}")
    assert scene.station.remembered_for(key) == CameraSettings("", "{shoot}/Air/{day}")
    assert scene.desk.cards.glance.glance().cards[0].folder.startswith("Rock/Air/")
    scene.station.change_shoot(open_shoot(scene.ledger, "Another", scene.station.shoot.settings))
    assert scene.desk.cards.glance.glance().cards[0].folder.startswith("Another/Originals/")


def test_groups_of_a_card_go_to_different_shoots_and_the_copy_lies_once(
    scene: Scene, drone: Path, tmp_path: Path
) -> None:
    other = open_shoot(scene.ledger, "Harbour")
    key = scene.listed(drone)
    card = scene.station.cards[key].card
    assert card is not None
    screen = scene.desk.cards.glance
    assert screen.glance().cards[0].groups == ()
    name = card.clips[-1].name
    scene.station.choose(key, CardChoices(sent=((name, other.id),)))
    screen.start()
    scene.carried_out()
    assert [kept.clip.name for kept in kept_clips(scene.ledger, other.id)] == [name]
    assert name not in [kept.clip.name for kept in kept_clips(scene.ledger, scene.station.shoot.id)]
    assert len(list(tmp_path.rglob("card-0*"))) == 2


def test_two_days_on_one_card_are_two_groups(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    found = scene.station.cards[key]
    assert found.card is not None
    from dataclasses import replace

    start = found.card.clips[0].start or datetime.now().astimezone()
    clips = (*found.card.clips[:-1], replace(found.card.clips[-1], start=start + timedelta(days=1)))
    scene.station.cards[key] = replace(found, card=replace(found.card, clips=clips))
    screen = scene.desk.cards.glance
    groups = screen.glance().cards[0].groups
    assert [group.words.partition(": ")[2] for group in groups] == ["2 clips", "1 clip"]
    other = open_shoot(scene.ledger, "Harbour")
    screen.send(key, groups[1], other.id)
    assert screen.glance().cards[0].groups[1].shoot_id == other.id
    screen.send(key, groups[1], scene.station.shoot.id)
    assert scene.station.cards[key].choices.sent == ()


def test_an_estimate_rests_on_earlier_offloads(scene: Scene, drone: Path, camcorder: Path) -> None:
    scene.offloaded(drone, "r1")
    scene.listed(camcorder, "r2")
    assert "at the speed of the last 1 offload" in scene.desk.cards.glance.glance().wait


def test_reading_twice_is_a_choice_of_the_shoot(scene: Scene, drone: Path) -> None:
    scene.listed(drone)
    screen = scene.desk.cards.glance
    assert not screen.read_twice
    screen.set_read_twice(True)
    assert scene.station.request_for("r1").read_twice
    plan = scene.station.plan("r1")
    assert plan is not None
    assert plan.read_twice


def test_the_room_that_waiting_cards_take_is_counted(scene: Scene, drone: Path, camcorder: Path) -> None:
    scene.listed(drone, "r1")
    scene.listed(camcorder, "r2")
    scene.desk.cards.offload("r1")
    size = scene.station.cards["r1"].card.tree.size_bytes  # type: ignore[union-attr]  # listed above
    assert scene.station.request_for("r2").coming_bytes == size
    scene.tell(scene.runner.last("offload"), State.RUNNING)
    assert perform_list_card(ListCardRequest(drone), Watch()).tree.size_bytes == size


def test_pictures_of_clips_are_looked_at_before_and_copying_ends_that(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    screen = scene.desk.cards.glance
    screen.begin()
    # The card is read for them, and the window says so.
    assert scene.station.cards[key].stage is Stage.PICTURING
    assert scene.desk.watch_line().first == "Leave the card in."
    assert scene.desk.cards.rows()[0].may_come_out == "Leave it in"
    assert [clip.picture for clip in screen.glance().cards[0].clips] == [b"", b"", b""]
    scene.carried_out("pictures")
    clips = screen.glance().cards[0].clips
    assert (clips[0].name, clips[0].picture[:2]) == ("DRON0001", b"\xff\xd8")
    assert clips[0].length
    assert clips[0].began.startswith("14 June 2026")
    assert scene.desk.watch_line().first == "The card is not copied yet."
    screen.begin()
    assert [job.kind for job in scene.runner.added].count("pictures") == 1


def test_an_offload_does_not_wait_for_pictures(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    screen = scene.desk.cards.glance
    screen.begin()
    looking = scene.runner.last("pictures")
    screen.start()
    assert scene.runner.stopped == [looking.number]
    assert scene.station.cards[key].stage is Stage.WAITING
    scene.tell(looking, State.STOPPED)
    assert scene.station.cards[key].stage is Stage.WAITING
    scene.carried_out()
    assert scene.station.cards[key].stage is Stage.PROVEN


def test_the_growth_of_outputs_is_counted_in_the_first_place(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.glance.begin()
    pictures = scene.carried_out("pictures")
    # Two clips are converted: far larger than the card they come from.
    assert pictures.outputs_bytes > 10_000_000
    assert scene.station.request_for(key).outputs_bytes == pictures.outputs_bytes
    assert "That may take" in scene.desk.cards.glance.glance().made


def test_a_cameras_own_folders_are_set_on_the_sheet(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    screen = scene.desk.cards.glance
    assert "nonsense" in screen.name_own_folders(key, "{nonsense}")
    assert screen.glance().cards[0].own_folders == ""
    assert screen.name_own_folders(key, "{shoot}/Air") == ""
    assert screen.glance().cards[0].folder == "Rock/Air/card-001"
    screen.name_own_folders(key, "")
    assert screen.glance().cards[0].folder.startswith("Rock/Originals")


def test_what_each_folder_is_for_is_told(scene: Scene, drone: Path) -> None:
    scene.listed(drone)
    lines = scene.desk.cards.glance.glance().cards[0].purposes.splitlines()
    assert lines[0] == "DCIM: Where cameras put what they record."
    assert lines[1].startswith("DCIM/100DRONE: One folder of recordings")
