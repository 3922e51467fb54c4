"""Pictures of a sphere before it is made: the whole of a moment, flat, and its seams, unrolled."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import partial

from PyQt6.QtCore import QRectF, QSize
from PyQt6.QtGui import QImage, QPainter

from diadoche.services.jobs.lens_take import LensTake, StitchSettings
from diadoche.services.side_processes.sphere_preview import ShotSeen, SpherePreview, SpherePreviews
from diadoche.ui.bridge import Bridge
from diadoche.ui.picture_stage import PictureStage

# A seam is shown in so many pieces below each other: in one piece it would be a thread.
_PIECES = 3
_GAP_PX = 3


class SeamPicture(PictureStage):
    """A seam, unrolled, in pieces below each other."""

    def sizeHint(self) -> QSize:  # Qt's name
        return QSize(600, 3 * 80)

    def _paint(self, painter: QPainter, image: QImage) -> None:
        piece = image.width() // _PIECES
        scale = min(self.width() / piece, ((self.height() + _GAP_PX) / _PIECES - _GAP_PX) / image.height())
        wide, high = piece * scale, image.height() * scale
        left = (self.width() - wide) / 2
        for number in range(_PIECES):
            target = QRectF(left, number * (high + _GAP_PX), wide, high)
            painter.drawImage(target, image, QRectF(number * piece, 0, piece, image.height()))


@dataclass(frozen=True, slots=True)
class _Wanted:
    take_id: int
    take: LensTake
    settings: StitchSettings
    moment_s: Fraction
    width_px: int


class PreviewThread:
    """Makes previews away from the window; of those that are asked for meanwhile, only the last."""

    def __init__(self, previewed: Callable[[SpherePreview], None], seen: Callable[[int, ShotSeen], None]) -> None:
        """`previewed` gets pictures, and `seen` once for each take what kind of shot it is."""
        self._bridge = Bridge(lambda told: told())  # type: ignore[operator]  # only calls are posted
        self._previewed, self._seen = previewed, seen
        self._known: set[int] = set()
        self._wanted: _Wanted | None = None
        self._changed = threading.Condition()
        self._closed = False
        threading.Thread(target=self._run, name="sphere previews", daemon=True).start()

    def ask(self, take_id: int, take: LensTake, settings: StitchSettings, moment_s: Fraction, width_px: int) -> None:
        """Wants another preview."""
        with self._changed:
            self._wanted = _Wanted(take_id, take, settings, moment_s, width_px)
            self._changed.notify()

    def close(self) -> None:
        """No more previews; the process ends with the one it is at."""
        with self._changed:
            self._closed = True
            self._changed.notify()

    def _run(self) -> None:
        with SpherePreviews() as previews:
            while True:
                with self._changed:
                    while self._wanted is None and not self._closed:
                        self._changed.wait()
                    wanted, self._wanted = self._wanted, None
                if self._closed or wanted is None:
                    return
                found = previews.picture(wanted.take, wanted.settings, wanted.moment_s, wanted.width_px)
                if self._stale():
                    continue
                self._bridge.post(partial(self._previewed, found))
                if wanted.take_id not in self._known and found.png:
                    self._known.add(wanted.take_id)
                    shot = previews.shot(wanted.take, wanted.settings, wanted.moment_s)
                    if shot is not None and not self._closed:
                        self._bridge.post(partial(self._seen, wanted.take_id, shot))

    def _stale(self) -> bool:
        with self._changed:
            return self._wanted is not None or self._closed
