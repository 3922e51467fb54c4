"""What is known of files on places: told when it is known, and waited for only by whoever may wait."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from diadoche.services.devices.place_watch import PlaceWatch
from tests.system_bus import wait_until


def test_who_may_not_wait_is_told_when_it_is_known(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    told = threading.Event()
    watch = PlaceWatch(on_files=told.set)
    (tmp_path / "copy").touch()
    watch.room(tmp_path)

    def waits(*_anything: object) -> bool:
        raise AssertionError("It waited for a disk.")

    try:
        with monkeypatch.context() as patched:
            patched.setattr("time.sleep", waits)
            patched.setattr(threading.Event, "wait", waits)
            asked = [watch.is_there(tmp_path / name, tmp_path, wait=False) for name in ("copy", "other")]
        # What came sooner than the question ended is not held back.
        assert asked[0] in {None, True}
        assert asked[1] in {None, False}
        wait_until(told.is_set, 20, "it is told")
        wait_until(lambda: watch.is_there(tmp_path / "other", tmp_path, wait=False) is False, 20, "both are known")
        assert watch.is_there(tmp_path / "copy", tmp_path, wait=False) is True
        # Where somebody may wait, the first answer is one.
        assert watch.is_there(tmp_path, tmp_path) is True
    finally:
        watch.close()
