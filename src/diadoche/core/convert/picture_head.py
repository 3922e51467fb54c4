"""What a file's head says of its pictures, and whether a rewrap says the same as its source.

The same packets become other pictures where the head names another variant of their codec, and are shown otherwise
where it does not tell their colours, or the shape of their pixels.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from av.video.stream import VideoStream

from diadoche.core.identify.facts import Color
from diadoche.core.identify.tracks import decoder_of, video_facts

_UNSAID = {"", "unspecified", "undecided", "None"}
# What every reader takes for granted where nothing is told.
_TAKEN_FOR_GRANTED = {"1:1", "progressive", "limited"}


@dataclass(frozen=True, slots=True)
class PictureHead:
    """By the words for each thing that is told: `decoding`, how packets are read; `showing`, how pictures are shown."""

    decoding: dict[str, str]
    showing: dict[str, str]

    @classmethod
    def of(cls, stream: VideoStream) -> PictureHead:
        """What is told of a track. The library must know its codec."""
        facts, context = video_facts(stream, None, None, None), decoder_of(stream)
        decoding = {
            "variant of the codec": facts.profile,
            "size": f"{facts.width}×{facts.height}",
            "kind of samples": str(context.pix_fmt) if context is not None else "",
        }
        aspect: Fraction | None = stream.sample_aspect_ratio
        # Samples of RGB have no matrix, and no other range.
        color = facts.color if facts.chroma != "RGB" else Color(facts.color.primaries, facts.color.transfer)
        showing = {
            "shape of a pixel": f"{aspect.numerator}:{aspect.denominator}" if aspect else "",
            "primaries": color.primaries,
            "transfer": color.transfer,
            "matrix": color.matrix,
            "range": color.range,
            "scan": facts.scan_flagged,
            "order of fields": str(facts.field_order),
        }
        return cls(decoding, showing)

    def decoded_otherwise(self, output: PictureHead) -> tuple[str, ...]:
        """What an output tells otherwise than this source, of what its packets are."""
        return _differing(self.decoding, output.decoding)

    def shown_otherwise(self, output: PictureHead) -> tuple[str, ...]:
        """What an output tells otherwise than this source, or not at all, of how its pictures are shown."""
        return _differing(self.showing, output.showing)


def shown_otherwise(stream: VideoStream, shape: Fraction, color_range: str) -> tuple[str, ...]:
    """What an output does not say of its pictures.

    Args:
        stream: its picture track.
        shape: how wide a pixel is for its height.
        color_range: the name of its range.
    """
    wanted = {"shape of a pixel": f"{shape.numerator}:{shape.denominator}"}
    if not stream.format.is_rgb:
        wanted["range"] = color_range
    return _differing(wanted, PictureHead.of(stream).showing)


def _differing(source: dict[str, str], output: dict[str, str]) -> tuple[str, ...]:
    found = []
    for thing, told in source.items():
        other = output[thing]
        if other in _UNSAID and told not in _UNSAID | _TAKEN_FOR_GRANTED:
            found.append(f"{thing} {told}")
        elif other not in _UNSAID and told not in _UNSAID and other != told:
            found.append(f"{thing} {told}, not {other}")
    return tuple(found)
