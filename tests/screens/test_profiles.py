"""Editor profiles: chosen, edited, and clips judged anew without being read again."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from diadoche.core.errors import RequestError
from diadoche.core.watch import Watch
from diadoche.services.jobs.identify import perform_identify
from diadoche.services.ledger.kept_clips import record_facts
from diadoche.services.queue.states import State
from tests.screens.scene import Scene


@pytest.fixture
def routed(scene: Scene, drone: Path) -> Scene:
    scene.offloaded(drone)
    job = scene.runner.last("identify")
    scene.tell(job, State.DONE, perform_identify(job.request, Watch()))
    return scene


def routes(scene: Scene) -> dict[str, int]:
    return {group.route: group.clips for group in scene.desk.outputs.groups()}


def own_profile(scene: Scene) -> Path:
    written: list[Path | Exception] = []
    scene.desk.outputs.own_profile(written.append)
    (path,) = written
    assert isinstance(path, Path)
    return path


def test_another_profile_judges_every_clip_anew(routed: Scene) -> None:
    outputs = routed.desk.outputs
    assert routes(routed) == {"ready": 1, "convert": 2}
    added = len(routed.runner.added)
    outputs.choose_profile("intra-only")
    assert routes(routed) == {"convert": 3}
    outputs.choose_profile("nearly-everything")
    assert routes(routed) == {"ready": 3}
    assert routed.station.shoot.settings.profile == "nearly-everything"
    assert len(routed.runner.added) == added


def test_a_profile_of_ones_own_begins_as_the_chosen_one_and_counts_when_changed(routed: Scene) -> None:
    outputs = routed.desk.outputs
    path = own_profile(routed)
    text = path.read_text()
    assert 'name = "general"' in text
    path.write_text(
        text.replace("most_pixels", "most_pixels") + '\n[[long_gop]]\ncodec = "h264"\nmost_pixels = 9000000\n'
    )
    path.write_text(path.read_text().replace('[[long_gop]]\ncodec = "h264"\n\n', "", 1))
    outputs.choose_profile("general")
    assert routes(routed) == {"ready": 3}


def test_a_mistake_in_a_profile_is_said_in_its_place_and_changes_nothing(routed: Scene) -> None:
    outputs = routed.desk.outputs
    path = own_profile(routed)
    path.write_text('name = "general"\ntitle = "Mine"\ncontainerz = []\n')
    routed.station.own.profiles.now()
    assert any("line 3: there is no key called 'containerz'" in each.title for each in outputs.profiles())
    with pytest.raises(RequestError, match="line 3"):
        outputs.choose_profile("general")
    assert routes(routed) == {"ready": 1, "convert": 2}


def test_clips_marked_no_are_left_out_and_said(routed: Scene) -> None:
    outputs, shelf = routed.desk.outputs, routed.desk.shelf
    unwanted = next(line.clip for line in shelf.lines if line.clip.facts and line.clip.facts.route.name == "convert")
    shelf.judge({unwanted.id: replace(unwanted.opinion, verdict="no")}, "no")
    group = next(each for each in outputs.groups() if each.route == "convert")
    assert (group.clips, group.to_make) == (2, 1)
    assert group.reason.endswith(" 1 clip marked no: left out.")
    rows = {row.name: row for row in outputs.clips_of("convert")}
    assert rows[f"{unwanted.card} {unwanted.clip.name}"].words == "marked no: left out"
    assert sum(row.words == "to make" for row in rows.values()) == 1
    assert all("makes an editor render" in row.reason for row in rows.values())
    assert outputs.to_make() == 1
    assert outputs.make() == 1
    assert [job.request.clip_id for job in routed.runner.added if job.kind == "make"] == [
        line.clip.id for line in shelf.lines
        if line.clip.facts and line.clip.facts.route.name == "convert" and line.clip.id != unwanted.id
    ]  # fmt: skip


def test_sound_in_files_of_its_own_comes_along_and_a_second_sound_is_said_to_stay(
    scene: Scene, demo_cards: dict[str, Path]
) -> None:
    scene.offloaded(demo_cards["Shore"])
    job = scene.runner.last("identify")
    scene.tell(job, State.DONE, perform_identify(job.request, Watch()))
    scene.station.own.profiles.folder.mkdir(parents=True)
    (scene.station.own.profiles.folder / "none.toml").write_text(
        'name = "none"\ntitle = "None"\ncontainers = []\nintra = []\n'
    )
    scene.desk.outputs.choose_profile("none")
    (group,) = scene.desk.outputs.groups()
    assert (group.route, group.warning) == ("convert", "")
    assert scene.desk.outputs.make() == 1
    request = scene.runner.last("make").request
    assert len(request.sounds) == 2
    # A picture with sound of its own keeps that, and what lies beside it stays there.
    (clip,) = scene.desk.footage.clips
    assert clip.facts is not None
    record_facts(scene.ledger, clip.id, replace(clip.facts, sound_apart=False))
    scene.desk.outputs.job_ended(request)
    scene.desk.shelf.refresh()
    (group,) = scene.desk.outputs.groups()
    assert "0001TR: a second sound lies in files of its own and does not come along" in group.warning
