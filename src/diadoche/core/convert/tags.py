"""What a file says about its recording, carried into what is made of it: place, maker, title, names of its tracks.

Dates and timecode have a way of their own: see `dates`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from av.container import InputContainer, OutputContainer
from av.stream import Stream

# What other containers call tags are numbers of their own making.
_TAGGED = {"MP4", "MOV", "Matroska", "WebM", "AVI"}
# What a file says of itself, and not of the recording; it is said anew.
_OWN = {"major_brand", "minor_version", "compatible_brands", "encoder", "creation_time", "timecode", "duration"}
_OF_TRACKS = ("language", "handler_name", "title")
_UNKNOWN_LANGUAGE = "und"
# What the media library's muxers have a place for, of old.
_HELD_BY_ALL = {"title", "artist", "album", "comment", "date", "genre", "copyright", "keywords", "location"}
_HELD_BY = {"mov": {"author", "make", "model"}, "mp4": {"album_artist", "composer", "description", "synopsis"}}
_LONGEST = 10_000
# Languages that QuickTime knows by the older of their two codes [ISO 639-2].
_OLDER = {
    "deu": "ger", "fra": "fre", "nld": "dut", "zho": "chi", "ces": "cze", "ell": "gre", "eus": "baq", "fas": "per",
    "hye": "arm", "isl": "ice", "kat": "geo", "mkd": "mac", "msa": "may", "mya": "bur", "ron": "rum", "slk": "slo",
    "sqi": "alb", "bod": "tib", "cym": "wel",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Tags:
    """Of the film, of its first picture track, and of its sound tracks in order; by the media library's names."""

    film: Mapping[str, str] = field(default_factory=dict)
    picture: Mapping[str, str] = field(default_factory=dict)
    sounds: tuple[Mapping[str, str], ...] = ()

    @classmethod
    def of(cls, media: InputContainer, container: str) -> Tags:
        """What an opened file says; nothing where its container's tags are none of the recording."""
        if container not in _TAGGED:
            return cls(sounds=tuple(_of_track(stream) for stream in media.streams.audio))
        lower = {key.lower(): value for key, value in media.metadata.items()}
        film = {
            key: value
            for key, value in lower.items()
            # One in a language of its own stands there without it as well.
            if key not in _OWN and key.rpartition("-")[0] not in lower and 0 < len(value) <= _LONGEST
        }
        pictures = media.streams.video
        return cls(
            film, _of_track(pictures[0]) if pictures else {}, tuple(_of_track(stream) for stream in media.streams.audio)
        )

    def options(self, container: str) -> dict[str, str]:
        """What a muxer of boxes has to be told, for keys of any name to have a place.

        Common ones stand where few programs look then: a place of the earth is not moved there for others' sake.

        Args:
            container: "mov" or "mp4".
        """
        has_domain = any(key.startswith("com.") for key in self.film)
        uncommon = not set(self.film) <= _HELD_BY_ALL | _HELD_BY[container]
        return {"movflags": "use_metadata_tags"} if has_domain or (uncommon and "location" not in self.film) else {}

    def write(self, target: OutputContainer, picture: Stream, sounds: Sequence[Stream]) -> None:
        """Writes them into the head of an output, which takes those that it has a place for."""
        target.metadata.update(self.film)
        picture.metadata.update(self.picture)
        for stream, told in zip(sounds, self.sounds, strict=False):
            stream.metadata.update(told)
            language = told.get("language", "")
            if target.format.name == "mov" and language in _OLDER:
                stream.metadata["language"] = _OLDER[language]

    def lost_in(self, media: InputContainer) -> tuple[str, ...]:
        """The names of those of the film that a finished output does not have."""
        there = {key.lower() for key in media.metadata}
        lost = [key for key in self.film if key not in there]
        for number, (told, stream) in enumerate(zip(self.sounds, media.streams.audio, strict=False), start=1):
            language, said = (each.get("language", "") for each in (told, _of_track(stream)))
            if _OLDER.get(language, language) != _OLDER.get(said, said) and language:
                lost.append(f"the language of sound track {number}")
        return tuple(lost)


NO_TAGS = Tags()


def _of_track(stream: Stream) -> dict[str, str]:
    lower = {key.lower(): value for key, value in stream.metadata.items()}
    return {key: lower[key] for key in _OF_TRACKS if lower.get(key) and lower[key] != _UNKNOWN_LANGUAGE}
