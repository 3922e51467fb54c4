"""What must happen before a clip can be cut, judged against what an editing program takes well.

A profile is a small data file in `profiles/`; a new one is a new file.
"""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from diadoche.core.codecnames import spoken_codec
from diadoche.core.errors import RequestError
from diadoche.core.identify.container import is_still
from diadoche.core.identify.facts import Facts, Route, VideoFacts
from diadoche.core.mistakes import own_text, read_toml
from diadoche.core.rates import spoken_rate
from diadoche.core.sizes import count_text

DEFAULT_PROFILE = "general"
# A hole as long as this puts sound out of step where a program counts pictures; common practice, no source.
_LONGEST_HOLE_S = 1.0
_NAMED_PLACES = 3


class LongGop(BaseModel):
    """A long-GOP codec that the program plays without rendering, up to a size and rate."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    codec: str
    chroma: tuple[str, ...] = ("4:2:0",)
    deepest_bits: int = 8
    most_pixels: int = 1920 * 1088
    fastest_rate: float = 30.0


class Profile(BaseModel):
    """What one kind of editing program takes well."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    name: str
    title: str
    containers: tuple[str, ...]
    intra: tuple[str, ...]
    long_gop: tuple[LongGop, ...] = ()


def profile_names(own_folder: Path | None = None) -> tuple[str, ...]:
    """The supplied profiles, and the person's own."""
    supplied = [Path(entry.name).stem for entry in _folder().iterdir() if entry.name.endswith(".toml")]
    own = [path.stem for path in own_folder.glob("*.toml")] if own_folder is not None else []
    return tuple(sorted({*supplied, *own}))


def load_profile(name: str = DEFAULT_PROFILE, own_folder: Path | None = None) -> Profile:
    """A profile by its name: one of the person's own where there is one, else a supplied one.

    Raises:
        RequestError: there is none of that name, or the person's own has a mistake; it is named.
    """
    own = own_folder / f"{name}.toml" if own_folder is not None else None
    if own is not None and own.is_file():
        return parse_profile(own_text(own, "editor profile"), own)
    if name not in profile_names():
        names = ", ".join(profile_names(own_folder))
        raise RequestError(f"There is no editor profile called {name}.", do=f"Choose from {names}.")
    return parse_profile(supplied_text(name), Path(f"{name}.toml"))


def supplied_text(name: str) -> str:
    """The text of a supplied profile."""
    return (_folder() / f"{name}.toml").read_text("utf-8")


def own_profile_file(folder: Path, name: str) -> Path:
    """A profile of the person's own under a name, made from the supplied one of that name where there is none yet.

    Raises:
        OSError: it cannot be written.
    """
    path = folder / f"{name}.toml"
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        path.write_text(supplied_text(name), "utf-8")
    return path


def parse_profile(text: str, path: Path) -> Profile:
    """Reads a profile.

    Raises:
        RequestError: it has a mistake; its line is named.
    """
    return read_toml(Profile, text, path, "editor profile")


def _folder() -> resources.abc.Traversable:
    return resources.files("diadoche.core.identify") / "profiles"


def route(facts: Facts, profile: Profile, spans: int = 1) -> Route:
    """The route of a file, or of a clip's spans together."""
    if not facts.video:
        return _route_without_picture(facts)
    video = facts.video[0]
    if not video.decodable:
        return Route("unsupported", (_undecodable(facts),))
    if video.chroma == "raw":
        return Route("develop", ("It holds the sensor's own values: colours are made when it is developed.",))
    if is_still(facts.container):
        return _route_of_stills(facts)
    if facts.projection in {"dual-fisheye", "fisheye"}:
        return Route("stitch", ("Each lens is a round picture of its own: they become one sphere by stitching.",))
    more = tuple(filter(None, (_gaps(video), _damage(facts))))
    refusal = _refusal(video, profile)
    if refusal:
        return Route("convert", (refusal, *more))
    if _hole_s(video) >= _LONGEST_HOLE_S:
        # As it is, an editing program counts on over the hole, and its sound is off by that much.
        return Route("convert", more)
    if spans > 1:
        return Route("join", (f"The camera cut it into {spans} files; times run on without a gap.", *more))
    if facts.container not in profile.containers:
        return Route("rewrap", ("Only the container is in the way: picture and sound stay as they are.", *more))
    return Route("ready", ("Nothing to do: it plays as it is.", *more))


def _hole_s(video: VideoFacts) -> float:
    """How long pictures are missing, all gaps together."""
    return float(sum(gap.pictures for gap in video.gaps) / video.frame_rate)


def _gaps(video: VideoFacts) -> str:
    """What is missing in an even run, in one sentence."""
    if not video.gaps:
        return ""
    count = sum(gap.pictures for gap in video.gaps)
    places = ", ".join(f"{gap.at_s:.1f} s" for gap in video.gaps[:_NAMED_PLACES])
    more = f" and {len(video.gaps) - _NAMED_PLACES} more" if len(video.gaps) > _NAMED_PLACES else ""
    return f"{count_text(count, 'picture')} missing after {places}{more}."


def _damage(facts: Facts) -> str:
    """What was found to be damaged, in its first sentence."""
    return next((each.what for each in facts.problems if "decode" in each.what or "cut off" in each.what), "")


def _route_of_stills(facts: Facts) -> Route:
    if (facts.frames or 1) > 1:
        return Route("convert", (f"A run of {facts.frames} pictures, a file each: it becomes one clip.",))
    return Route("ready", ("A still picture: editing programs take it as it is.",))


def _undecodable(facts: Facts) -> str:
    codec = spoken_codec(facts.video[0].codec)
    heard = any(track.decodable for track in facts.audio)
    more = "its sound can be heard" if heard else "it is kept, and waits for a decoder"
    return f"Picture in {codec}, which nothing installed can decode; {more}."


def _route_without_picture(facts: Facts) -> Route:
    if facts.audio and all(track.decodable for track in facts.audio):
        return Route("ready", ("Sound only: editing programs take it as it is.",))
    reason = facts.problems[0].what if facts.problems else "There is no picture or sound in it."
    return Route("unsupported", (reason,))


def _refusal(video: VideoFacts, profile: Profile) -> str:
    """Why the picture forces an editor to render, or nothing."""
    codec = spoken_codec(video.codec)
    if video.frame_rate_mode == "variable":
        return "Its frame rate changes, and editing programs lose sync on that."
    if video.intra_only:
        taken = video.codec in profile.intra
        return "" if taken else f"{codec} is nothing that editing programs read."
    for accepted in profile.long_gop:
        if accepted.codec != video.codec:
            continue
        if video.chroma not in accepted.chroma or video.bit_depth > accepted.deepest_bits:
            return f"{codec} at {video.bit_depth} bits {video.chroma} makes an editor render at every step."
        if video.width * video.height > accepted.most_pixels:
            return f"Long-GOP {codec} at {video.width}×{video.height} makes an editor render at every step."
        if float(video.frame_rate) > accepted.fastest_rate:
            rate = spoken_rate(video.frame_rate)
            return f"Long-GOP {codec} at {rate} pictures a second makes an editor render at every step."
        return ""
    return f"Long-GOP {codec} makes an editor render at every step."
