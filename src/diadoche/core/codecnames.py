"""Codecs as their standards call them; the media library's short names are for machines."""

from __future__ import annotations

_SPOKEN = {
    "h264": "H.264",
    "hevc": "HEVC",
    "av1": "AV1",
    "vp9": "VP9",
    "prores": "ProRes",
    "dnxhd": "VC-3",
    "cfhd": "CineForm",
    "mpeg2video": "MPEG-2",
    "mpeg4": "MPEG-4 part 2",
    "mjpeg": "JPEG",
    "dvvideo": "DV",
    "r3d": "R3D raw",
    "dng": "DNG",
    "tiff": "TIFF",
    "jpeg2000": "JPEG 2000",
    "vp8": "VP8",
    "mpeg1video": "MPEG-1",
    "v210": "v210",
    "rawvideo": "uncompressed",
    "alac": "ALAC",
    "vorbis": "Vorbis",
    "eac3": "E-AC-3",
    "ffv1": "FFV1",
    "aac": "AAC",
    "ac3": "AC-3",
    "mp2": "MPEG layer II",
    "mp3": "MPEG layer III",
    "flac": "FLAC",
    "opus": "Opus",
}


def spoken_codec(name: str) -> str:
    """The name for people; PCM of every kind is PCM."""
    if name.startswith("pcm_"):
        return "PCM"
    return _SPOKEN.get(name, name)


def lists_channels(layout: str) -> bool:
    """Whether a layout, by the media library's name, tells each channel by itself: "3 channels (FR+FL+TC)"."""
    return " channels (" in layout


def names_places(layout: str) -> bool:
    """Whether a layout is of places that have a name together, as "5.1": no list, no number alone, no directions."""
    return layout in {"1 channels", "2 channels"} or not (" channels" in layout or is_ambisonic(layout))


def is_ambisonic(layout: str) -> bool:
    """Whether channels stand for directions: "ambisonic 1"."""
    return layout.startswith("ambisonic")


def unnamed_layout(layout: str) -> str:
    """The library's name for so many channels in their order, where a layout lists them; any other layout stays."""
    return layout.partition(" ")[0] + "C" if lists_channels(layout) else layout
