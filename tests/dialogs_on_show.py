"""Dialogs that open from menus and tables, on show in a program of their own, so that others can read what they tell.

Run as `python -m tests.dialogs_on_show NAME FOLDER`.
"""

from __future__ import annotations

import sys
from pathlib import Path

from PyQt6.QtWidgets import QApplication, QDialog, QWidget

from diadoche.core.cards.clips import Clip
from diadoche.core.convert.recipes import recipes
from diadoche.core.identify.probe import identify
from diadoche.core.watch import Watch
from diadoche.screens.places import OutputPlaces, output_places
from diadoche.services.jobs.make_output import MakeRequest, perform_make
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.ui.address_dialog import AddressDialog
from diadoche.ui.help_dialog import HelpDialog
from diadoche.ui.places_dialog import PlacesDialog
from diadoche.ui.theme import Theme
from tests.outside.numbered import film


def places_of_two_holes(folder: Path) -> OutputPlaces:
    """An output of a clip with two holes in an even run, which become pictures that stand twice."""
    source = film(
        folder / "in.mp4", range(100), "25", "-c:v", "libx264", "-bf", "0", "-c:a", "aac",
        kept="not(eq(n,20)+eq(n,60)+eq(n,61))",
    )  # fmt: skip
    facts = identify([source], "counted")
    output = perform_make(MakeRequest((source,), recipes()["vc3-hq"], folder / "out", facts=facts), Watch())
    clip = KeptClip(1, "Shore", Clip("in", ("in.mp4",), (), 1), folder, (), facts, (output,))
    return output_places(clip, output)


def main(name: str, folder: Path) -> int:
    """Shows one of them until the program is ended."""
    app = QApplication([])
    theme = Theme(app)
    theme.apply("light", 100)
    parent = QWidget()
    dialog: QDialog
    if name == "help":
        dialog = HelpDialog(parent, [], [], [])
    elif name == "address":
        dialog = AddressDialog(parent, lambda *_words: None)
    else:
        dialog = PlacesDialog(parent, theme, places_of_two_holes(folder))
    dialog.open()
    return app.exec()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], Path(sys.argv[2])))
