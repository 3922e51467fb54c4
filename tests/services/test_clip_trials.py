"""Clips of a copy are tried as they arrive; an earlier trial counts only for what stands there in the end."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.clips import Clip
from diadoche.core.cards.layout import load_layouts
from diadoche.core.offload.journal import CopiedFile
from diadoche.core.watch import Watch
from diadoche.services.jobs.offload import OffloadRequest, perform_offload
from diadoche.services.side_processes.clip_trial import ClipTrials
from tests.system_bus import wait_until

_LONG_S = 60


@pytest.fixture
def clips(drone: Path) -> tuple[Clip, ...]:
    return look(drone, load_layouts(), Watch()).clips


@pytest.fixture
def trials(clips: tuple[Clip, ...]) -> Iterator[ClipTrials]:
    with ClipTrials(clips) as found:
        yield found


@pytest.fixture
def copy(drone: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(drone, tmp_path / "copy"))


def _arrive(trials: ClipTrials, root: Path, clip: Clip, digest: str = "aa") -> None:
    for span in clip.spans:
        trials.arrived(root, CopiedFile(span, span, (root / span).stat().st_size, {"xxh128": digest}))


def test_a_clip_is_tried_while_others_are_on_their_way(trials: ClipTrials, clips: tuple[Clip, ...], copy: Path) -> None:
    first, *others = clips
    _arrive(trials, copy, first)
    wait_until(lambda: trials.ended == 1, _LONG_S, "the first clip was tried")
    # It is not tried again: what is gone now was there then.
    for span in first.spans:
        (copy / span).unlink()
        (copy / span).touch()
    for clip in others:
        _arrive(trials, copy, clip)
    tried = trials.finish(copy, Watch())
    assert (tried.clips, tried.problems) == (len(clips), [])
    assert set(tried.thumbnails) == {clip.name for clip in clips}


def test_a_file_that_was_filled_again_is_tried_again(trials: ClipTrials, clips: tuple[Clip, ...], copy: Path) -> None:
    for clip in clips:
        _arrive(trials, copy, clip)
    wait_until(lambda: trials.ended == len(clips), _LONG_S, "all were tried")
    span = clips[0].spans[0]
    (copy / span).write_bytes(b"no film" * 1000)
    _arrive(trials, copy, clips[0], "bb")
    tried = trials.finish(copy, Watch())
    assert tried.clips == len(clips) - 1
    (problem,) = tried.problems
    assert Path(span).name in problem.what


def test_clips_are_tried_in_a_copy_that_is_proven_and_under_the_names_they_have_there(
    trials: ClipTrials, clips: tuple[Clip, ...], copy: Path, tmp_path: Path
) -> None:
    """The copy in which clips arrived first did not become whole; in the other, one is kept under another name."""
    for clip in clips:
        _arrive(trials, copy, clip)
    wait_until(lambda: trials.ended == len(clips), _LONG_S, "all were tried")
    other = Path(shutil.move(copy, tmp_path / "other"))
    for clip in clips[1:]:
        _arrive(trials, other, clip)
    for span in clips[0].spans:
        kept_as = f"{span} (2).MP4"
        (other / span).rename(other / kept_as)
        trials.arrived(other, CopiedFile(span, kept_as, 1, {"xxh128": "aa"}))
    root = trials.best_of([other])
    assert root == other
    assert trials.best_of([other, copy]) == copy
    tried = trials.finish(root, Watch())
    assert (tried.clips, tried.problems) == (len(clips), [])


def test_a_clip_that_takes_too_long_is_named_once(clips: tuple[Clip, ...], copy: Path) -> None:
    with ClipTrials(clips[:1], longest_s=0.0) as trials:
        _arrive(trials, copy, clips[0])
        wait_until(lambda: trials.ended == 1, _LONG_S, "it was given up")
        tried = trials.finish(copy, Watch())
    (problem,) = tried.problems
    assert "could not be tried" in problem.what
    assert tried.clips == 0
    # A disk that answers after the end begins nothing any more.
    _arrive(trials, copy, clips[0])


def test_an_offload_that_is_gone_on_with_tries_what_arrived_before(
    drone: Path, clips: tuple[Clip, ...], tmp_path: Path
) -> None:
    request = OffloadRequest(drone, (tmp_path / "a",), 1, "S", pace_bytes_s=1_000_000)
    watch = Watch(lambda progress: watch.stop() if progress.parts and progress.parts[0].proven else None)
    assert perform_offload(request, watch).tried is None
    outcome = perform_offload(OffloadRequest(drone, (tmp_path / "a",), 1, "S"), Watch())
    assert outcome.tried == len(clips)
    assert outcome.remarks == ()
