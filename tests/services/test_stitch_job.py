"""A stitch as a job of the queue: asked for, followed, and told of, in a process of its own."""

from __future__ import annotations

import struct
from pathlib import Path

from diadoche.core.convert.recipes import recipe_named
from diadoche.core.identify.probe import identify
from diadoche.demo.ray_scene import RayScene
from diadoche.services.jobs.all_kinds import ALL_KINDS
from diadoche.services.jobs.lens_take import LensTake, StitchSettings, opened
from diadoche.services.jobs.stitch import StitchOutput, StitchRequest
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from tests.outside.gallery import beside, drawn, encode, two_lenses
from tests.system_bus import wait_until


def test_a_stitch_runs_in_the_queue_and_what_it_measured_comes_back(tmp_path: Path) -> None:
    scene = RayScene(seed=3)
    film = encode(tmp_path / "take.mov", [beside(*(drawn(lens, scene, 2) for lens in two_lenses(240)))])
    ended: list[Job] = []
    ledger = Ledger(tmp_path / "ledger.sqlite")
    runner = Runner(ledger, ALL_KINDS, lambda _job: None, ended.append)
    settings = StitchSettings(size=(480, 240))
    request, gone = (
        StitchRequest(LensTake(((path,),), "dual-fisheye-200"), recipe_named("prores-422"), tmp_path / "out", settings)
        for path in (film, tmp_path / "no.mov")
    )
    try:
        runner.add("stitch", "Stitch take", "encode", request)
        refused = runner.add("stitch", "Stitch nothing", "encode", gone)
        wait_until(lambda: all(job.state.ended for job in runner.jobs()), 60, "both have ended")
    finally:
        runner.close()
        ledger.close()
    made = ended[0].result
    assert isinstance(made, StitchOutput)
    assert Path(made.output.output).exists()
    assert made.output.frames_out == 2
    assert made.size == (480, 240)
    assert made.seam is not None
    assert len(made.seam.breaks_px) == 2
    failed = next(job for job in runner.jobs() if job.number == refused)
    assert failed.state is State.FAILED
    assert failed.problem is not None
    assert "There is no file" in failed.problem.what


def test_a_stitch_is_not_mirrored_as_the_files_of_its_lenses_are(tmp_path: Path) -> None:
    film = encode(tmp_path / "take.mov", [beside(*(drawn(lens, RayScene(seed=3), 1) for lens in two_lenses(240)))])
    data = bytearray(film.read_bytes())
    # Left and right change places, by the matrix of the first track's head [ISO14496-12, 8.3.2].
    struct.pack_into(">9i", data, data.index(b"tkhd") + 4 + 40, -1 << 16, 0, 0, 0, 1 << 16, 0, 0, 0, 1 << 30)
    film.write_bytes(data)
    assert identify([film]).video[0].mirrored
    source = opened(LensTake(((film,),), "dual-fisheye-200"), StitchSettings(size=(480, 240)))
    assert not source.picture.mirrored
    assert source.picture.rotation == 0
