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
