"""A place for copies that stops answering, for questions about names and room too: the window goes on."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from diadoche.demo.faulty_folder import Faults
from diadoche.demo.opening import demo_places, demo_settings
from diadoche.services.machine.settings import load_settings
from tests.end_to_end.conftest import Opener
from tests.end_to_end.driving import Pulse, click, first, offload, press, texts, waits
from tests.mounts import Mounter


def test_every_view_goes_on_while_a_place_hangs(
    open_window: Opener, qtbot: QtBot, faulty: Mounter, tmp_path: Path, shoot_folder: Path
) -> None:
    disk = faulty(tmp_path / "behind", writable=True)
    settings = replace(demo_settings(shoot_folder), places=(tmp_path / "A", disk.point), outputs=disk.point)
    application = open_window(settings)
    window = application.window
    click(application, qtbot, "Put in Drone")
    waits(qtbot, lambda: first(application) == "The card is not copied yet.")
    offload(application, qtbot)
    waits(qtbot, lambda: not application.desk.work.running() and bool(application.desk.ledger.entries))
    click(application, qtbot, "Put in Keeper")
    waits(qtbot, lambda: application.desk.cards.can_offload_any)
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    try:
        pulse = Pulse()
        waits(qtbot, lambda: application.station.silent_place() is not None)
        for _round in range(2):
            for number in range(1, 6):
                press(window, Qt.Key(ord(str(number))), Qt.KeyboardModifier.ControlModifier)
                assert window.stack.currentIndex() == number - 1
                qtbot.wait(20)
            application.desk.ledger.select(0)
            detail = application.desk.ledger.detail()
            assert detail is not None
            # What was known before is said no longer: neither that copies are here, nor how much room there is.
            told = "\n".join(words for _mark, words in detail.copies)
            assert told.count("Whether it is here is not known") == 1
            assert "is not known to be here" in application.desk.outputs.room()[0]
        press(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
        waits(qtbot, lambda: "does not answer" in texts(window.cards))
        assert any(f"{disk.point.name} has not answered for" in text for text in texts(window.watch_line))
        click(application, qtbot, "Offload")
        waits(qtbot, lambda: window.cards.glance.start_button.isEnabled())
        pulse.stop()
    finally:
        disk.set(Faults())


def test_the_window_goes_on_while_its_own_folder_hangs(
    open_window: Opener, qtbot: QtBot, faulty: Mounter, tmp_path: Path, shoot_folder: Path
) -> None:
    """Home may be on a share: settings, and the person's own recipes and profiles, are waited for by nobody."""
    disk = faulty(tmp_path / "behind", writable=True)
    config = demo_places(shoot_folder).config
    config.symlink_to(disk.point)
    application = open_window()
    window = application.window
    disk.set(Faults(hangs=True, hangs_on_metadata=True))
    try:
        before = threading.active_count()
        for _time in range(12):
            press(window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
        assert threading.active_count() <= before + 5, "one thread waits for the settings, and one for each own folder"
        pulse = Pulse()
        press(window, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
        assert application.theme.colours.dark
        window.go_to(2)
        window.outputs._list_profiles()
        assert len(window.outputs._profiles.actions()) > 2
        application.station.own.look_again()
        application.desk.outputs.choose_profile("intra-only")
        chooser = application.desk.outputs.recipe_chooser()
        assert len(chooser.rows()) > 5
        chooser.own_file(lambda _written: None)
        qtbot.wait(100)
        pulse.stop()
        assert load_settings(tmp_path / "behind").scheme == "system"
    finally:
        disk.set(Faults())
    # What was chosen meanwhile is kept as soon as it can be.
    waits(qtbot, lambda: load_settings(config).scheme == "dark")
    waits(qtbot, lambda: (config / "recipes").is_dir())
