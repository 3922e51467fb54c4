"""Footage that has just been proven: its clips are looked at from the copy, not from the card."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from diadoche.core.errors import LedgerError
from diadoche.core.sizes import count_text
from diadoche.services.background import InBackground
from diadoche.services.jobs.identify import ClipToIdentify, IdentifyRequest
from diadoche.services.ledger.kept_clips import KeptClip, kept_clips
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.machine.state_places import StatePlaces
from diadoche.services.queue.runner import Job, Runner


class NewFootage:
    """Asks for every new clip to be looked at, once."""

    def __init__(
        self,
        ledger: Ledger,
        runner: Runner,
        places: StatePlaces,
        in_background: InBackground,
        is_there: Callable[[Path, Path], bool | None],
    ) -> None:
        """
        Args:
            ledger, runner, places: what it works with.
            in_background: does what may take long.
            is_there: whether a copy's folder is there, by it and its place, as far as that is known.
        """
        self._ledger = ledger
        self._in_background = in_background
        self._is_there = is_there
        self._runner = runner
        self._places = places
        self._looked_at: set[int] = set()

    def taken_up(self, jobs: Sequence[Job]) -> None:
        """Jobs that an earlier run left look at their clips already."""
        for job in jobs:
            if job.kind == "identify":
                self._looked_at.update(clip.clip_id for clip in job.request.clips)

    def look_at(self, shoot_id: int, profile: str, of: str) -> None:
        """Looks at every clip of a shoot that stands in a copy and of which nothing is known yet.

        Args:
            shoot_id: the shoot.
            profile: name of the editor profile that the clips are judged for.
            of: what they are clips of, in words.
        """

        def came(kept: list[KeptClip] | Exception) -> None:
            # Where the ledger is held by somebody else, the next occasion asks again.
            if not isinstance(kept, Exception):
                self._ask(kept, profile, of)

        self._in_background(lambda: kept_clips(self._ledger, shoot_id, self._is_there, only_unknown=True), came)

    def _ask(self, kept: Sequence[KeptClip], profile: str, of: str) -> None:
        new = [clip for clip in kept if clip.facts is None and clip.id not in self._looked_at]
        if not new:
            return
        self._looked_at.update(clip.id for clip in new)
        request = IdentifyRequest(
            tuple(ClipToIdentify(clip.paths, clip.id, clip.sounds) for clip in new),
            profile,
            own_profiles=self._places.own_profiles,
            facts_memory=self._places.facts_memory,
        )
        try:
            self._runner.add("identify", f"Look at {count_text(len(new), 'clip')} of {of}", "facts", request)
        except LedgerError:
            self._looked_at.difference_update(clip.id for clip in new)
