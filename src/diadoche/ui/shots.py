"""Renders every picture in docs/screenshots from the demo shoot, by driving the real window."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QEventLoop, QTimer
from PyQt6.QtWidgets import QApplication, QWidget

from diadoche.demo.bench import bench_of
from diadoche.demo.make import make_demo
from diadoche.demo.opening import SHOOT, demo_places, demo_settings
from diadoche.services.ledger.shoots import ShootSettings
from diadoche.services.station.card_in import Stage
from diadoche.ui.application import Application, Opening

_LONGEST_S = 240
_SLOW_BYTES_S = 2_500_000
_CRAWL_BYTES_S = 400_000
_CARDS_FAR = 9
_RIG, _TAKES = 7, 4
_EIGHT = ("Boat", "Drone", "Gallery", "Keeper", "Lamp room", "Pier", "Rock", "Second drone")
_EIGHT_DATE_NS = 1_781_430_000 * 10**9


_TWO = ("Drone", "Keeper's camcorder")
_MIXED = ("Drone", "Keeper's camcorder", "Lamp", "Lamp room", "Mast", "Quay", "Shore", "Supply boat bow")


def _some(demo: Path, names: Sequence[str], folder: Path) -> Path:
    """A folder with some of the demo's cards."""
    for name in names:
        shutil.copytree(demo / name, folder / name)
    return folder


