"""All views of the window, as it is filled with them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from diadoche.screens.desk import Desk
from diadoche.ui.asks import Asks
from diadoche.ui.cards_view import CardsView
from diadoche.ui.clip_icons import ClipIcons
from diadoche.ui.footage_view import FootageView
from diadoche.ui.ledger_view import LedgerView
from diadoche.ui.outputs_view import OutputsView
from diadoche.ui.shoot_button import ShootButton
from diadoche.ui.theme import Theme
from diadoche.ui.work_view import WorkView

if TYPE_CHECKING:
    # Loaded for the demo alone: it draws cameras, and a start of the application would wait for that.
    from diadoche.demo.bench import Bench


@dataclass(frozen=True, slots=True)
class Views:
    """The five views of the rail, the shoot's own button below them, and the pictures in their tables."""

    cards: CardsView
    footage: FootageView
    outputs: OutputsView
    work: WorkView
    ledger: LedgerView
    shoot: ShootButton
    icons: ClipIcons


def make_views(theme: Theme, desk: Desk, bench: Bench | None, asks: Asks) -> Views:
    """The views of all screens.

    Args:
        theme: the look in force.
        desk: all screens.
        bench: simulated readers, in the demo.
        asks: what the window asks the application for.
    """
    icons = ClipIcons(theme)
    return Views(
        CardsView(theme, desk.cards, bench, asks.connect),
        FootageView(theme, desk.footage, icons),
        OutputsView(theme, desk.outputs, icons),
        WorkView(theme, desk.work),
        LedgerView(theme, desk.ledger),
        ShootButton(desk.cards.shoots, asks),
        icons,
    )
