"""What offloads would do, planned away from the thread that shows it: a place may hang for half a minute."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from diadoche.core.cards.card import Card
from diadoche.core.errors import DiadocheError, RequestError
from diadoche.core.offload.plan import OffloadPlan
from diadoche.services.background import InBackground
from diadoche.services.jobs.offload import OffloadRequest, plan_for

_OLD_S = 2.0


@dataclass(slots=True)
class _Planned:
    request: OffloadRequest
    card: Card
    outcome: OffloadPlan | Exception | None = None
    made_s: float = 0.0

    def is_old(self, request: OffloadRequest, card: Card) -> bool:
        """Whether something else is asked for, or the places may be others by now."""
        asked_anew = self.request != request or self.card is not card
        return asked_anew or time.monotonic() - self.made_s > _OLD_S


class Plans:
    """The newest plan for each card."""

    def __init__(self, in_background: InBackground) -> None:
        self._in_background = in_background
        self._planned: dict[str, _Planned] = {}
        self._under_way: set[str] = set()

    def plan(self, key: str, request: OffloadRequest, card: Card, tell: Callable[[], None]) -> OffloadPlan | None:
        """The plan for a request, or the one before it while that is being made; None while there is none.

        Args:
            key: of the card.
            request: what would be asked for.
            card: as it was listed.
            tell: called when there is a new plan.

        Raises:
            DiadocheError: it makes no sense.
        """
        known = self._planned.get(key)
        if (known is None or known.is_old(request, card)) and key not in self._under_way:
            self._under_way.add(key)
            wanted = _Planned(request, card)
            answered_at_once = True

            def came(outcome: OffloadPlan | Exception) -> None:
                self._under_way.discard(key)
                before = self._planned.get(key)
                wanted.outcome, wanted.made_s = outcome, time.monotonic()
                self._planned[key] = wanted
                if not answered_at_once and (before is None or before.outcome != outcome):
                    tell()

            self._in_background(lambda: plan_for(request, card), came)
            answered_at_once = False
        known = self._planned.get(key)
        if known is None or known.card is not card:
            return None
        if isinstance(known.outcome, DiadocheError):
            raise known.outcome
        if isinstance(known.outcome, OSError):
            raise RequestError(
                f"It cannot be planned: {known.outcome}.", safe="Nothing was started.", do="Look at the places."
            ) from known.outcome
        return known.outcome if isinstance(known.outcome, OffloadPlan) else None
