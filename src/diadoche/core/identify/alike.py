"""Alike files, the shoot's majority, and what stands out from it: one decision then serves a whole group."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction

from diadoche.core.codecnames import spoken_codec
from diadoche.core.identify.facts import Facts, FieldOrder, VideoFacts
from diadoche.core.rates import spoken_rate


@dataclass(frozen=True, slots=True)
class Make:
    """What must agree for two files to be treated alike. `rate` in pictures a second."""

    container: str
    codec: str
    width: int
    height: int
    rate: Fraction
    interlaced: bool
    depth: str
    sound: tuple[tuple[str, int, int], ...]

    @property
    def words(self) -> str:
        """The make in one line."""
        if not self.codec:
            return f"{self.container}, no picture"
        scan = f"{spoken_rate(self.rate * 2)} fields" if self.interlaced else spoken_rate(self.rate)
        sounds = ", ".join(f"{spoken_codec(codec)} {count} ch." for codec, count, _ in self.sound) or "no sound"
        picture = f"{spoken_codec(self.codec)} {self.depth} · {self.width}×{self.height}"
        return f"{self.container} · {picture} · {scan} · {sounds}"


def make_of(facts: Facts) -> Make:
    """The make of a file."""
    sound = tuple((track.codec, track.channels, track.sample_rate) for track in facts.audio)
    if not facts.video:
        return Make(facts.container, "", 0, 0, Fraction(0), False, "", sound)
    video = facts.video[0]
    return Make(
        facts.container,
        video.codec,
        video.width,
        video.height,
        video.frame_rate,
        video.interlaced,
        f"{video.bit_depth} bits {video.chroma}",
        sound,
    )


_Shape = tuple[int, int, Fraction, bool]


@dataclass(frozen=True, slots=True)
class Majority:
    """The size and rate that most footage of a shoot has: what its timeline is best set to."""

    width: int
    height: int
    rate: Fraction
    interlaced: bool
    field_order: FieldOrder | None
    clips: int
    of: int

    @property
    def words(self) -> str:
        """The majority in one line."""
        scan = f"{spoken_rate(self.rate * 2)} fields" if self.interlaced else spoken_rate(self.rate)
        return f"{self.width}×{self.height} at {scan}"


class Tally:
    """How many clips have which size and rate; kept while clips come and change, so that nothing is counted anew."""

    def __init__(self, many: Iterable[Facts] = ()) -> None:
        self._shapes: Counter[_Shape] = Counter()
        self._orders: dict[_Shape, Counter[FieldOrder | None]] = {}
        for facts in many:
            self.add(facts)

    def add(self, facts: Facts, times: int = 1) -> None:
        """Counts a clip, or with -1 takes it back."""
        if facts.video and facts.duration_s > 0:
            shape = _shape(facts.video[0])
            self._shapes[shape] += times
            self._orders.setdefault(shape, Counter())[facts.video[0].field_order] += times

    @property
    def majority(self) -> Majority | None:
        """What most clips have in common; None where none has a picture that moves."""
        total = self._shapes.total()
        if not total:
            return None
        shape, clips = self._shapes.most_common(1)[0]
        return Majority(*shape, self._orders[shape].most_common(1)[0][0], clips, total)


def majority_of(many: Iterable[Facts]) -> Majority | None:
    """What most clips have in common; None where none has a picture that moves."""
    return Tally(many).majority


def _shape(video: VideoFacts) -> _Shape:
    return video.width, video.height, video.frame_rate, video.interlaced


def odd_in(facts: Facts, majority: Majority | None) -> tuple[str, ...]:
    """In what a clip stands out from the majority: "size", "rate", "scan", "field order", "varying rate"."""
    if majority is None or not facts.video or facts.duration_s <= 0:
        return ()
    video = facts.video[0]
    found = {
        "size": (video.width, video.height) != (majority.width, majority.height),
        "rate": video.frame_rate != majority.rate,
        "varying rate": video.frame_rate_mode == "variable",
        "scan": video.interlaced != majority.interlaced,
        "field order": video.interlaced and majority.interlaced and video.field_order != majority.field_order,
    }
    return tuple(name for name, odd in found.items() if odd)
