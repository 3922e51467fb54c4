"""What is known about a file: frozen values, and the JSON that the command line promises."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Literal

from diadoche.core.errors import Problem
from diadoche.core.rates import rate_text
from diadoche.core.timecode import PictureLabels, Timecode

Scan = Literal["progressive", "interlaced", "mixed", "undecided"]
FieldOrder = Literal["top", "bottom"]
# Straight from a camera, or made by a program from something else.
Origin = Literal["camera", "converted", "unknown"]
SpatialMetadata = Literal["none", "present", "missing", "wrong"]
RouteName = Literal["ready", "rewrap", "join", "convert", "stitch", "develop", "unsupported"]


@dataclass(frozen=True, slots=True)
class Color:
    """Colour tags by their published names; "unspecified" where the file does not say."""

    primaries: str = "unspecified"
    transfer: str = "unspecified"
    matrix: str = "unspecified"
    range: str = "unspecified"


@dataclass(frozen=True, slots=True)
class CombEvidence:
    """The frame and the place in it where the fields differ most. Pixels from the top left."""

    time_s: float
    left_px: int
    top_px: int
    side_px: int


@dataclass(frozen=True, slots=True)
class Gap:
    """Where pictures are missing in an even run: the time of the last one before, and how many would fit there."""

    at_s: float
    pictures: int


@dataclass(frozen=True, slots=True)
class VideoFacts:
    """One video track. `scan` is what the pictures show, `scan_flagged` what the file says."""

    codec: str
    profile: str
    width: int
    height: int
    pixel_aspect: Fraction
    rotation: int
    frame_rate: Fraction
    frame_rate_mode: Literal["constant", "variable"]
    scan: Scan
    scan_flagged: Scan
    field_order: FieldOrder | None
    bit_depth: int
    chroma: str
    intra_only: bool
    bit_rate: int
    color: Color
    timecode: str | None
    decodable: bool
    evidence: CombEvidence | None = None
    frame_rate_told: bool = True
    # The slowest and the fastest pace between pictures, in pictures a second, where the rate varies.
    rate_range: tuple[Fraction, Fraction] | None = None
    # Why the picture looks as if a log curve had been recorded; empty where it does not.
    log_curve: str = ""
    gaps: tuple[Gap, ...] = ()
    # At what rate the timecode counts, where that is not the pictures' own: 25 labels a second on 50 pictures.
    timecode_rate: Fraction | None = None
    # Whether it is film on a video clock: pictures of two and of three fields take turns.
    pulldown: bool = False
    # Whether each pixel also says how much of what lies behind shows through.
    has_alpha: bool = False
    # Whether left and right change places for showing, before pictures are turned by `rotation`.
    mirrored: bool = False
    # A digest of what its file's head tells the decoder; empty where it tells nothing.
    decoder_head: str = ""

    @property
    def labels(self) -> PictureLabels | None:
        """The timecode of each picture; None where there is none, or none that makes sense at its rate."""
        if self.timecode is None:
            return None
        for rate in (self.timecode_rate, self.frame_rate):
            with suppress(ValueError):
                return PictureLabels(Timecode.parse(self.timecode, rate or self.frame_rate), self.frame_rate)
        return None

    @property
    def interlaced(self) -> bool:
        """Whether to treat the pictures as fields: by sight, or by the flags where sight cannot tell."""
        seen = self.scan if self.scan != "undecided" else self.scan_flagged
        return seen in {"interlaced", "mixed"}

    def as_dict(self) -> dict[str, object]:
        """The track as the command line's JSON has it."""
        return {
            "codec": self.codec,
            "profile": self.profile,
            "width": self.width,
            "height": self.height,
            "pixel_aspect": f"{self.pixel_aspect.numerator}:{self.pixel_aspect.denominator}",
            "rotation": self.rotation,
            "mirrored": self.mirrored,
            "frame_rate": rate_text(self.frame_rate),
            "frame_rate_mode": self.frame_rate_mode,
            "scan": self.scan,
            "scan_flagged": self.scan_flagged,
            "field_order": self.field_order,
            "pulldown": "2:3" if self.pulldown else None,
            "bit_depth": self.bit_depth,
            "chroma": self.chroma,
            "alpha": self.has_alpha,
            "intra_only": self.intra_only,
            "bit_rate": self.bit_rate,
            "color": {
                "primaries": self.color.primaries,
                "transfer": self.color.transfer,
                "matrix": self.color.matrix,
                "range": self.color.range,
            },
            "timecode": self.timecode,
            "timecode_rate": rate_text(self.timecode_rate) if self.timecode_rate else None,
            "gaps": [{"at_s": gap.at_s, "pictures": gap.pictures} for gap in self.gaps],
            "decodable": self.decodable,
            "frame_rate_told": self.frame_rate_told,
            "frame_rate_range": [rate_text(each) for each in self.rate_range] if self.rate_range else None,
            "log_curve": self.log_curve,
        }


