"""The real window on a virtual screen, with a bench of its own."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtTest import QAbstractItemModelTester
from PyQt6.QtWidgets import QAbstractItemView, QApplication
from pytestqt.qtbot import QtBot

from diadoche.demo.bench import bench_of
from diadoche.demo.opening import DemoDay, demo_places, demo_settings
from diadoche.services.ledger.shoots import ShootSettings
from diadoche.ui.application import Application, Opening


@pytest.fixture
def shoot_folder(tmp_path: Path, demo_cards: dict[str, Path]) -> Path:
    """A folder with two of the demo's cards, as the demo lays them out."""
    folder = tmp_path / "shoot"
    for name in ("Drone", "Keeper's camcorder"):
        shutil.copytree(demo_cards[name], folder / "cards" / name)
    return folder


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
