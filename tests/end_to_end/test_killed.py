"""An offload killed for real, at random moments, and taken up again."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from diadoche.core.offload.journal import is_unfinished
from tests.conftest import diadoche
from tests.snapshots import contents, snapshot

pytestmark = pytest.mark.usefixtures("own_state")


def card_of(folder: Path) -> Path:
    card = folder / "card"
    (card / "DCIM/100ABCDE").mkdir(parents=True)
    for number in range(1, 40):
        (card / f"DCIM/100ABCDE/ABCD{number:04}.MP4").write_bytes(
            os.urandom(random.Random(number).randrange(0, 4_000_000))
        )
    return card


def kill_after(card: Path, places: list[Path], seconds: float) -> None:
    """Starts an offload, and kills it without warning so long after its first byte was written."""
    words = [word for place in places for word in ("--to", str(place))]
    process = subprocess.Popen(
        [sys.executable, "-m", "diadoche.main", "offload", str(card), *words, "--shoot", "S", "--json"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    while process.poll() is None and not any(path.is_file() for path in places[0].rglob("ABCD*")):
        time.sleep(0.002)
    time.sleep(seconds)
    process.send_signal(signal.SIGKILL)
    process.wait()


@pytest.mark.parametrize("moments", [pytest.param(4, id="short"), pytest.param(200, id="long", marks=pytest.mark.long)])
def test_killed_at_random_moments_every_copy_ends_right(tmp_path: Path, moments: int) -> None:
    card = card_of(tmp_path)
    before = snapshot(card)
    truth = contents(card)
    dice = random.Random(20)
    for moment in range(moments):
        places = [tmp_path / f"{moment}-a", tmp_path / f"{moment}-b"]
        for _ in range(dice.choice((1, 1, 2))):
            kill_after(card, places, dice.uniform(0, 0.25))
        for place in places:
            for root in place.rglob("card-0*"):
                # No half file under a final name, and what is not whole says so.
                assert is_unfinished(root) or (root / "ascmhl").is_dir()
                for path, digest in contents(root).items():
                    if not path.endswith(".part-diadoche") and path in truth:
                        assert digest == truth[path], path
        words = [word for place in places for word in ("--to", place)]
        done = diadoche("offload", card, *words, "--shoot", "S", "--json")
        told = json.loads(done.stdout)
        assert [copy["status"] for copy in told["copies"]] == ["proven", "proven"], done.stderr
        for copy in told["copies"]:
            assert contents(Path(copy["root"])) == truth
            assert diadoche("verify", copy["root"]).returncode == 0
    assert snapshot(card) == before
