"""Whether a picture is part of a sphere: from its metadata, else from its tracks and what the pictures show."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from diadoche.core.errors import Problem
from diadoche.core.identify.facts import Facts, SpatialMetadata, VideoFacts
from diadoche.core.identify.sphere_looks import Laid
from diadoche.core.spatial import Bounds, SphereHead, one_eye_px

# Common practice, no source: cameras record whole spheres from 2K on.
_SPHERE_FROM_PX = 1920
_WHOLE_DEG = (Fraction(360), Fraction(180))
# Sides of pictures are rounded to what encoders take.
_ROUNDED_TO_PX = 16


def placed(facts: Facts, head: SphereHead, lens_circles: int, laid: Laid = None) -> Facts:
    """The facts with projection, packing and field of view; metadata that contradicts the picture is named.

    Args:
        facts: of a file with its tracks.
        head: what the first picture track's metadata says.
        lens_circles: how many round pictures stand side by side in what was looked at.
        laid: as what its pictures look; None where they were not looked at, or do not tell.
    """
    if not facts.video:
        return facts
    facts = replace(facts, projection=head.projection, stereo=head.stereo, spatial="present" if head.told else "none")
    first = facts.video[0]
    if head.projection != "flat":
        return _told(facts, first, head)
    two_lenses = len(facts.video) > 1 and _is_lens(first) and _is_lens(facts.video[1])
    if two_lenses or lens_circles == 2:
        return replace(facts, projection="dual-fisheye")
    if lens_circles == 1:
        return replace(facts, projection="fisheye")
    if laid in {"equirectangular", "cubemap"}:
        # Nothing says so: an editor would show it flat.
        return replace(facts, projection=laid, spatial="missing")
    if laid is None and first.width == 2 * first.height and first.width >= _SPHERE_FROM_PX:
        # The shape of a whole sphere, and pictures that do not tell whether it is one.
        return replace(facts, spatial="missing")
    return facts


def _is_lens(video: VideoFacts) -> bool:
    return video.width == video.height


def _told(facts: Facts, video: VideoFacts, head: SphereHead) -> Facts:
    if head.projection == "cubemap":
        return replace(facts, field_of_view_deg=_WHOLE_DEG)
    if head.projection != "equirectangular":
        # What a lens sees, its mesh tells; that is read where spheres are stitched.
        return facts
    bounds = head.bounds or Bounds()
    verdict, words = _shape_verdict(facts.stereo, video, bounds)
    facts = replace(facts, spatial=verdict, field_of_view_deg=(bounds.width_deg, bounds.height_deg))
    if not words:
        return facts
    problem = Problem(words, facts.path, "The pictures are not affected.", "Correct it when the sphere is written out.")
    return replace(facts, problems=(*facts.problems, problem))


def _shape_verdict(stereo: str, video: VideoFacts, bounds: Bounds) -> tuple[SpatialMetadata, str]:
    """Whether the picture has the shape that its metadata promises: as many pixels a degree across as down."""
    width, height = one_eye_px(stereo, video.width, video.height)
    wanted_px = Fraction(height) * bounds.width_deg / bounds.height_deg
    if abs(width - wanted_px) <= (0 if bounds == Bounds() else _ROUNDED_TO_PX):
        return "present", ""
    part = "a whole sphere" if bounds == Bounds() else f"{arc_text((bounds.width_deg, bounds.height_deg))} of a sphere"
    promised = "two to one" if bounds == Bounds() else f"{float(wanted_px):.0f} pixels wide for its height"
    eyes = "" if stereo == "mono" else " an eye"
    return "wrong", f"It says that it is {part} ({stereo}), but {width}×{height}{eyes} is not {promised}."


def arc_text(field_of_view_deg: tuple[Fraction, Fraction]) -> str:
    """A field of view in words: `360° × 180°`."""
    across, down = (f"{float(each):.4g}" for each in field_of_view_deg)
    return f"{across}° × {down}°"


def view_px(facts: Facts, view_deg: int = 90) -> int | None:
    """How many pixels a view `view_deg` wide has inside an equirectangular sphere; None where nothing tells it."""
    if facts.field_of_view_deg is None or not facts.video or facts.projection != "equirectangular":
        return None
    width, _ = one_eye_px(facts.stereo, facts.video[0].width, facts.video[0].height)
    return round(width * view_deg / facts.field_of_view_deg[0])