@dataclass(frozen=True, slots=True)
class AudioFacts:
    """One sound track. `bit_depth` is None for codecs that have none."""

    codec: str
    channels: int
    layout: str
    sample_rate: int
    bit_depth: int | None
    decodable: bool

    def as_dict(self) -> dict[str, object]:
        """The track as the command line's JSON has it."""
        return {
            "codec": self.codec,
            "channels": self.channels,
            "layout": self.layout,
            "sample_rate": self.sample_rate,
            "bit_depth": self.bit_depth,
            "decodable": self.decodable,
        }


@dataclass(frozen=True, slots=True)
class Route:
    """What must happen before a clip can be cut, and why, a sentence a reason."""

    name: RouteName
    reasons: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Facts:
    """Everything that is known about one file, or about the spans of one clip together."""

    path: str
    container: str
    duration_s: float
    frames: int | None
    start: datetime | None
    size_bytes: int
    video: tuple[VideoFacts, ...] = ()
    audio: tuple[AudioFacts, ...] = ()
    data: tuple[str, ...] = ()
    projection: str = "flat"
    stereo: str = "mono"
    problems: tuple[Problem, ...] = ()
    route: Route = field(default=Route("unsupported", ()))
    # Maker and model where they are written in the file.
    camera: str = ""
    serial: str = ""
    origin: Origin = "unknown"
    origin_reason: str = ""
    spatial: SpatialMetadata = "none"
    # Whether its sound lies in files of its own.
    sound_apart: bool = False
    # Degrees of arc across and down that the picture (of one eye) spans; None where nothing tells it.
    field_of_view_deg: tuple[Fraction, Fraction] | None = None
    # What its later spans, or later pictures of a file, are otherwise than the first, in words; among its problems too.
    span_differences: tuple[str, ...] = ()

    @property
    def pictures(self) -> int:
        """How many pictures it shows: as counted, else by its length."""
        return self.frames or max(1, round(self.duration_s * float(self.video[0].frame_rate))) if self.video else 0

    def routed(self, route: Route) -> Facts:
        """The same facts with a route."""
        return replace(self, route=route)

    def as_dict(self) -> dict[str, object]:
        """The file as the command line's JSON has it."""
        return {
            "path": self.path,
            "container": self.container,
            "duration_s": self.duration_s,
            "frames": self.frames,
            "start": self.start.isoformat() if self.start else None,
            "size_bytes": self.size_bytes,
            "video": [track.as_dict() for track in self.video],
            "audio": [track.as_dict() for track in self.audio],
            "sound_apart": self.sound_apart,
            "data": list(self.data),
            "projection": self.projection,
            "stereo": self.stereo,
            "spatial_metadata": self.spatial,
            "field_of_view_deg": [float(each) for each in self.field_of_view_deg] if self.field_of_view_deg else None,
            "camera": self.camera,
            "serial": self.serial,
            "origin": self.origin,
            "origin_reason": self.origin_reason,
            "problems": [problem.as_dict() for problem in self.problems],
            "route": self.route.name,
            "reasons": list(self.route.reasons),
        }


def unreadable(path: Path, problem: Problem, size_bytes: int = 0) -> Facts:
    """The facts of a file that tells nothing but what is wrong with it."""
    return Facts(str(path), "unknown", 0.0, None, None, size_bytes, problems=(problem,))
