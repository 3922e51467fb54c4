"""What the screens show and allow, without a screen: a station with real values and a runner that only notes."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import replace
from importlib import resources
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from diadoche.core.errors import DiadocheError, Problem, RequestError
from diadoche.core.identify.probe import identify
from diadoche.core.offload.copies import CopyState
from diadoche.core.watch import Part, Progress, Watch
from diadoche.screens.cards import CardsScreen
from diadoche.screens.marks import Mark
from diadoche.screens.output_rows import GroupRow
from diadoche.screens.watch_line import watch_line
from diadoche.services.devices.disk_watch import Medium
from diadoche.services.jobs.identify import perform_identify
from diadoche.services.jobs.list_card import ListCardRequest, perform_list_card
from diadoche.services.jobs.offload import perform_offload
from diadoche.services.ledger.known_copies import Familiar
from diadoche.services.ledger.shoots import open_shoot
from diadoche.services.queue.states import State
from diadoche.services.station.card_in import CardIn, Stage
from tests.screens.scene import Scene, texts


def test_the_watch_line_through_a_whole_offload(scene: Scene, drone: Path) -> None:
    def line() -> tuple[Mark, str]:
        now = scene.desk.watch_line()
        return now.mark, now.first

    assert line() == (Mark.EXPECTED, "No card is in.")
    scene.station.put_in(Medium("r1", drone, "Drone", "Reader 1"))
    # Before anything of the card was read.
    assert line() == (Mark.UNDER_WAY, "Leave the card in.")
    scene.tell(scene.runner.last("look"), State.DONE, perform_list_card(ListCardRequest(drone), Watch()))
    assert line() == (Mark.EXPECTED, "The card is not copied yet.")
    assert scene.desk.watch_line().second == "Nothing is reading it."
    scene.desk.cards.offload_all()
    assert line() == (Mark.UNDER_WAY, "Leave the card in.")
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    assert line() == (Mark.UNDER_WAY, "Leave the card in.")
    scene.tell(job, State.DONE, perform_offload(job.request, Watch()))
    assert line() == (Mark.PROVEN, "The card can come out.")
    assert scene.desk.watch_line().second == "Proven in two places."


def test_a_card_pulled_while_read_stays_on_show_and_needs_a_person(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    scene.tell(scene.runner.last("offload"), State.RUNNING)
    scene.station.pulled_out(key)
    assert scene.runner.stopped == [scene.runner.last("offload").number]
    row = scene.desk.cards.rows()[0]
    assert (row.mark, row.may_come_out, row.can_dismiss) == (Mark.PROBLEM, "Pulled out", True)
    assert "goes on where it stopped" in row.advice
    assert scene.desk.watch_line().mark is Mark.PROBLEM
    scene.desk.cards.dismiss(key)
    assert scene.desk.cards.rows() == []


def test_news_of_an_older_job_does_not_reach_a_card_that_was_put_in_again(scene: Scene, drone: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    old = scene.runner.last("offload")
    scene.tell(old, State.RUNNING)
    scene.station.pulled_out(key)
    scene.listed(drone)
    scene.tell(old, State.STOPPED)
    assert scene.desk.cards.rows()[0].mark is Mark.EXPECTED
    assert scene.desk.cards.rows()[0].can_offload


def test_an_offload_left_over_from_an_earlier_run_keeps_the_card_in(scene: Scene, drone: Path) -> None:
    scene.listed(drone)
    left_over = scene.runner.add("offload", "Offload", "card:x", scene.station.request_for("r1"))
    scene.tell(scene.runner.added[left_over - 1], State.RUNNING)
    assert scene.desk.watch_line().first == "Leave the card in."
    scene.tell(scene.runner.last("look"), State.DONE, perform_list_card(ListCardRequest(drone), Watch()))
    assert scene.desk.watch_line().first == "Leave the card in."


def test_a_card_that_nobody_reads_may_be_pulled_silently(scene: Scene, drone: Path) -> None:
    scene.station.pulled_out(scene.listed(drone))
    assert scene.desk.cards.rows() == []


def test_a_copy_that_is_not_proven_never_looks_done(scene: Scene, drone: Path, tmp_path: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    outcome = perform_offload(job.request, Watch())
    copies = (outcome.result.copies[0], replace(outcome.result.copies[1], status=CopyState.FAILED))
    scene.tell(job, State.DONE, replace(outcome, result=replace(outcome.result, copies=copies)))
    row = scene.desk.cards.rows()[0]
    assert (row.mark, row.kept) == (Mark.PROBLEM, "1 of 2 copies proven")
    marks = [ribbon.mark for ribbon in scene.desk.cards.ribbons()]
    assert marks == [Mark.PROVEN, Mark.PROBLEM]
    assert scene.desk.watch_line().mark is Mark.PROBLEM


def test_ribbons_follow_copying_and_reading_back(scene: Scene, drone: Path, tmp_path: Path) -> None:
    key = scene.listed(drone)
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    scene.tell(job, State.RUNNING)
    parts = (Part(str(tmp_path / "A"), 50, 20, 100), Part(str(tmp_path / "B"), 100, 0, 100, "dropped"))
    scene.runner.shown[job.number] = Progress(170, 400, "", parts)
    one, other = scene.desk.cards.ribbons()
    assert (one.copied, one.proven, one.mark) == (0.5, 0.2, Mark.UNDER_WAY)
    assert (other.copied, other.mark) == (1.0, Mark.PROBLEM)
    assert scene.desk.cards.rows()[0].kept == "Copying: 50 bytes of 100 bytes"


def test_a_known_card_says_so(scene: Scene, drone: Path) -> None:
    scene.station.pulled_out(scene.offloaded(drone))
    scene.listed(drone)
    assert "proven before" in scene.desk.cards.rows()[0].contents


def test_nothing_is_offered_that_cannot_be_done(scene: Scene, drone: Path, tmp_path: Path) -> None:
    cards = scene.desk.cards
    assert not cards.can_offload_any
    for place in (tmp_path / "A", tmp_path / "B"):
        cards.remove_place(place)
    assert cards.is_first_start
    key = scene.listed(drone)
    assert not cards.can_offload_any
    assert cards.offload_hint() == "Add a place for copies first."
    cards.add_place(tmp_path / "C")
    with pytest.raises(RequestError, match="already"):
        cards.add_place(tmp_path / "C")
    assert cards.can_offload_any
    cards.offload(key)
    assert not cards.can_offload_any
    assert cards.rows()[0].can_stop


def test_a_place_inside_the_card_is_refused_on_the_card(scene: Scene, tmp_path: Path) -> None:
    card = tmp_path / "card"
    (card / "DCIM/100ABCDE").mkdir(parents=True)
    (card / "DCIM/100ABCDE/ABCD0001.JPG").write_bytes(b"x")
    key = scene.listed(card)
    for place in (tmp_path / "A", tmp_path / "B"):
        scene.desk.cards.remove_place(place)
    scene.desk.cards.add_place(card / "copies")
    scene.desk.cards.offload(key)
    job = scene.runner.last("offload")
    with pytest.raises(DiadocheError) as refused:
        perform_offload(job.request, Watch())
    scene.tell(replace(job, problem=refused.value.problem), State.FAILED)
    assert "inside the card" in scene.desk.cards.rows()[0].remark
    assert not (card / "copies").exists()


def test_footage_outputs_and_ledger_follow_an_offload(scene: Scene, camcorder: Path, drone: Path) -> None:
    scene.offloaded(camcorder)
    assert "not looked at yet" in texts(scene.desk.footage, 0)
    look = scene.runner.last("identify")
    scene.tell(look, State.DONE, perform_identify(look.request, Watch()))
    rows = [texts(scene.desk.footage, row) for row in range(len(scene.desk.footage.clips))]
    assert rows[0] == ("Keeper's camcorder", "00000", "08:40:00", "0:06", "1920×1080", "50 fields", "join", "")
    scene.desk.footage.select([0])
    detail = scene.desk.footage.detail()
    assert detail is not None
    assert detail.title == "Join: Keeper's camcorder, 00000"
    assert detail.kept == "Proven in A and B"
    groups = {group.route: group for group in scene.desk.outputs.groups()}
    assert (groups["join"].to_make, groups["rewrap"].to_make) == (1, 2)
    scene.desk.outputs.include("rewrap", included=False)
    assert scene.desk.outputs.to_make() == 1
    assert scene.desk.outputs.make() == 1
    job = scene.runner.last("make")
    assert (job.request.way, job.request.recipe, len(job.request.paths)) == ("rewrap", "mov", 2)
    assert scene.desk.outputs.to_make() == 0
    assert scene.desk.ledger.texts(0)[-1] == "yes"
    scene.desk.ledger.select(0)
    assert scene.desk.ledger.check_copies() == 2


def test_a_recipe_that_cannot_hold_a_clip_is_said_before_the_start(scene: Scene, drone: Path) -> None:
    scene.offloaded(drone)
    look = scene.runner.last("identify")
    scene.tell(look, State.DONE, perform_identify(look.request, Watch()))

    def convert() -> GroupRow:
        return next(group for group in scene.desk.outputs.groups() if group.route == "convert")

    assert convert().warning == ""
    assert convert().size.startswith("about ")
    supplied = resources.files("diadoche.core.convert") / "recipes" / "h264-intra.toml"
    _progressive, interlaced = supplied.read_text("utf-8").split('scan = "progressive"')
    scene.station.own.recipes.folder.mkdir(parents=True)
    (scene.station.own.recipes.folder / "woven.toml").write_text(
        _progressive.replace("h264-intra", "woven").replace("every picture whole", "woven only")
        + interlaced.partition("[[picture.variants]]")[2]
    )
    chooser = scene.desk.outputs.recipe_chooser()
    chooser.choose_named("woven")
    scene.desk.outputs.take(chooser)
    assert convert().recipe == "H.264, woven only"
    assert "H.264, woven only cannot hold 2704×1520 progressive" in convert().warning
    # What it cannot hold is not asked for, and not called to be made.
    outputs = scene.desk.outputs
    assert (convert().to_make, convert().size) == (0, "")
    assert outputs.to_make() == sum(row.to_make for row in outputs.groups())
    assert all("cannot hold" in row.words for row in outputs.clips_of("convert"))
    outputs.include("rewrap", included=False)
    assert outputs.make() == 0
    scene.written()
    assert not any(job.kind == "make" for job in scene.runner.added)
    chooser.choose_named("stills-png")
    scene.desk.outputs.take(chooser)
    assert convert().warning == "Stills in PNG holds no sound."


@pytest.mark.parametrize(
    ("stages", "mark"),
    [
        ([Stage.LISTING], Mark.UNDER_WAY),
        ([Stage.PROVEN, Stage.WAITING], Mark.UNDER_WAY),
        ([Stage.PROVEN, Stage.LISTED], Mark.EXPECTED),
        ([Stage.PROVEN, Stage.PARTLY], Mark.PROBLEM),
        ([Stage.PROBLEM, Stage.CROSSING], Mark.UNDER_WAY),
        ([Stage.PROVEN, Stage.PROVEN], Mark.PROVEN),
    ],
)
def test_no_mixture_of_cards_looks_better_than_its_worst(stages: list[Stage], mark: Mark) -> None:
    cards = [CardIn(Medium(str(n), Path("/x"), f"Card {n}", "r"), stage) for n, stage in enumerate(stages)]
    line = watch_line(cards, 2, None, 0)
    assert line.mark is mark
    assert ("Leave" in line.first) is any(stage.being_read for stage in stages)
    assert ("come out" in line.first) is (mark is Mark.PROVEN)


def test_each_card_reaches_the_sentence_the_most_urgent_first(tmp_path: Path) -> None:
    """One that is not copied, one that was here before, one that is proven."""
    (tmp_path / "A0001.MP4").write_bytes(b"x")
    listed = perform_list_card(ListCardRequest(tmp_path), Watch())
    known = Familiar(0, len(listed.tree.files), frozenset({"A0001.MP4"}), {}, ("A",), "Old", 2)
    drone, old, reel = (Medium(str(n), Path("/x"), name, "r") for n, name in enumerate(("Drone", "Old", "Reel")))
    cards = [
        CardIn(reel, Stage.PROVEN),
        CardIn(old, Stage.LISTED, card=listed, familiar=known, given_name="Old"),
        CardIn(drone, Stage.LISTED, card=listed, given_name="Drone"),
    ]
    line = watch_line(cards, 2, None, 0)
    assert line.first == "One card is not copied yet."
    assert line.second == "Drone; Old was here before; Reel can come out."
    line = watch_line(cards[:2], 2, None, 0)
    assert (line.first, line.second) == ("One card was here before.", "Old is not read again; Reel can come out.")
    line = watch_line([cards[2]] * 4, 2, None, 0)
    assert (line.first, line.second) == ("Four cards are not copied yet.", "Nothing is reading them.")


@given(st.lists(st.sampled_from([stage for stage in Stage if stage is not Stage.COMPARING]), min_size=1, max_size=3))
def test_every_card_is_told_of_by_its_name_or_is_one_of_those_that_are_read(stages: list[Stage]) -> None:
    """However cards are mixed, none is forgotten, and none that is read is said to come out."""
    cards = [CardIn(Medium(str(n), Path("/x"), f"Card {n}", "r"), stage) for n, stage in enumerate(stages)]
    line = watch_line(cards, 2, None, 0)
    told = f"{line.first} {line.second}"
    reading = [card for card in cards if card.stage.being_read]
    for card in cards:
        alike = [other for other in cards if other.stage is card.stage]
        everyone = len(alike) == len(cards) or (card in reading and len(reading) == len(cards))
        counted = card in reading and len(reading) > 2
        assert card.name in told or everyone or counted, told
    for sentence in told.replace(";", ".").split("."):
        if "come out" in sentence:
            assert not any(card.name in sentence for card in cards if card.stage is not Stage.PROVEN), told
            assert "All cards" not in sentence or all(card.stage is Stage.PROVEN for card in cards)
        if sentence.startswith("Leave") and len(reading) < len(cards):
            assert not any(card.name in sentence for card in cards if card not in reading)


def test_a_card_that_stays_in_is_named_beside_those_that_may_come_out() -> None:
    def card(name: str, stage: Stage) -> CardIn:
        return CardIn(Medium(name, Path("/x"), name, "r"), stage)

    cards = [card("Drone", Stage.CROSSING), card("Reel", Stage.PROVEN), card("Lamp", Stage.PARTLY)]
    line = watch_line(cards, 2, None, 0)
    assert line.first == "Leave Drone in."
    assert line.second == "One is being copied and read back. Lamp needs you; Reel can come out."
    line = watch_line(cards[1:], 2, None, 0)
    assert (line.first, line.second) == ("Look at Lamp.", "Reel can come out.")
    broken = replace(card("Mast", Stage.PROBLEM), problem=Problem("It cannot be read.", "", "", ""))
    line = watch_line([broken, cards[2]], 2, None, 0)
    assert (line.first, line.second) == ("Look at Mast and Lamp.", "Mast: It cannot be read.")
    cards = [card("Drone", Stage.CROSSING), card("Keeper", Stage.WAITING), card("Reel", Stage.PROVEN)]
    line = watch_line(cards, 2, None, 0, {"Drone": 31.0})
    assert line.first == "Drone does not answer."
    assert line.second.endswith("try another reader. Leave Keeper in. Reel can come out.")


def test_a_start_loads_no_demo_and_no_library_that_only_some_need() -> None:
    code = (
        "import diadoche.ui.application, sys; "
        "print([name for name in sys.modules if name.startswith('diadoche.demo') "
        "or name in {'opentimelineio', 'cv2', 'scipy', 'alembic'}])"
    )
    done = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True)
    assert done.stdout.strip() == "[]"


def test_screens_and_services_load_without_qt() -> None:
    code = "import diadoche.screens.desk, diadoche.cli.app, diadoche.demo.make, diadoche.services.jobs.all_kinds, sys; sys.exit('PyQt6' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0


def test_the_first_page_proposes_and_takes_a_name(scene: Scene) -> None:
    cards: CardsScreen = scene.desk.cards
    cards.shoots.change_name("  Tern Rock ")
    assert cards.shoots.name == "Tern Rock"
    cards.shoots.change_name(" ")
    # What another one is called it cannot be.
    open_shoot(scene.ledger, "Gull Bay", scene.station.shoot.settings)
    assert "another shoot called Gull Bay" in cards.shoots.change_name("Gull Bay")
    assert cards.shoots.name == "Tern Rock"


def test_a_sphere_that_does_not_say_so_is_told_and_written(scene: Scene, demo_cards: dict[str, Path]) -> None:
    """What the rig stitched itself carries no tags: told by looking, written by a rewrap, the original untouched."""
    scene.offloaded(demo_cards["Gallery stitched"])
    scene.carried_out("identify")
    footage = scene.desk.footage
    first = footage.first_row()
    assert first is not None
    footage.select([first])
    detail = footage.detail()
    assert detail is not None
    assert any("looks like a whole sphere" in words for words in detail.facts)
    assert footage.can_write_sphere
    footage.write_sphere("mono")
    made = scene.carried_out("make")
    assert made.problems == ()
    facts = identify([Path(made.output)])
    assert (facts.projection, facts.spatial, facts.stereo) == ("equirectangular", "present", "mono")
    # What is of a lens, or flat, is no such thing.
    footage.select([])
    assert not footage.can_write_sphere


def test_what_was_chosen_for_one_shoot_is_not_taken_over_by_another(scene: Scene, camcorder: Path) -> None:
    outputs = scene.desk.outputs
    outputs.choose("rewrap", "mp4")
    outputs.include("rewrap", False)
    scene.desk.cards.shoots.go_to("Another")
    scene.offloaded(camcorder)
    look = scene.runner.last("identify")
    scene.tell(look, State.DONE, perform_identify(look.request, Watch()))
    rewrap = next(group for group in outputs.groups() if group.route == "rewrap")
    assert (rewrap.chosen, rewrap.included) == (scene.station.shoot.settings.container, True)
    assert rewrap.chosen != "mp4"
