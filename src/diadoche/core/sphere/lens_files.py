"""Files as the lenses of a take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from diadoche.core.errors import MediaError, RequestError
from diadoche.core.identify.facts import Facts
from diadoche.core.names import shown
from diadoche.core.sizes import count_text
from diadoche.core.sphere.rig import Rig


@dataclass(frozen=True, slots=True)
class LensFiles:
    """The spans that hold a lens's picture, or that of several lenses, and in which of their picture tracks."""

    paths: tuple[Path, ...]
    facts: Facts
    track: int = 0

    @property
    def name(self) -> str:
        """For people."""
        return shown(self.paths[0].name) + (f", track {self.track + 1}" if self.track else "")


def lens_files(lenses: Sequence[Sequence[Path]], facts: Sequence[Facts], rig: Rig) -> list[LensFiles]:
    """Files as the pictures of a rig: a file each, or the tracks of one; of each its spans.

    Raises:
        MediaError: a file holds no picture.
        RequestError: there are not as many pictures as the rig has.
    """
    found = []
    for spans, each in zip(lenses, facts, strict=True):
        if not each.video:
            name = shown(spans[0].name)
            raise MediaError(f"{name} holds no picture.", path=spans[0], safe="It is untouched.", do="Nothing.")
        tracks = len(each.video) if len(lenses) == 1 else 1
        for track in range(min(tracks, rig.pictures)):
            own = replace(each, video=each.video[track:]) if track else each
            found.append(LensFiles(tuple(spans), own, track))
    if len(found) != rig.pictures:
        raise RequestError(
            f"The rig {rig.name} takes {count_text(rig.pictures, 'picture')}, and {len(found)} were given.",
            do="Give a file for each of its pictures, in the order of the rig, or choose another rig.",
        )
    return found
