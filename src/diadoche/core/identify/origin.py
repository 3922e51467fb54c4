"""Camera original, or converted once already: told from what is written in the file, with the reason."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from diadoche.core.identify.facts import Origin

# What general-purpose media libraries write about themselves. From memory.
_LIBRARIES = ("Lavf", "Lavc", "x264", "x265", "libmatroska", "libebml", "libwebm", "GStreamer", "SVT-AV1", "libaom")
_IN_PICTURES = ((b"x264 - core", "x264"), (b"x265 (build", "x265"), (b"Lavc", "Lavc"))
# Where containers keep maker, model and program: [14496-12] user data, QuickTime metadata keys, MXF identification.
_MAKERS = ("make", "com.apple.quicktime.make", "com.android.manufacturer", "company_name")
_MODELS = ("model", "com.apple.quicktime.model", "com.android.model", "product_name")
_SERIALS = ("serial_number", "serialnumber", "serial", "device_serial")
_PROGRAMS = ("encoder", "software", "com.apple.quicktime.software", "writing_application", "encoded_by")
_SEARCHED_BYTES = 65536


@dataclass(frozen=True, slots=True)
class Written:
    """Who wrote a file, as far as it says."""

    camera: str
    origin: Origin
    reason: str
    serial: str = ""


def written_by(metadata: Sequence[Mapping[str, str]], first_packet: bytes, *, camera_packs: bool) -> Written:
    """Judges by tags and by what encoders leave in the pictures.

    Args:
        metadata: tags of the file and of its tracks.
        first_packet: the first coded picture and what stands before it.
        camera_packs: whether the pictures carry a camera's own date and timecode.
    """
    tags = {key.lower(): value.strip() for carrier in reversed(metadata) for key, value in carrier.items()}
    program = _library(tags) or next(
        (name for mark, name in _IN_PICTURES if mark in first_packet[:_SEARCHED_BYTES]), ""
    )
    maker = next((tags[key] for key in _MAKERS if tags.get(key)), "")
    model = next((tags[key] for key in _MODELS if tags.get(key)), "")
    if _is_library(maker) or _is_library(model):
        program, maker, model = program or maker or model, "", ""
    camera = " ".join(filter(None, (maker, "" if model.startswith(maker) and maker else model))) or model
    serial = next((tags[key] for key in _SERIALS if tags.get(key)), "")
    if camera_packs:
        return Written(camera, "camera", "Its pictures carry the camera's own date and timecode.", serial)
    if program:
        return Written(camera, "converted", f"The software {program} wrote it: it is no camera original.", serial)
    if camera:
        return Written(camera, "camera", f"It names the camera that wrote it: {camera}.", serial)
    return Written("", "unknown", "")


def _library(tags: Mapping[str, str]) -> str:
    values = (tags[key] for key in _PROGRAMS if tags.get(key))
    return next((value for value in values if _is_library(value)), "")


def _is_library(text: str) -> bool:
    return any(name.lower() in text.lower() for name in _LIBRARIES) or text == "FFmpeg"