class Photographer:
    """Waits for what is shown, and takes pictures of it."""

    def __init__(self, application: Application, target: Path) -> None:
        self.application = application
        self._target = target
        application.window.resize(1280, 800)
        application.window.show()

    def wait(self, shown: Callable[[], bool], settle_ms: int = 200) -> None:
        """Lets the window live until something is true, and a moment longer so that it is painted."""
        until = time.monotonic() + _LONGEST_S
        while not shown():
            if time.monotonic() > until:
                raise TimeoutError("the window never came to show what was waited for")
            self._live(20)
        self._live(settle_ms)

    def take(self, name: str, part: QWidget | None = None) -> None:
        """Saves what the window shows, or a dialog before it, when the pictures in its tables have come."""
        self._live(200)
        self.wait(lambda: not self.application.window.icons.awaited)
        # What was put together anew just then stands at its place only after its layout was asked.
        QApplication.sendPostedEvents()
        (part or self.application.window).grab().save(str(self._target / f"{name}.png"))

    @staticmethod
    def _live(milliseconds: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(milliseconds, loop.quit)
        loop.exec()


def shoot_all(opening: Opening, target: Path, app: QApplication) -> None:
    """Goes through the whole job, and takes every view on the way."""
    application = Application(app, opening)
    try:
        _walk(Photographer(application, target))
    finally:
        application.close()


def _walk(photographer: Photographer) -> None:
    application = photographer.application
    window, bench = application.window, application.bench
    assert bench is not None
    cards = application.station.cards
    for card in bench.cards_outside():
        bench.put_in(card)
    photographer.wait(lambda: len(cards) == 2 and all(card.stage is Stage.LISTED for card in cards.values()))
    window.cards.offload()
    photographer.wait(lambda: all(card.pictures for card in cards.values()))
    photographer.take("before-the-start")
    window.cards.glance.start_button.click()
    photographer.wait(lambda: any(ribbon.copied > 0.6 for ribbon in application.desk.cards.ribbons()), 0)
    photographer.take("cards-crossing")
    photographer.wait(lambda: all(card.stage is Stage.PROVEN for card in cards.values()))
    photographer.wait(lambda: len(application.desk.outputs.groups()) == 4)
    photographer.take("cards-proven")
    window.go_to(1)
    photographer.wait(lambda: window.footage.player.image is not None)
    by_key = {each.keys: each.do for each in window.footage.actions_with_keys()}
    for picture, key in ((12, "I"), (40, "O")):
        window.footage.player.go_to(picture)
        by_key[key]()
    photographer.take("footage")
    window.go_to(2)
    keep = application.desk.shelf.lines[1].clip
    application.desk.shelf.judge({keep.id: replace(keep.opinion, verdict="no")}, "no")
    window.outputs.unfold("rewrap")
    photographer.take("outputs")
    window.outputs.unfold("rewrap")
    application.desk.shelf.judge({keep.id: replace(keep.opinion, verdict="")}, "no verdict")
    dialog = window.outputs.group("convert").choose_recipe()
    photographer.take("recipes", dialog)
    dialog.reject()
    chooser = application.desk.outputs.recipe_chooser()
    chooser.choose_named("vc3-hq")
    application.desk.outputs.take(chooser)
    application.desk.outputs.make()
    window.go_to(3)
    photographer.wait(lambda: any(row.percent for row in application.desk.work.rows()), 800)
    photographer.take("work")
    photographer.wait(lambda: not application.desk.work.running())
    window.go_to(2)
    photographer.take("outputs-made")
    window.go_to(4)
    photographer.take("ledger")
    window.ledger.show_page(2)
    photographer.take("what-happened")
    window.go_to(1)
    application.show_scheme("dark")
    photographer.take("footage-dark")
    window.go_to(0)
    photographer.take("cards-dark")


def shoot_eight_cards(opening: Opening, target: Path, app: QApplication) -> None:
    """Eight cards at once, unattended, to three places."""
    application = Application(app, opening)
    try:
        photographer = Photographer(application, target)
        bench = application.bench
        assert bench is not None
        for card in bench.cards_outside():
            bench.put_in(card)
        ribbons = application.desk.cards.ribbons
        photographer.wait(lambda: sum(ribbon.copied > 0.35 for ribbon in ribbons()) >= _CARDS_FAR, 0)
        photographer.take("eight-cards")
    finally:
        application.close()


def shoot_footage(opening: Opening, target: Path, app: QApplication) -> None:
    """Cards of many makes, offloaded: their clips in groups, and some compared."""
    application = Application(app, opening)
    try:
        photographer = Photographer(application, target)
        bench, shelf, footage = application.bench, application.desk.shelf, application.window.footage
        assert bench is not None
        for card in bench.cards_outside():
            bench.put_in(card)
        cards = application.station.cards
        photographer.wait(
            lambda: len(cards) == len(_MIXED) and not any(card.stage.being_read for card in cards.values())
        )
        photographer.wait(lambda: not application.desk.work.running() and all(line.clip.facts for line in shelf.lines))
        for number in range(1, len(_MIXED) + 1):
            bench.pull_out(number)
        application.window.go_to(1)
        application.desk.footage.group_by("Make")
        row = next(number for number in range(len(shelf.lines)) if not application.desk.footage.is_heading(number))
        footage.table.choose_row(row)
        photographer.wait(lambda: footage.player.image is not None)
        photographer.take("footage-groups")
        application.desk.footage.group_by("")
        footage.table.choose_rows([1, 2, 4])
        photographer.take("footage-compared")
    finally:
        application.close()


def shoot_card_set(opening: Opening, target: Path, app: QApplication) -> None:
    """The seven cards of one rig, before the start."""
    application = Application(app, opening)
    try:
        photographer = Photographer(application, target)
        bench, cards = application.bench, application.station.cards
        assert bench is not None
        for card in bench.cards_outside():
            bench.put_in(card)
        photographer.wait(lambda: len(cards) == _RIG and all(card.stage is Stage.LISTED for card in cards.values()))
        photographer.take("card-set")
    finally:
        application.close()


def shoot_spheres(opening: Opening, target: Path, app: QApplication) -> None:
    """Takes of several lenses: how they are stitched, and how well the seams of what was made fit."""
    application = Application(app, opening)
    try:
        photographer = Photographer(application, target)
        bench, cards, outputs = application.bench, application.station.cards, application.desk.outputs
        assert bench is not None
        for card in bench.cards_outside():
            bench.put_in(card)
        photographer.wait(lambda: len(cards) == _RIG + 1 and not any(card.stage.being_read for card in cards.values()))
        photographer.wait(lambda: not application.desk.work.running() and len(outputs.takes()) == _TAKES)
        for number in range(1, _RIG + 2):
            bench.pull_out(number)
        application.window.go_to(2)
        dialog = application.window.outputs.group("stitch").choose_stitch()
        photographer.wait(lambda: dialog.picture.image is not None)
        dialog.align()
        photographer.wait(lambda: outputs.stitching.aligned(outputs.takes()[0]) is not None, 2000)
        photographer.take("stitch-choices", dialog)
        dialog.accept()
        outputs.make()
        photographer.wait(lambda: bool(outputs.made()) and not application.desk.work.running())
        application.window.outputs.made_table.selectRow(0)
        seams = application.window.outputs.look_at_places()
        assert seams is not None
        photographer.wait(lambda: seams.output.image is not None and seams.original.image is not None)
        photographer.take("seams", seams)
        seams.accept()
    finally:
        application.close()


def _eight_cards(demo: Path, folder: Path) -> Path:
    """The demo's cards four times over, each with dates of its own."""
    for number, name in enumerate(_EIGHT):
        shutil.copytree(demo / _TWO[number % 2], folder / name)
        for file in (folder / name).rglob("*"):
            stamp = _EIGHT_DATE_NS + number * 10**12
            os.utime(file, ns=(stamp, stamp))
    return folder


def shoot_first_page(opening: Opening, target: Path, app: QApplication) -> None:
    """The first start, before any place for copies is known."""
    application = Application(app, opening)
    try:
        Photographer(application, target).take("first-start")
    finally:
        application.close()


def take_pictures(demo: Path, target: Path) -> None:
    """Writes every picture to `target`.

    Args:
        demo: a folder with the demo's cards in it.
        target: the folder of the pictures.
    """
    app = QApplication(sys.argv[:1])
    make_demo(demo)
    target.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="tern-rock-") as name:
        folder = Path(name)
        places = demo_places(folder)
        shoot_first_page(Opening(demo_places(folder / "first"), "Tern Rock, day 1", ShootSettings()), target, app)
        bench, cards = folder / "bench", demo / "cards"
        eight = replace(demo_settings(folder), places=tuple(folder / f"Shuttle {at}" for at in "ABC"), unattended=True)
        shoot_eight_cards(
            Opening(
                demo_places(folder / "eight state"), SHOOT, eight,
                bench_of(folder / "eight bench", _eight_cards(demo / "cards", folder / "eight cards"), _CRAWL_BYTES_S),
            ),
            target, app,
        )  # fmt: skip
        shutil.rmtree(folder / "Shuttle A")
        shutil.rmtree(folder / "Shuttle B")
        mixed = _some(cards, _MIXED, folder / "mixed")
        settings = replace(demo_settings(folder / "mixed copies"), unattended=True)
        shoot_footage(Opening(demo_places(folder / "m"), SHOOT, settings, bench_of(folder / "mb", mixed)), target, app)
        rig = _some(cards, [path.name for path in cards.iterdir() if path.name.startswith("Gallery")], folder / "rig")
        with_room = _some(cards, ["Lamp room, second", *(path.name for path in rig.iterdir())], folder / "spheres")
        settings = replace(demo_settings(folder / "sphere copies"), unattended=True)
        shoot_spheres(
            Opening(demo_places(folder / "s"), SHOOT, settings, bench_of(folder / "sb", with_room)), target, app
        )
        settings = demo_settings(folder / "rig copies")
        shoot_card_set(Opening(demo_places(folder / "r"), SHOOT, settings, bench_of(folder / "rb", rig)), target, app)
        cards = _some(cards, _TWO, folder / "two")
        shoot_all(Opening(places, SHOOT, demo_settings(folder), bench_of(bench, cards, _SLOW_BYTES_S)), target, app)


if __name__ == "__main__":
    take_pictures(Path("build/test-demo"), Path(sys.argv[1]))
