"""Groups of the outputs view are counted as clips change; held against all clips counted one by one."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Literal

import pytest

from diadoche.core.convert.outputs import Output
from diadoche.core.watch import Watch
from diadoche.screens.output_rows import GroupRow
from diadoche.services.jobs.identify import IdentifiedClip, perform_identify
from diadoche.services.ledger.kept_clips import KeptClip, record_output
from diadoche.services.queue.states import State
from tests.screens.scene import Scene, begun_anew, kept_aside
from tests.system_bus import wait_until

_ROUTES: tuple[Literal["ready", "rewrap", "join", "convert"], ...] = ("ready", "rewrap", "join", "convert")


@pytest.fixture(scope="module")
def shoot(tmp_path_factory: pytest.TempPathFactory, camcorder: Path, drone: Path) -> Path:
    """Two cards that were offloaded, and all that is known of their clips."""
    folder = tmp_path_factory.mktemp("shoot")
    made = Scene(folder)
    for place, card in enumerate((camcorder, drone)):
        made.offloaded(card, f"r{place + 1}")
        job = made.runner.last("identify")
        made.tell(job, State.DONE, perform_identify(job.request, Watch()))
    made.close()
    return kept_aside(folder)


@pytest.fixture
def scene(shoot: Path) -> Iterator[Scene]:
    yield from begun_anew(shoot)


def _open_jobs(scene: Scene) -> dict[int, int]:
    """The numbers of jobs that make outputs, by clip."""
    jobs = (job for job in scene.runner.jobs() if job.kind == "make" and not job.state.ended)
    return {job.request.clip_id: job.number for job in jobs}


def _counted(scene: Scene, clips: list[KeptClip]) -> tuple[int, int, int, int]:
    """All clips of a group, those that are made, those that are to be made, and the bytes of these."""
    asked = _open_jobs(scene)
    made = [clip for clip in clips if any(Path(each.output).exists() for each in clip.outputs)]
    wanted = [clip for clip in clips if clip not in made and clip.opinion.verdict != "no" and clip.id not in asked]
    return len(clips), len(made), len(wanted), sum(clip.facts.size_bytes for clip in wanted if clip.facts)


def _matches(scene: Scene, row: GroupRow, clips: list[KeptClip]) -> bool:
    said = row.clips, row.made, row.to_make, row.size_bytes
    counted = _counted(scene, clips)
    if row.route == "convert":
        # How large these become follows from the recipe.
        return said[:3] == counted[:3]
    return said == counted if row.route in {"rewrap", "join"} else said[:2] == counted[:2]


@pytest.mark.parametrize("seed", range(3))
def test_groups_are_what_counting_all_anew_would_give(scene: Scene, tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    shelf, outputs = scene.desk.shelf, scene.desk.outputs
    made = tmp_path / "made.mov"
    made.write_bytes(b"")
    done = Output((), str(made), "prores-422", 1, 1, None, None, None, 1, 1, 1.0)
    for _turn in range(120):
        clip = chance.choice(scene.desk.footage.clips)
        assert clip.facts is not None
        step = chance.randrange(6)
        if step == 0:
            some = chance.sample(scene.desk.footage.clips, chance.randint(1, 6))
            verdict = chance.choice(["keep", "no", "no", ""])
            shelf.judge({each.id: replace(each.opinion, verdict=verdict) for each in some}, "a verdict")  # type: ignore[arg-type]  # one of these
        elif step == 1:
            route = replace(clip.facts.route, name=chance.choice(_ROUTES))
            facts = replace(clip.facts, route=route, size_bytes=chance.randint(1, 99))
            shelf.clip_identified(IdentifiedClip(clip.id, facts))
        elif step == 2:
            for name in ("rewrap", "join", "convert"):
                outputs.include(name, chance.random() < 0.5)
            outputs.make()
        elif step == 3 and _open_jobs(scene):
            number = chance.choice(list(_open_jobs(scene).values()))
            job = next(job for job in scene.runner.jobs() if job.number == number)
            scene.tell(job, chance.choice([State.FAILED, State.STOPPED]))
        elif step == 4 and chance.random() < 0.2:
            record_output(scene.ledger, clip.id, done, "1")
            shelf.refresh()
        else:
            scene.desk.undo.take_back()
        by_route: dict[str, list[KeptClip]] = {}
        for line in shelf.lines:
            by_route.setdefault(line.route, []).append(line.clip)
        rows = outputs.groups()
        assert {row.route for row in rows} == set(by_route)
        assert all(_matches(scene, row, by_route[row.route]) for row in rows)
        assert outputs.being_made() == len(_open_jobs(scene))


def test_clips_of_which_nothing_is_new_stay_the_very_same_lines(scene: Scene) -> None:
    shelf = scene.desk.shelf
    before = list(shelf.lines)
    shelf.judge({before[0].clip.id: replace(before[0].clip.opinion, verdict="keep")}, "a verdict")
    # Until it is written, a reading finds the word from before, and makes another line of it.
    scene.written()
    shelf.refresh()
    assert [old is new for old, new in zip(before, shelf.lines, strict=True)] == [True] * len(before)
    record_output(scene.ledger, before[2].clip.id, Output((), "", "x", 0, 0, None, None, None, 0, 0, 0.0), "1")
    shelf.refresh()
    same = [old is new for old, new in zip(before, shelf.lines, strict=True)]
    assert same == [number != 2 for number in range(len(before))]
    assert len(shelf.lines[2].clip.outputs) == 1


def test_an_output_that_is_taken_away_is_to_be_made_again(scene: Scene, tmp_path: Path) -> None:
    shelf, outputs = scene.desk.shelf, scene.desk.outputs
    made = tmp_path / "made.mov"
    made.write_bytes(b"")
    clip, other = scene.desk.footage.clips[:2]
    before = outputs.to_make()
    record_output(scene.ledger, clip.id, Output((), str(made), "x", 1, 1, None, None, None, 1, 1, 1.0), "1")
    shelf.refresh()
    assert outputs.to_make() == before - 1
    made.unlink()

    def counted_after_another_verdict() -> int:
        verdict: Literal["keep", ""] = "keep" if not other.opinion.verdict else ""
        shelf.judge({other.id: replace(other.opinion, verdict=verdict)}, "a verdict")
        return outputs.to_make()

    # Whatever is told of other clips, it is asked for again.
    wait_until(lambda: counted_after_another_verdict() == before, 30, "the output is missed")


def test_as_many_are_made_as_was_said(scene: Scene) -> None:
    """What is found of clips is told a moment later; until then it is neither said nor made."""
    shelf, outputs = scene.desk.shelf, scene.desk.outputs
    waiting: list[Callable[[], None]] = []
    shelf.gather = waiting.append
    said = outputs.to_make()
    clip = next(line.clip for line in shelf.lines if line.route == "ready")
    assert clip.facts is not None
    shelf.clip_identified(IdentifiedClip(clip.id, replace(clip.facts, route=replace(clip.facts.route, name="rewrap"))))
    assert (outputs.to_make(), outputs.make()) == (said, said)
    for tell in waiting:
        tell()
    assert (outputs.to_make(), outputs.make()) == (1, 1)
