"""Every output is opened again: frames counted, length and sync compared, decoded to its last frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import av
import av.error
import xxhash

from diadoche.core.media import decoding, opened
from diadoche.core.rates import nearest_standard
from diadoche.core.spans import first_picture_s, parts, tracks_of
from diadoche.core.watch import Progress, Watch

# Sound is cut into frames of up to 2048 samples; a container may round its start and end to those.
_SYNC_S = Fraction(1, 20)


@dataclass(slots=True)
class Decoded:
    """What decoding a file, or spans, to the last frame found. Times in seconds from the first picture."""

    pictures: int = 0
    digest: str = ""
    picture_end_s: Fraction = Fraction(0)
    sound_spans: list[tuple[Fraction, Fraction]] = field(default_factory=list)
    clean: bool = True


@dataclass(frozen=True, slots=True)
class Checks:
    """The verdicts on an output."""

    frames: bool
    duration: bool
    sync: bool
    decodes: bool

    @property
    def passed(self) -> bool:
        """Whether it may be delivered."""
        return self.frames and self.duration and self.sync and self.decodes

    def as_dict(self) -> dict[str, bool]:
        """The verdicts as the command line's JSON has them."""
        return {"frames": self.frames, "duration": self.duration, "sync": self.sync, "decodes": self.decodes}

    def failures(self) -> str:
        """The names of what failed."""
        return ", ".join(name for name, good in self.as_dict().items() if not good)


def decode_all(
    paths: Sequence[Path],
    watch: Watch,
    expected: int,
    note: str,
    *,
    with_digest: bool = True,
    threads: bool = True,
    sounds: Sequence[Path] = (),
) -> Decoded:
    """Decodes everything once.

    Args:
        paths: a file, or the spans of a clip.
        watch: told the number of pictures done of `expected`.
        expected: how many pictures there should be.
        note: what the progress says.
        with_digest: whether to digest every picture.
        threads: whether processors share the work; what damaged pictures decode to then depends on who is first.
        sounds: files beside the spans that hold sound alone.
    """
    found = Decoded()
    digest = xxhash.xxh3_128()
    offset_s = Fraction(0)

    def step() -> None:
        watch.step(Progress(min(found.pictures, expected), expected, note))

    for part in parts(paths):
        with opened(part) as media:
            try:
                media.streams.video[0].thread_type = "AUTO" if threads else "NONE"
                offset_s = _decode_part(media, found, digest if with_digest else None, offset_s, step)
            except av.error.FFmpegError:
                found.clean = False
    found.digest = digest.hexdigest()
    found.picture_end_s = offset_s
    found.sound_spans += [_sound_span(path) for path in sounds]
    return found


def _sound_span(path: Path) -> tuple[Fraction, Fraction]:
    """Where the sound of a file of its own begins and ends; it begins with the first picture."""
    with opened([path]) as media, decoding(path):
        rate, samples = media.streams.audio[0].rate, sum(frame.samples for frame in media.decode(audio=0))
        return Fraction(0), Fraction(samples, rate)


def _decode_part(
    media: av.container.InputContainer,
    found: Decoded,
    digest: xxhash.xxh3_128 | None,
    offset_s: Fraction,
    step: Callable[[], None],
) -> Fraction:
    tracks = tracks_of(media)
    start_s = first_picture_s(media)
    frame_s = 1 / nearest_standard(Fraction(media.streams.video[0].average_rate or 25))
    end_s = Fraction(0)
    sounds: dict[int, tuple[Fraction, Fraction]] = {}
    for packet in media.demux(tracks):
        for frame in packet.decode():
            if isinstance(frame, av.VideoFrame):
                found.pictures += 1
                # By its own time: a clip may hold a gap, and then its length is more than its pictures.
                if frame.pts is not None and frame.time_base is not None:
                    end_s = max(end_s, frame.pts * Fraction(frame.time_base) - start_s + frame_s)
                found.clean = found.clean and not frame.is_corrupt
                if digest is not None:
                    digest_picture(digest, frame)
                step()
            elif isinstance(frame, av.AudioFrame) and frame.pts is not None and frame.time_base is not None:
                begin_s = frame.pts * Fraction(frame.time_base) - start_s
                first_s = sounds.get(packet.stream_index, (begin_s, begin_s))[0]
                sounds[packet.stream_index] = (first_s, begin_s + Fraction(frame.samples, frame.sample_rate))
    for number, index in enumerate(sorted(sounds)):
        sound_begin_s, sound_end_s = (offset_s + edge for edge in sounds[index])
        if number < len(found.sound_spans):
            found.sound_spans[number] = (found.sound_spans[number][0], sound_end_s)
        else:
            found.sound_spans.append((sound_begin_s, sound_end_s))
    return offset_s + end_s


def digest_picture(digest: xxhash.xxh3_128, frame: av.VideoFrame) -> None:
    """Adds the visible samples of a picture, without the padding of its lines."""
    for number, plane in enumerate(frame.planes):
        memory = memoryview(plane)
        component = frame.format.components[number] if number < len(frame.format.components) else None
        width = plane.width * (((component.bits if component else 8) + 7) // 8)
        if len(frame.planes) == 1 and frame.format.is_rgb:
            width = plane.line_size
        if plane.line_size == width:
            digest.update(memory[: plane.line_size * plane.height])
        else:
            for line in range(plane.height):
                digest.update(memory[line * plane.line_size : line * plane.line_size + width])


def compare(source: Decoded, output: Decoded, rate: Fraction, *, frames_wanted: int) -> Checks:
    """Holds an output against what its source was found to be."""
    tolerance_s = max(_SYNC_S, 1 / rate)
    same_sounds = len(source.sound_spans) == len(output.sound_spans)
    in_step = all(
        abs(max(mine[0], Fraction(0)) - max(theirs[0], Fraction(0))) < _SYNC_S and abs(mine[1] - theirs[1]) < _SYNC_S
        for mine, theirs in zip(source.sound_spans, output.sound_spans, strict=False)
    )
    return Checks(
        output.pictures == frames_wanted == source.pictures,
        abs(source.picture_end_s - output.picture_end_s) < tolerance_s,
        same_sounds and in_step,
        output.clean and output.pictures > 0,
    )
