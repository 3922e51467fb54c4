"""The lenses of a camera body aligned by one of its takes, for all of them."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from diadoche.core.watch import Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.lens_take import LensTake, StitchSettings, moments_of, opened
from diadoche.services.jobs.stitch import AlignedRig, aligned_rig


@dataclass(frozen=True, slots=True)
class CalibrateRequest:
    """By which take, and by which of its moments first, in seconds; None: its middle."""

    take: LensTake
    body: str
    moment_s: Fraction | None = None


def perform_calibrate(request: CalibrateRequest, watch: Watch) -> AlignedRig:
    """Aligns the lenses.

    Raises:
        MediaError: there is not enough to align by, or a file cannot be read.
        RequestError: files and rig do not fit together.
        Cancelled: the watch was stopped.
    """
    from diadoche.core.sphere.calibration import calibrated

    source = opened(request.take, StitchSettings())
    frames = source.lens_planes(moments_of(source.picture, None, request.moment_s))
    found = calibrated(source.rig, [[planes[0] for planes in pictures] for pictures in frames], watch)
    return aligned_rig(source.rig, found)


KIND = JobKind("calibrate", CalibrateRequest, AlignedRig, perform_calibrate, rank=2, gentle=True)
