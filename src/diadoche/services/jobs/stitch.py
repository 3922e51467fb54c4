"""Lens files into one sphere: the use case behind `stitch`."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from numpy.typing import NDArray

from diadoche.core.convert.outputs import Output, failed
from diadoche.core.convert.recipes import Recipe
from diadoche.core.convert.record import OutputRecord, SourceFile
from diadoche.core.convert.transcode import Marks, convert
from diadoche.core.diskfiles import write_whole
from diadoche.core.errors import DiadocheError, MediaError, Problem, RequestError, writing
from diadoche.core.memory import give_back_free_memory
from diadoche.core.sphere.rig import Rig, rig_text
from diadoche.core.sphere.seam_curve import SeamCurve
from diadoche.core.sphere.shape import Layout, Quality
from diadoche.core.watch import Share, Watch
from diadoche.services.jobs.job_kind import JobKind
from diadoche.services.jobs.lens_take import LensTake, StitchSettings, finished, moments_of, opened
from diadoche.services.wire import to_text

if TYPE_CHECKING:
    from diadoche.core.sphere.calibration import Calibration
    from diadoche.core.sphere.source import StitchSource

# Whether lenses are aligned by what they see in common first: not at all, where that can be done, or else not stitched.
Align = Literal["no", "may", "must"]


@dataclass(frozen=True, slots=True)
class StitchRequest:
    """One take, and what is to come of it. `stem`: the output's name without its ending."""

    take: LensTake
    recipe: Recipe
    folder: Path
    settings: StitchSettings = field(default_factory=StitchSettings)
    stem: str = ""
    marks: tuple[str, str] | None = None
    align: Align = "no"
    # Where the aligned rig is kept.
    save_rig: Path | None = None
    camera: str = ""
    clip_id: int = 0
    # The camera body whose rig it is; nothing where that is not known.
    body: str = ""


@dataclass(frozen=True, slots=True)
class AlignedRig:
    """A rig as the footage has it, as the text of its file, and how well that is known.

    `residual_px` is what places that had no part in it are off by, in pixels of the lens pictures; `unknown` is what
    the footage does not tell, so that the supplied values stand.
    """

    text: str
    residual_px: float
    worst_px: float
    matches: int
    unknown: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class StitchOutput:
    """An output, and how it was stitched."""

    output: Output
    rig: str
    size: tuple[int, int]
    layout: Layout
    aligned: AlignedRig | None = None
    seam: SeamCurve | None = None
    # Red, green and blue of each lens in linear light; empty where they were left as they are.
    gains: tuple[tuple[float, ...], ...] = ()
    # What share of the light the lenses leave at their rims, where that was found and undone.
    rim_light: float | None = None
    saved_rig: str = ""
    quality: Quality = "best"
    # What would be enough for this shot; nothing where no lenses meet.
    proposed_quality: str = ""

    def as_dict(self) -> dict[str, object]:
        """As the command line's JSON has it; what was not measured is null."""
        aligned = self.aligned
        return {
            "output": self.output.output,
            "frames": self.output.frames_out,
            "rig": self.rig,
            "size": f"{self.size[0]}x{self.size[1]}" if all(self.size) else "",
            "layout": self.layout,
            "quality": self.quality,
            "proposed_quality": self.proposed_quality,
            "residual_px": None if aligned is None else round(aligned.residual_px, 3),
            "matches": 0 if aligned is None else aligned.matches,
            "unknown": [] if aligned is None else list(aligned.unknown),
            "gains": [[round(gain, 4) for gain in lens] for lens in self.gains],
            "rim_light": None if self.rim_light is None else round(self.rim_light, 3),
            "seam": None if self.seam is None else self.seam.as_dict(),
            "saved_rig": self.saved_rig,
            "seconds": round(self.output.seconds, 3),
            "checks": self.output.as_dict()["checks"],
            "problems": [problem.as_dict() for problem in self.output.problems],
        }


