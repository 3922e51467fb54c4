"""The real window on a virtual screen, with a bench of its own."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtTest import QAbstractItemModelTester
from PyQt6.QtWidgets import QAbstractItemView, QApplication
from pytestqt.qtbot import QtBot

from diadoche.core.watch import Watch
from diadoche.demo.bench import bench_of
from diadoche.demo.opening import DemoDay, demo_places, demo_settings
from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest, perform_identify
from diadoche.services.jobs.offload import OffloadRequest, perform_offload
from diadoche.services.ledger.job_results import record_outcome
from diadoche.services.ledger.kept_clips import kept_clips, record_facts
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.shoots import Shoot, ShootSettings, open_shoot
from diadoche.ui.application import Application, Opening


@pytest.fixture
def shoot_folder(tmp_path: Path, demo_cards: dict[str, Path]) -> Path:
    """A folder with two of the demo's cards, as the demo lays them out."""
    folder = tmp_path / "shoot"
    for name in ("Drone", "Keeper's camcorder"):
        shutil.copytree(demo_cards[name], folder / "cards" / name)
    return folder


def copied_and_known(ledger: Ledger, shoot: Shoot, cards: dict[str, Path]) -> None:
    """Offloads cards to the places of a shoot, and looks at all their clips."""
    for name, card in cards.items():
        request = OffloadRequest(card, shoot.settings.places, shoot.id, shoot.name, name)
        record_outcome(ledger, request, perform_offload(request, Watch()))
    clips = tuple(ClipToIdentify(clip.paths, clip.id) for clip in kept_clips(ledger, shoot.id))
    for found in perform_identify(IdentifyRequest(clips), Watch()):
        record_facts(ledger, found.clip_id, found.facts)


@pytest.fixture(scope="session")
def made_shoot(tmp_path_factory: pytest.TempPathFactory, demo_cards: dict[str, Path]) -> Path:
    """A shoot of two cards, offloaded and looked at once; its ledger stands aside for each test to begin with."""
    folder = tmp_path_factory.mktemp("made")
    ledger = Ledger(demo_places(folder).ledger)
    settings = demo_settings(folder)
    shoot = open_shoot(ledger, "Rock", settings)
    copied_and_known(ledger, shoot, {name: demo_cards[name] for name in ("Drone", "Keeper's camcorder")})
    ledger.close()
    demo_places(folder).ledger.rename(folder / "as-made.sqlite")
    return folder


@pytest.fixture
def offloaded_shoot(made_shoot: Path) -> Path:
    """That shoot, as it was made; `shoot_folder` of a module may be this one."""
    # What another test chose, as the size of texts, is not taken over.
    shutil.rmtree(demo_places(made_shoot).config, ignore_errors=True)
    ledger = demo_places(made_shoot).ledger
    for left in ledger.parent.glob(f"{ledger.name}*"):
        left.unlink()
    shutil.copy(made_shoot / "as-made.sqlite", ledger)
    return made_shoot


Opener = Callable[..., Application]


@pytest.fixture
def open_window(
    qapp: QApplication, qtbot: QtBot, shoot_folder: Path, request: pytest.FixtureRequest
) -> Iterator[Opener]:
    """Opens the window; a picture is saved where a test fails."""
    opened: list[Application] = []

    def opener(
        settings: ShootSettings | None = None,
        pace_bytes_s: int = 6_000_000,
        cards: Path | None = None,
        day: DemoDay | None = None,
    ) -> Application:
        opening = Opening(
            demo_places(shoot_folder), "Rock", settings or demo_settings(shoot_folder),
            bench_of(shoot_folder / "bench", cards or shoot_folder / "cards", pace_bytes_s), day,
        )  # fmt: skip
        application = Application(qapp, opening)
        opened.append(application)
        for view in application.window.findChildren(QAbstractItemView):
            # What it finds is a warning of Qt's, and those fail the test.
            QAbstractItemModelTester(view.model(), QAbstractItemModelTester.FailureReportingMode.Warning, view)
        application.window.show()
        # There is no window manager on a virtual screen to give the focus.
        application.window.activateWindow()
        qtbot.waitUntil(application.window.isActiveWindow)
        return application

    yield opener
    for application in opened:
        picture = Path("build") / f"{request.node.name}.png"
        picture.parent.mkdir(exist_ok=True)
        application.window.grab().save(str(picture))
        application.close()
        application.window.deleteLater()
