"""First pictures of clips, decoded in a process of their own: of files that are there, missing, and on a disk that hangs."""

from __future__ import annotations

import queue
from collections.abc import Iterator
from pathlib import Path

import pytest

from diadoche.core.footage.trial import first_picture
from diadoche.demo.faulty_folder import Faults, FaultyMount
from diadoche.services.side_processes import first_pictures as module
from diadoche.services.side_processes.first_pictures import FirstPictures
from tests.mounts import Mounter
from tests.system_bus import wait_until

_LONG_S = 60


@pytest.fixture
def came() -> queue.SimpleQueue[Path]:
    return queue.SimpleQueue()


@pytest.fixture
def pictures(came: queue.SimpleQueue[Path]) -> Iterator[FirstPictures]:
    found = FirstPictures(came.put)
    yield found
    found.close()
    thread = found._thread
    assert thread is not None
    thread.join(_LONG_S)


@pytest.fixture
def folder(drone: Path) -> Path:
    return drone / "DCIM/100DRONE"


@pytest.fixture
def disk(folder: Path, faulty: Mounter, monkeypatch: pytest.MonkeyPatch) -> FaultyMount:
    """The same folder on a disk that hangs, which is waited for for two seconds."""
    monkeypatch.setattr(module, "_LONGEST_S", 2.0)
    mounted = faulty(folder)
    mounted.set(Faults(hangs=True, hangs_on_metadata=True))
    return mounted


def test_a_picture_comes_and_what_has_none_is_asked_once(
    pictures: FirstPictures, came: queue.SimpleQueue[Path], drone: Path
) -> None:
    clip, missing = drone / "DCIM/100DRONE/DRON0001.MP4", drone / "NO.MP4"
    assert pictures.of(missing) == pictures.of(clip) == b""
    assert came.get(timeout=_LONG_S) == clip
    assert pictures.of(clip) == first_picture(clip)
    wait_until(lambda: missing in pictures._known, _LONG_S, "it was tried")
    assert pictures.of(missing) == b""
    assert not pictures._wanted


def test_what_is_asked_for_last_comes_first_and_what_was_passed_is_left(
    pictures: FirstPictures, came: queue.SimpleQueue[Path], drone: Path
) -> None:
    clip = drone / "DCIM/100DRONE/DRON0002.MP4"
    for number in range(1000):
        pictures.of(drone / f"PASSED{number}.MP4")
    pictures.of(clip)
    assert came.get(timeout=_LONG_S) == clip
    assert len(pictures._wanted) < 100


def test_a_disk_that_hangs_keeps_no_other_picture_away(
    pictures: FirstPictures, came: queue.SimpleQueue[Path], folder: Path, disk: FaultyMount
) -> None:
    assert pictures.of(disk.point / "DRON0001.MP4") == b""
    wait_until(lambda: disk.point / "DRON0001.MP4" in pictures._known, _LONG_S, "it is given up")
    pictures.of(folder / "DRON0001.MP4")
    assert came.get(timeout=_LONG_S) == folder / "DRON0001.MP4"
    # When it answers again, its pictures come; not at once, for every painting asks.
    disk.set(Faults())
    assert pictures.of(disk.point / "DRON0001.MP4") == b""
    assert not pictures.busy
    pictures._again_s.clear()
    assert pictures.of(disk.point / "DRON0001.MP4") == b""
    assert came.get(timeout=_LONG_S) == disk.point / "DRON0001.MP4"


def test_a_disk_that_hangs_is_left_alone_after_its_second_file(
    pictures: FirstPictures, came: queue.SimpleQueue[Path], folder: Path, disk: FaultyMount
) -> None:
    """Each file of a card in a reader that hangs would keep the pictures of all other cards waiting once more."""
    hung = [disk.point / f"DRON000{number}.MP4" for number in range(1, 7)]
    # All are asked for before the first is begun; what was asked for last is tried first.
    with pictures._changed:
        for path in (folder / "DRON0001.MP4", *hung):
            pictures.of(path)
    assert came.get(timeout=_LONG_S) == folder / "DRON0001.MP4"
    assert len([path for path in hung if path in pictures._known]) == 2
    assert pictures.of(hung[0]) == b""
    assert not pictures.busy
    disk.set(Faults())
    pictures._silent_until_s.clear()
    pictures.of(hung[0])
    assert came.get(timeout=_LONG_S) == hung[0]