def perform_stitch(request: StitchRequest, watch: Watch) -> StitchOutput:
    """Stitches, encodes and checks one take. What goes wrong with the footage is a problem in it.

    Raises:
        RequestError: files, rig, recipe and size do not fit together.
        Cancelled: nothing is left behind.
    """
    take, settings = request.take, request.settings
    rig = take.load_rig()
    try:
        source = opened(take, settings, measured=True)
        marks = Marks.parse(*request.marks, source.picture) if request.marks else None
        frames = source.lens_planes(moments_of(source.picture, marks))
        lumas = [[planes[0] for planes in pictures] for pictures in frames]
        aligned, told = None, _faults(source, lumas, take)
        if request.align != "no":
            aligned, said = _aligned(source.rig, lumas, request.align, Share(watch, 0, 0.1))
            told += said
        if aligned is not None:
            source = source.with_rig(replace(take, rig=aligned.text, missing=()).load_rig())
            if request.save_rig is not None:
                with writing(request.save_rig):
                    write_whole(request.save_rig, aligned.text.encode("utf-8"))
        ready = finished(source, settings, frames, marks)
        # Lens pictures of several moments: not needed any more, and they would lie beside those that are stitched.
        del frames, lumas
        give_back_free_memory()
        encoding = Share(watch, 0.1, 1) if request.align != "no" else watch
        made = convert(
            ready.source,
            request.recipe,
            request.folder,
            encoding,
            marks=marks,
            stem=request.stem,
            camera=request.camera,
        )
    except RequestError:
        raise
    except DiadocheError as error:
        sources = tuple(str(path) for path in take.paths)
        return StitchOutput(failed(sources, request.recipe.name, error.problem), rig.name, (0, 0), settings.layout)
    if take.missing and made.output:
        told.append(_hole(take, made))
    told += [*made.problems, *ready.source.problems(), *_not_of_iso(request.recipe, made)]
    # The whole rig: whoever makes this again leaves out what is missing then.
    whole = rig_text(replace(take, missing=()).load_rig())
    record = _record(request, aligned.text if aligned is not None else whole)
    seam = ready.source.seam(*((marks.first, marks.end) if marks is not None else ())) if made.output else None
    return StitchOutput(
        replace(made, problems=tuple(told), record=record, seam_px=seam.breaks_px if seam is not None else ()),
        rig.name,
        (source.shape.width, source.shape.height),
        settings.layout,
        aligned,
        seam,
        ready.source.gains,
        ready.source.rim_light,
        str(request.save_rig or "") if aligned is not None else "",
        settings.quality,
        "" if ready.shot is None else ready.shot.proposed,
    )


def _aligned(
    rig: Rig, lumas: Sequence[Sequence[NDArray[Any]]], align: Align, watch: Watch
) -> tuple[AlignedRig | None, list[Problem]]:
    """The aligned rig; where it may be left as it is, a problem says that it was."""
    from diadoche.core.sphere.calibration import calibrated

    try:
        return aligned_rig(rig, calibrated(rig, lumas, watch)), []
    except MediaError as error:
        if align == "must":
            raise
        problem = error.problem
        return None, [
            replace(problem, safe="It is stitched by the rig's own values.", do="Align it by another moment.")
        ]


def _faults(source: StitchSource, lumas: Sequence[Sequence[NDArray[Any]]], take: LensTake) -> list[Problem]:
    """What is wrong with the lenses, as far as a stitch makes sense all the same.

    Raises:
        MediaError: it does not.
    """
    from diadoche.core.sphere.lens_check import lens_faults

    faults = lens_faults(source.rig, lumas, source.picture.bit_depth)
    sure = next((fault for fault in faults if fault.sure), None)
    if sure is not None:
        raise MediaError(
            sure.words,
            path=take.paths[0],
            safe="The originals are untouched; nothing was written.",
            do="Give the files in the order of the rig, or a rig that is as the camera was.",
        )
    safe, do = "It is stitched as it is; the originals are untouched.", "Look at the result before it is used."
    return [Problem(fault.words, str(take.paths[0]), safe, do) for fault in faults]


def aligned_rig(rig: Rig, found: Calibration) -> AlignedRig:
    """What a calibration found, as values."""
    lenses = zip(rig.lenses, found.unknown, strict=True)
    unknown = tuple(f"{lens.name}: {what}" for lens, names in lenses for what in names)
    return AlignedRig(rig_text(found.rig), found.residual_px, found.worst_px, found.matches, unknown)


def _record(request: StitchRequest, rig: str) -> OutputRecord:
    sources = []
    for path in request.take.paths:
        size = 0
        with suppress(OSError):
            size = path.stat().st_size
        sources.append(SourceFile(str(path), size))
    stitch = {"rig": rig, "settings": to_text(request.settings)}
    return OutputRecord(tuple(sources), request.recipe, marks=request.marks, stitch=stitch)


def _hole(take: LensTake, made: Output) -> Problem:
    gone = " and ".join(map(str, take.missing))
    return Problem(
        f"Lens {gone} is missing: what no other lens saw is black.",
        made.output,
        "What the other lenses saw is stitched; the originals are untouched.",
        "Stitch it again when that lens's card is found.",
    )


def _not_of_iso(recipe: Recipe, made: Output) -> list[Problem]:
    if recipe.container.name in {"mov", "mp4"} or not made.output:
        return []
    return [
        Problem(
            f"{recipe.container.name.upper()} is written without the marks of a sphere: players show it flat.",
            made.output,
            "The pictures are right.",
            "Choose a recipe in MOV or MP4 where players must know.",
        )
    ]


KIND = JobKind("stitch", StitchRequest, StitchOutput, perform_stitch, rank=2, gentle=True)
