"""What is wrong with a file, each thing named: cut off, without index, undecodable, sound missing or too short."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from av.container import InputContainer

from diadoche.core import boxes
from diadoche.core.codecnames import spoken_codec
from diadoche.core.diskfiles import unseen_file
from diadoche.core.errors import Problem
from diadoche.core.identify.facts import VideoFacts
from diadoche.core.identify.tracks import decoder_of, hearer_of, picture_streams, track_seconds
from diadoche.core.names import shown

# Less than this is the usual unevenness of encoders.
_SHORTER_S = 0.5
_KEPT = "What is there is kept."


def missing_index(path: Path) -> Problem | None:
    """The problem of a movie file that was cut off before its index, or None where the index is there."""
    if boxes.movie_payload(path) is not None:
        return None
    return Problem(
        f"{shown(path.name)} was cut off before its index was written; no program can open it as it is.",
        str(path),
        "Its picture data is kept as it is.",
        "Put the card back into the camera: many repair such a clip when switched on. Then offload again.",
    )


def damage(paths: Sequence[Path], container: str, media: InputContainer) -> tuple[Problem, ...]:
    """Everything that the headers of a file, or of spans that follow byte by byte, show to be wrong."""
    problems = [_cut_off(path) for path in paths if is_cut_off(path, container, len(paths))]
    # A track of no known kind is as good as none, and a cover is no picture of a recording.
    if not picture_streams(media) and not media.streams.audio and not media.streams.subtitles:
        problems.append(_no_tracks(paths[0]))
    problems += _undecodable(paths[0], media)
    problems += _sound_problems(paths[0], media)
    return tuple(problems)


def is_cut_off(path: Path, container: str, spans: int = 1) -> bool:
    """Whether a file ends before its own boxes, chunks or packets do. One of several spans may end anywhere."""
    if container in {"MP4", "MOV", "HEIF"}:
        with unseen_file(path) as file:
            return any(box.cut_off for box in boxes.top_boxes(file))
    if container == "AVI":
        with unseen_file(path) as file:
            head = file.read(12)
        return int.from_bytes(head[4:8], "little") + 8 > path.stat().st_size
    return container == "M2TS" and spans == 1 and path.stat().st_size % 192 != 0


def _no_tracks(path: Path) -> Problem:
    return Problem(
        f"{shown(path.name)} has the outside of a recording, and no picture or sound in it that can be found.",
        str(path),
        "The file itself is untouched.",
        "Play it on the camera; if it plays there, copy the card again.",
    )


def _cut_off(path: Path) -> Problem:
    return Problem(
        f"{shown(path.name)} is cut off: it ends in the middle of its data.",
        str(path),
        _KEPT,
        "Copy it again from the card if the card still has it whole.",
    )


def _undecodable(path: Path, media: InputContainer) -> list[Problem]:
    heard = any((hearer := hearer_of(stream)) and hearer.format for stream in media.streams.audio)
    problems = []
    for stream in picture_streams(media):
        context = decoder_of(stream)
        if context is None or context.format is None:
            name = spoken_codec(context.name) if context is not None else "a codec without a name here"
            problems.append(
                Problem(
                    f"{shown(path.name)} holds picture in {name}, which nothing installed can decode"
                    + ("; its sound can be heard." if heard else "."),
                    str(path),
                    "It is copied and proven like every other file.",
                    "Open it with a program that knows this codec.",
                )
            )
    return problems


def _sound_problems(path: Path, media: InputContainer) -> list[Problem]:
    pictures = picture_streams(media)
    picture_s = max((track_seconds(stream) for stream in pictures), default=0.0)
    problems = []
    for number, stream in enumerate(media.streams.audio, start=1):
        sound_s = track_seconds(stream)
        which = f"sound track {number}" if len(media.streams.audio) > 1 else "sound"
        hearer = hearer_of(stream)
        if hearer is None:
            continue
        if hearer.sample_rate == 0 or (stream.frames == 0 and stream.duration == 0):
            problems.append(
                Problem(
                    f"{shown(path.name)} declares {which} that it does not have.",
                    str(path),
                    "The picture is not affected.",
                    "Play it on the camera to hear whether sound was recorded at all.",
                )
            )
        elif sound_s and picture_s - sound_s > max(_SHORTER_S, picture_s / 100):
            problems.append(
                Problem(
                    f"The {which} of {shown(path.name)} ends {picture_s - sound_s:.1f} s before the picture.",
                    str(path),
                    "Nothing is stretched: the rest of the picture is silent.",
                    "Play its end on the camera.",
                )
            )
    return problems


def no_rate(path: Path, video: VideoFacts) -> Problem | None:
    """The problem of a file that tells no frame rate that makes sense."""
    if video.frame_rate_told:
        return None
    return Problem(
        f"{shown(path.name)} tells no frame rate that makes sense.",
        str(path),
        "Its pictures are not affected.",
        "Say the rate when converting it.",
    )


def broken_pictures(path: Path, at_s: Sequence[float]) -> Problem:
    """The problem of pictures that fail to decode."""
    places = ", ".join(f"{second:.1f} s" for second in at_s[:3])
    return Problem(
        f"{shown(path.name)} has pictures that do not decode, near {places}.",
        str(path),
        "The file itself is untouched.",
        "Play that place on the camera; if it plays there, copy the card again.",
    )
