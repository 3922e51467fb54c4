"""The footage table: columns, order, finding, groups, opinions, comparing; on clips that are really in the ledger."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import pytest
from sqlalchemy import text

from diadoche.core.footage.pace import Pace
from diadoche.core.watch import Watch
from diadoche.screens.browsing import GROUPINGS, SHOWINGS, Browsing, FootageLook, Grouping, Heading
from diadoche.screens.footage import FootageScreen
from diadoche.screens.lines import ALL_COLUMNS, Line
from diadoche.screens.selection import MarkedPart
from diadoche.services.jobs.identify import IdentifiedClip, IdentifyRequest, perform_identify
from diadoche.services.jobs.make_output import perform_make
from diadoche.services.jobs.measure_playback import MeasuredPlayback
from diadoche.services.ledger.kept_clips import record_output
from diadoche.services.ledger.remembered import remember
from diadoche.services.queue.states import State
from tests.screens.scene import Scene, begun_anew, kept_aside, texts


def looked_at(scene: Scene, camcorder: Path, drone: Path) -> None:
    """Both cards offloaded, and their clips looked at."""
    for place, card in enumerate((camcorder, drone)):
        scene.offloaded(card, f"r{place + 1}")
        job = scene.runner.last("identify")
        scene.tell(job, State.DONE, perform_identify(job.request, Watch()))


@pytest.fixture(scope="module")
def shoot(tmp_path_factory: pytest.TempPathFactory, camcorder: Path, drone: Path) -> Path:
    """A shoot that was made once; its ledger stands aside, for each test to begin with."""
    folder = tmp_path_factory.mktemp("shoot")
    made = Scene(folder)
    looked_at(made, camcorder, drone)
    made.close()
    return kept_aside(folder)


@pytest.fixture
def scene(shoot: Path) -> Iterator[Scene]:
    yield from begun_anew(shoot)


@pytest.fixture
def footage(scene: Scene) -> FootageScreen:
    return scene.desk.footage


@pytest.fixture
def new_scene(tmp_path: Path) -> Iterator[Scene]:
    made = Scene(tmp_path)
    yield made
    made.close()


def names(footage: FootageScreen) -> list[str]:
    return [row.clip.clip.name if isinstance(row, Line) else f"[{row.words}]" for row in footage.rows]


def test_clips_stand_in_order_of_time_and_sort_both_ways(footage: FootageScreen) -> None:
    in_time = ["00000", "00002", "DRON0001", "DRON0002", "DRON0003", "00003"]
    assert names(footage) == in_time
    footage.sort_by("Length")
    assert names(footage)[0] == "00003"
    footage.sort_by("Length")
    assert names(footage)[0] == "00000"
    footage.sort_by("Began")
    assert names(footage) == in_time


def test_every_column_can_be_shown_and_sorted_by(footage: FootageScreen) -> None:
    for column in ALL_COLUMNS:
        footage.choose_column(column.name, True)
        assert column in footage.columns
        assert all(len(texts(footage, row)) == len(footage.columns) for row in range(len(footage.rows)))
        footage.sort_by(column.name)
        assert sorted(names(footage)) == sorted(["00000", "00002", "00003", "DRON0001", "DRON0002", "DRON0003"])


def test_what_the_person_chose_is_there_the_next_time(footage: FootageScreen, scene: Scene) -> None:
    footage.choose_column("Codec", True)
    footage.choose_column("Length", False)
    footage.choose_column("Clip", False)
    footage.group_by("Card")
    scene.written()
    again = FootageScreen(scene.desk.shelf, scene.ledger)
    shown = [column.name for column in again.columns]
    assert "Codec" in shown
    assert "Length" not in shown
    assert "Clip" in shown
    assert again.look.grouping == "Card"


def test_finding_takes_every_word_in_any_column(footage: FootageScreen) -> None:
    footage.find("drone 1520")
    assert names(footage) == ["DRON0001", "DRON0002"]
    assert footage.headline().startswith("2 of 6 clips")
    footage.find("INTERL ac-3")
    assert names(footage) == []
    footage.find("50 fields ac-3")
    assert len(names(footage)) == 3
    footage.find("00001.mts")
    assert names(footage) == ["00000"]


def test_groups_have_headings_with_their_counts(footage: FootageScreen) -> None:
    footage.group_by("Make")
    headings = [row.words for row in footage.rows if isinstance(row, Heading)]
    assert len(headings) == 3
    assert headings[0].startswith("M2TS · H.264 8 bits 4:2:0 · 1920×1080 · 50 fields · AC-3 2 ch.")
    assert headings[0].endswith("3 clips, 0:11")
    assert footage.is_heading(0)
    footage.select([0, 1])
    assert len(footage.selection.clip_ids) == 1


def test_keep_maybe_and_no_are_kept_and_shown(footage: FootageScreen, scene: Scene) -> None:
    footage.select([0, 2])
    footage.judge("keep")
    footage.select([1])
    footage.judge("no")
    footage.tag(" tower, dusk , tower,")
    footage.note(" door squeaks ")
    scene.desk.shelf.refresh()
    footage.show_only("keep")
    assert names(footage) == ["00000", "DRON0001"]
    footage.show_only("undecided")
    assert names(footage) == ["DRON0002", "DRON0003", "00003"]
    footage.show_only("all")
    footage.find("squeaks dusk")
    assert names(footage) == ["00002"]
    footage.select([0])
    detail = footage.detail()
    assert detail is not None
    assert (detail.verdict, detail.tags, detail.note) == ("no", "tower, dusk", "door squeaks")
    footage.judge("")
    assert footage.clips[1].opinion.verdict == ""


def test_a_verdict_that_the_ledger_refuses_does_not_go_on_being_shown(footage: FootageScreen, scene: Scene) -> None:
    with scene.ledger.session() as session:
        session.execute(
            text("create trigger no_verdict before update on clips begin select raise(abort, 'not here'); end")
        )
    footage.select([0])
    footage.judge("keep")
    assert not scene.ledger.writer.write_out(10)
    assert {clip.opinion.verdict for clip in footage.clips} == {""}
    with scene.ledger.session() as session:
        session.execute(text("drop trigger no_verdict"))
    footage.judge("keep")
    scene.written()
    scene.desk.shelf.refresh()
    assert [clip.opinion.verdict for clip in footage.clips].count("keep") == 1


def test_parts_of_several_clips_are_marked_and_converted(footage: FootageScreen, scene: Scene) -> None:
    names_there = names(footage)
    drone, camcorder = names_there.index("DRON0001"), names_there.index("00000")
    footage.select([drone])
    clip = footage.current
    assert clip is not None
    assert clip.facts is not None
    assert footage.part_words() == ""
    footage.begin_part(10)
    assert footage.part == MarkedPart(10, clip.facts.pictures)
    footage.end_part(24)
    assert footage.part == MarkedPart(10, 25)
    labels = clip.facts.video[0].labels
    assert labels is not None
    assert footage.part_words() == f"part {labels.at(10)} to {labels.at(24)}, 15 pictures"
    detail = footage.detail()
    assert detail is not None
    assert detail.facts[0].startswith(f"Part {labels.at(10)} to {labels.at(24)}, 15 pictures")
    # A part that would end before it begins is another one: to the end, or from the beginning.
    footage.begin_part(40)
    assert footage.part == MarkedPart(40, clip.facts.pictures)
    footage.end_part(20)
    assert footage.part == MarkedPart(0, 21)
    footage.end_part(clip.facts.pictures - 1)
    assert footage.part is None
    footage.begin_part(5)
    footage.end_part(5)
    footage.select([camcorder])
    assert footage.part is None
    assert not footage.can_convert_parts
    footage.end_part(2)
    footage.select([drone, camcorder])
    assert footage.convert_parts() == 2
    requests = [job.request for job in scene.runner.added if job.kind == "make"]
    assert {(request.paths[0].name[:5], request.marks) for request in requests} == {
        ("DRON0", ("5", "6")), ("00000", ("0", "3"))
    }  # fmt: skip
    # What is marked stays with its clip, whatever is selected or shown; forgotten is that of the one at hand alone.
    assert not footage.can_forget_part
    footage.find("dron0001")
    assert footage.part == MarkedPart(5, 6)
    footage.forget_part()
    footage.find("")
    assert footage.convert_parts() == 1
    assert scene.runner.last("make").request.marks == ("0", "3")
    # The next start knows what is marked, and takes nothing that is none.
    remember(scene.ledger, "part", "77", MarkedPart(5, 5))
    remember(scene.ledger, "part", "no clip", MarkedPart(1, 2))
    scene.written()
    assert FootageScreen(scene.desk.shelf, scene.ledger).selection.parts == footage.selection.parts
    assert list(footage.selection.parts.values()) == [MarkedPart(0, 3)]


def test_a_part_that_was_made_is_no_clip_that_was_made(footage: FootageScreen, scene: Scene) -> None:
    outputs = scene.desk.outputs
    wanted = outputs.to_make()
    clip = next(each for each in footage.clips if each.facts and each.facts.route.name == "convert")
    footage.select([names(footage).index(clip.clip.name)])
    footage.begin_part(3)
    footage.end_part(7)
    footage.convert_parts()
    (job,) = (each for each in scene.runner.added if each.kind == "make")
    # While the part is made nothing is said of the clip, nor afterwards.
    assert (outputs.being_made(), outputs.to_make()) == (0, wanted)
    output = perform_make(job.request, Watch())
    assert output.frames_out == 5
    scene.tell(job, State.DONE, output)
    (row,) = outputs.made()
    assert row.name.endswith("_3-8.mov")
    assert outputs.to_make() == wanted
    # Made again, it is a part again: the clip waits meanwhile and afterwards.
    outputs.make_again(0)
    again = scene.runner.last("make")
    assert again.request.marks == ("3", "8")
    assert (outputs.being_made(), outputs.to_make()) == (0, wanted)
    scene.tell(again, State.FAILED, None)
    assert (outputs.being_made(), outputs.to_make()) == (0, wanted)
    assert output.record is not None
    record_output(scene.ledger, clip.id, replace(output, record=replace(output.record, marks=None)), "1")
    scene.desk.shelf.refresh()
    assert outputs.to_make() == wanted - 1


def test_the_selection_stays_with_its_clips(footage: FootageScreen) -> None:
    footage.select([5, 0])
    footage.sort_by("Clip")
    assert [footage.rows[row].clip.clip.name for row in footage.selected_rows()] == ["00000", "00003"]  # type: ignore[union-attr]
    footage.find("drone")
    assert footage.selected_rows() == []
    # Nobody sees them: nothing is said of them, whatever key is pressed.
    assert footage.current is None
    footage.judge("no")
    assert {clip.opinion.verdict for clip in footage.clips} == {""}
    footage.find("")
    assert len(footage.selected_rows()) == 2


@pytest.mark.parametrize("grouping", [name for name, _words in GROUPINGS])
def test_changed_clips_stand_where_arranging_all_anew_would_put_them(
    footage: FootageScreen, scene: Scene, grouping: Grouping
) -> None:
    """What is told of the table are the rows that differ and no others; or that all may."""
    told: list[Sequence[int] | None] = []
    footage.on_change = told.append
    chance = random.Random(grouping)
    in_place = 0
    for turn in range(120):
        showing = chance.choice([name for name, _words in SHOWINGS])
        footage.show_only(showing if turn % 3 == 0 else "all")
        footage.sort_by(chance.choice([column.name for column in ALL_COLUMNS]))
        footage.find(chance.choice(["", "", "drone", "dusk"]))
        footage.group_by(grouping)
        before = [(row, getattr(row, "said", None)) for row in footage.rows]
        told.clear()
        clip = chance.choice(footage.clips)
        if chance.random() < 0.5 and clip.facts is not None:
            found = replace(clip.facts, duration_s=chance.choice([1.0, 2.0, clip.facts.duration_s]))
            scene.desk.shelf.clip_identified(IdentifiedClip(clip.id, found))
        else:
            opinion = replace(clip.opinion, verdict=chance.choice(["keep", "no"]), tags=chance.choice([(), ("dusk",)]))
            scene.desk.shelf.judge({clip.id: opinion}, "a verdict")
        anew = Browsing(footage.look)
        anew.showing, anew.wanted = footage.browsing.showing, footage.browsing.wanted
        anew.arrange(scene.desk.shelf.lines, 0)
        assert footage.rows == anew.rows
        (rows,) = told
        if rows is not None:
            in_place += 1
            now = [(row, getattr(row, "said", None)) for row in footage.rows]
            pairs = enumerate(zip(before, now, strict=True))
            # The very same line, and the very same words.
            assert [row for row, (old, new) in pairs if old[0] is not new[0] or old[1] is not new[1]] == list(rows)
    assert in_place > 20


def test_what_was_found_and_not_told_yet_counts_for_the_order(footage: FootageScreen, scene: Scene) -> None:
    shelf = scene.desk.shelf
    waiting: list[Callable[[], None]] = []
    shelf.gather = waiting.append
    footage.sort_by("Length")
    first = footage.rows[0]
    assert isinstance(first, Line)
    assert first.clip.facts is not None
    shelf.clip_identified(IdentifiedClip(first.clip.id, replace(first.clip.facts, duration_s=1000.0)))
    footage.find("")
    assert footage.browsing.row_of(first.clip.id) == len(footage.rows) - 1
    for tell in waiting:
        tell()
    assert footage.browsing.row_of(first.clip.id) == len(footage.rows) - 1


def test_a_look_that_was_kept_under_an_older_name_still_groups(scene: Scene) -> None:
    remember(scene.ledger, "view", "footage", FootageLook(("Clip", "Route"), "Route", grouping="Route"))
    again = FootageScreen(scene.desk.shelf, scene.ledger)
    assert ([each.name for each in again.columns], again.look.sorted_by) == (["Clip", "Needs"], "Needs")
    assert names(again)[0].startswith("[convert   2 clips")


def test_clips_are_compared_line_by_line_with_differences_marked(footage: FootageScreen) -> None:
    footage.select([0])
    assert footage.compared() == ((), ())
    footage.select([0, 2])
    titles, lines = footage.compared()
    assert titles == ("00000", "DRON0001")
    by_name = {line.name: line for line in lines}
    assert by_name["Rate"].texts == ("25/1", "30000/1001")
    assert by_name["Rate"].differs
    assert by_name["Scan"].texts == ("interlaced, top field first", "progressive")
    assert not by_name["Depth"].differs
    assert (by_name["Needs"].texts, by_name["Keep"].texts) == (("join", "convert"), ("not decided", "not decided"))
    differing = sum(line.differs for line in lines)
    assert footage.compared_words() == f"2 clips side by side: {differing} lines of {len(lines)} differ."


def test_a_clip_is_fetched_from_the_copies_that_hold_it(footage: FootageScreen, tmp_path: Path) -> None:
    asked: list[tuple[str, tuple[Path, ...], Path]] = []
    footage.fetch_clip = lambda *words: asked.append(words)
    footage.select([0])
    footage.fetch(tmp_path)
    ((name, roots, to),) = asked
    assert (name, to) == ("00000", tmp_path)
    assert len(roots) == 2
    assert all((root / "PRIVATE/AVCHD/BDMV/STREAM/00000.MTS").is_file() for root in roots)


def test_what_stands_out_from_its_card_is_found_and_said(footage: FootageScreen) -> None:
    footage.show_only("odd")
    assert names(footage) == ["DRON0003"]
    footage.select([0])
    detail = footage.detail()
    assert detail is not None
    assert "Stands out by its size: 2 of 3 clips of this card are 2704×1520 at 29.97." in detail.facts
    footage.show_only("all")
    assert "3 are 1920×1080 at 50 fields" in footage.headline()


def test_facts_that_come_before_the_end_are_shown_at_once(new_scene: Scene, drone: Path) -> None:
    scene = new_scene
    scene.offloaded(drone)
    footage = scene.desk.footage
    assert "not looked at yet" in texts(footage, 0)
    job = scene.runner.last("identify")
    first = perform_identify(replace(job.request, clips=job.request.clips[:1]), Watch())[0]
    scene.desk.clip_identified(first)
    assert "convert" in texts(footage, 0)
    assert "not looked at yet" in texts(footage, 1)


def test_how_makes_play_is_measured_once_and_told(new_scene: Scene, camcorder: Path, drone: Path) -> None:
    scene, footage = new_scene, new_scene.desk.footage
    looked_at(scene, camcorder, drone)
    # The camcorder's one make when that was looked at, then the drone's two.
    jobs = [job for job in scene.runner.added if job.kind == "pace"]
    assert [len(job.request.subjects) for job in jobs] == [1, 2]
    measured = scene.carried_out("pace")
    assert len(measured) == 2
    footage.select([names(footage).index("DRON0001")])
    said = footage.detail()
    assert said is not None
    assert any("real time here" in each for each in said.facts)

    def asked_again(*, disturbed: bool) -> int:
        for job in jobs:
            found = tuple(MeasuredPlayback(each.key, measured[0].pace, disturbed) for each in job.request.subjects)
            scene.tell(job, State.DONE, found)
        before = [job.kind for job in scene.runner.added].count("pace")
        scene.tell(scene.runner.last("identify"), State.DONE, scene.runner.last("identify").result)
        return [job.kind for job in scene.runner.added].count("pace") - before

    # A figure that other work disturbed is asked for again when there is occasion; a sure one never.
    assert asked_again(disturbed=False) == 0
    assert asked_again(disturbed=True) == 0


def test_a_disturbed_figure_is_asked_for_again(new_scene: Scene, drone: Path) -> None:
    scene = new_scene
    scene.offloaded(drone)
    identified = scene.runner.last("identify")
    found = perform_identify(identified.request, Watch())
    scene.tell(identified, State.DONE, found)
    (job,) = (each for each in scene.runner.added if each.kind == "pace")
    pace = Pace(20.0, Fraction(30000, 1001))
    scene.tell(job, State.DONE, tuple(MeasuredPlayback(each.key, pace, True) for each in job.request.subjects))
    scene.tell(identified, State.DONE, found)
    again = [each for each in scene.runner.added if each.kind == "pace"]
    assert [each.request for each in again] == [job.request] * 2


def test_nothing_is_measured_while_a_card_is_copied(scene: Scene, drone: Path) -> None:
    scene.listed(drone, "r2")
    scene.desk.cards.offload("r2")
    copying = scene.runner.last("offload")
    scene.tell(copying, State.RUNNING)
    scene.runner.add("identify", "", "facts", IdentifyRequest(()))
    scene.tell(scene.runner.last("identify"), State.DONE, ())
    assert not any(job.kind == "pace" for job in scene.runner.added)
    scene.tell(copying, State.STOPPED)
    assert [job.kind for job in scene.runner.added].count("pace") == 1
