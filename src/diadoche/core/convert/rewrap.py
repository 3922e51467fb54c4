"""Rewrapping and joining: the same packets in another container, and the proof that they are the same."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from diadoche.core.convert.check import MOST_FINDINGS, Checks, Finding
from diadoche.core.convert.check_places import are_fields
from diadoche.core.convert.comparing import Comparison, compare_decoded
from diadoche.core.convert.copied_track import CopiedTrack, reordering, sound_that_begins_anew
from diadoche.core.convert.dates import write_dates
from diadoche.core.convert.formats import PictureFormat
from diadoche.core.convert.kept_boxes import Kept, is_all_there, says_sphere, what_to_keep, write_kept
from diadoche.core.convert.matroska_shape import write_pixel_aspects
from diadoche.core.convert.mux_thread import muxing_beside
from diadoche.core.convert.new_output import muxing, new_file, output_name, synced_beside
from diadoche.core.convert.outputs import Output, withheld
from diadoche.core.convert.read_back import ReadBack, read_back
from diadoche.core.convert.remarks import early_sound, layouts_told, remark, tags_lost
from diadoche.core.convert.source_index import Instants, InstantsBeside
from diadoche.core.convert.tags import Tags
from diadoche.core.errors import MediaError, Problem, RequestError, writing
from diadoche.core.identify.facts import Facts
from diadoche.core.media import opened
from diadoche.core.names import shown
from diadoche.core.run import Run, TimedPacket, tracks_of
from diadoche.core.spatial import MAKER, SphereTags, one_eye_px, v1_box, v2_boxes
from diadoche.core.watch import Progress, Share, Watch

CONTAINERS = ("mov", "mp4", "mkv")
_ISO = {"mov", "mp4"}
# Progress is told once in so many pictures: thousands a second go by.
_TOLD_EACH = 16


def rewrap(
    paths: Sequence[Path],
    facts: Facts,
    folder: Path,
    watch: Watch,
    *,
    container: str = "mov",
    camera: str = "",
    decode_check: bool = True,
    sounds: Sequence[Path] = (),
    every_picture: bool = False,
    sphere: SphereTags | None = None,
) -> Output:
    """Puts the picture and sound of a clip into another container, joining its spans.

    With `sphere`, the output says that of its pictures, instead of what the source says.
    With `every_picture`, all decoded pictures are compared with the original's, not those at the joins alone.

    Raises:
        RequestError: an unknown container, the originals' own folder, or what this container cannot hold.
        MediaError: the source cannot be read.
        TargetError: the output cannot be written.
        Cancelled: nothing is left behind.
    """
    if container not in CONTAINERS:
        raise RequestError(f"Nothing can be rewrapped to {container}.", do=f"Choose from {', '.join(CONTAINERS)}.")
    if sphere is not None and container not in _ISO:
        raise RequestError("Only MOV and MP4 can be told of a sphere here.", do="Choose mov or mp4.")
    if not facts.video:
        raise MediaError(f"{paths[0].name} holds no picture.", path=paths[0], safe="It is untouched.", do="Nothing.")
    began_s = time.monotonic()
    video = facts.video[0]
    run = Run(paths, video.frame_rate if video.frame_rate_mode == "constant" else None, sounds, every_picture=True)
    sources = tuple(str(path) for path in (*paths, *sounds))
    name = output_name(camera, facts.start, paths[0].stem, container)
    with (
        new_file(folder, name, facts.size_bytes, (*paths, *sounds)) as made,
        InstantsBeside(run.paths, video.frame_rate) as beside,
    ):
        copying = _Copying(run, facts, container, sphere)
        copying.write(made.part, Share(watch, 0, 0.2 if decode_check else 1))
        copying.finish(made.part)
        with synced_beside(made.part):
            checking = Share(watch, 0.2, 1) if decode_check else None
            proof = _prove(copying, made.part, beside, checking, everything=every_picture)
        size = made.part.stat().st_size
        made.withheld = not proof.passed
    delivered = not made.withheld
    return Output(
        sources,
        str(made.final) if delivered else "",
        f"rewrap-{container}",
        copying.pictures,
        (proof.decoded if proof.decoded is not None else copying.pictures) if delivered else 0,
        proof.checks,
        proof.packets,
        proof.pictures,
        size if delivered else 0,
        facts.size_bytes,
        time.monotonic() - began_s,
        (*copying.problems(name), *proof.problems)
        if delivered
        else (proof.why_withheld(name, facts.span_differences),),
        proof.findings,
    )


@dataclass(frozen=True, slots=True)
class _Proof:
    """What was found when the output was read back; None where nobody looked."""

    packets: bool
    in_step: bool
    data: bool
    # What the output's head says of its packets that they are not.
    decoded_otherwise: tuple[str, ...] = ()
    pictures: bool | None = None
    decoded: int | None = None
    checks: Checks | None = None
    problems: tuple[Problem, ...] = ()
    findings: tuple[Finding, ...] = ()

    @property
    def passed(self) -> bool:
        decodes = self.pictures is not False and (self.checks is None or self.checks.passed)
        return self.packets and self.in_step and self.data and not self.decoded_otherwise and decodes

    def why_withheld(self, name: str, causes: tuple[str, ...]) -> Problem:
        told = [] if self.data else ["data tracks differ"]
        told += [*([] if self.packets else ["packets differ"]), *([] if self.in_step else ["pictures are out of step"])]
        told += [f"its head does not say: {each}" for each in self.decoded_otherwise]
        told += ["pictures differ"] if self.pictures is False else []
        told += [self.checks.failures()] if self.checks is not None and not self.checks.passed else []
        return withheld(name, ", ".join(told), self.findings, causes)


def _prove(copying: _Copying, part: Path, beside: InstantsBeside, watch: Watch | None, *, everything: bool) -> _Proof:
    back = copying.read_back(part)
    there = beside.result(copying.pictures)
    wrong = copying.out_of_step(back.instants_s, there)
    data = copying.keeps_data(part)
    if watch is None:
        return _Proof(back.equal, not wrong, data, back.decoded_otherwise, findings=wrong)
    # Where the original's stamps do not tell when its pictures are shown, only decoding both does; and where its head
    # tells of two ways in which they are coded, whether each is read by its own.
    everything = everything or there is None or copying.is_coded_anew
    found = compare_decoded(copying.run, part, copying.pictures, copying.as_pcm, watch, everything=everything)
    rate = copying.facts.video[0].frame_rate
    checks = Checks(
        frames=found.pictures_in == found.pictures_out > 0,
        duration=abs(found.ends_in_s - found.ends_out_s) <= max(back.tick_s, 1 / rate / 2),
        sync=not wrong and found.pictures_in_step and found.sound_in_step,
        decodes=found.pictures_out > 0 and found.damaged_out <= found.damaged_in,
    )
    problems = (_damaged_original(copying, found),) if found.damaged_in else ()
    return _Proof(
        back.equal,
        not wrong,
        data,
        back.decoded_otherwise,
        found.same_pictures,
        found.pictures_out,
        checks,
        problems,
        (*wrong, *found.findings),
    )


def _damaged_original(copying: _Copying, found: Comparison) -> Problem:
    path = copying.run.paths[0]
    return Problem(
        f"{shown(path.name)} has damaged pictures in the original: {found.damaged_in} of {copying.pictures} do not "
        f"decode as they should, the first at {float(found.first_damaged_s):.2f} s; the output has the same ones.",
        str(path),
        "Nothing was lost or added.",
        "Look at the clip where it breaks up before it is cut.",
    )


class _Copying:
    """The packets of a clip on their way into another container, and what is known of them afterwards."""

    def __init__(self, run: Run, facts: Facts, container: str, sphere: SphereTags | None = None) -> None:
        self.run, self._sphere = run, sphere
        self.facts = facts
        self._container = container
        self._tracks: list[CopiedTrack] = []
        self.pictures = 0
        # Tracks and boxes that no muxer takes along; between ISO base media alone.
        self.kept = Kept()
        self._unjoined: list[int] = []
        # What the output says its channels are; known when it was read back.
        self._layouts: list[str] = []
        # What it does not say of how its pictures are shown, as the source does.
        self._shown_otherwise: tuple[str, ...] = ()
        # By how much each sound track begins before the first picture, in seconds.
        self._early_s: dict[int, Fraction] = {}
        # What the source says about the recording, and what of that the output does not.
        self._tags = Tags()
        self._lost_tags: tuple[str, ...] = ()
        # Whether a track goes on by other parameters for its decoder, which its head tells beside the first.
        self.is_coded_anew = False

    @property
    def as_pcm(self) -> frozenset[int]:
        """The sound tracks, counted from 0, that became plain PCM."""
        return frozenset(place - 1 for place, track in enumerate(self._tracks) if track.is_pcm)

    def write(self, part: Path, watch: Watch) -> None:
        """Writes everything.

        Raises:
            MediaError: the source cannot be read, or the container does not take a track.
        """
        expected = self.facts.frames or 1
        self.kept = self._to_keep([Fraction(0)] * len(self.run.paths))
        with opened(self.run.parts[0]) as media:
            self._tags = Tags.of(media, self.facts.container)
        options = {}
        if self._container in _ISO:
            options = {"write_tmcd": str(int(not self.kept.has_timecode)), **self._tags.options(self._container)}
        unjoinable = sound_that_begins_anew(self.run)
        self._unjoined = sorted(unjoinable)
        with muxing(part, self._container, options) as target:
            with opened(self.run.parts[0]) as media:
                streams = tracks_of(media, every_picture=True)
                depth = reordering(self.run)
                self._tracks = [
                    CopiedTrack(
                        target, stream, self.facts, number, self._container, depth, as_pcm=number - 1 in unjoinable
                    )
                    for number, stream in enumerate(streams)
                ]
            for number, path in enumerate(self.run.sounds, start=1):
                with opened([path]) as media:
                    self._tracks.append(
                        CopiedTrack(
                            target, media.streams.audio[0], self.facts, number, self._container, 0, as_pcm=False
                        )
                    )
            sounds = [track.stream for track in self._tracks[1 : 1 + len(self.facts.audio)]]
            self._tags.write(target, self._tracks[0].stream, sounds)
            write_dates(
                target,
                self._tracks[0].stream,
                self.facts.start,
                PictureFormat.of(self.facts),
                with_timecode=not self.kept.has_timecode,
            )
            with muxing_beside(target) as muxer:
                for timed in self.run.packets():
                    if timed.track >= len(self._tracks):
                        raise _another_track(self.run.paths[0])
                    if timed.track == 0:
                        self._count(timed)
                        if not self.pictures % _TOLD_EACH:
                            watch.step(Progress(min(self.pictures, expected), expected, "rewrapping"))
                    elif timed.track not in self._early_s:
                        self._note_beginning(timed)
                    if timed.packets[0].has_sidedata("new_extradata"):
                        self._begin_anew(timed)
                    self._tracks[timed.track].put(muxer, timed)
                for track in self._tracks:
                    track.flush(muxer)

    def _begin_anew(self, timed: TimedPacket) -> None:
        """Other parameters for the decoder of a track; some streams only say the same ones again."""
        told = bytes(timed.packets[0].get_sidedata("new_extradata"))
        if told == self._tracks[timed.track].extradata:
            return
        self.is_coded_anew = True
        if self._container not in _ISO:
            path = self.run.paths[0]
            raise RequestError(
                f"{shown(path.name)} goes on by other parameters for its decoder at {float(timed.pts_s):.2f} s, and "
                f"{self._container.upper()} tells one set for each track.",
                path=path,
                safe="The original is untouched; nothing was written.",
                do="Rewrap it to MOV, or convert it.",
            )

    def _note_beginning(self, timed: TimedPacket) -> None:
        """How early a sound track is first heard."""
        packet = timed.packets[0]
        if timed.track > len(self.facts.audio) or timed.hidden:
            return
        # So many samples only lead up to the sound; the first of the numbers that the library tells.
        skipped = bytes(packet.get_sidedata("skip_samples"))[:4] if packet.has_sidedata("skip_samples") else b""
        rate = self.facts.audio[timed.track - 1].sample_rate or 1
        self._early_s[timed.track] = -(timed.pts_s + Fraction(int.from_bytes(skipped, sys.byteorder), rate))

    def _sound_words(self) -> str:
        encoders = {track.encoder for track in self._tracks if track.is_pcm}
        return " and ".join(sorted("FLAC" if encoder == "flac" else "plain PCM" for encoder in encoders))

    @property
    def _keeps_boxes(self) -> bool:
        single = all(len(part) == 1 for part in self.run.parts)
        return self._container in _ISO and single and self.facts.container in {"MP4", "MOV"}

    def finish(self, part: Path) -> None:
        """Adds what no muxer takes along.

        Raises:
            OSError: a sample cannot be read, or the output not written.
        """
        if self._container == "mkv":
            with writing(part):
                write_pixel_aspects(part, [track.pixel_aspect for track in self._tracks if track.head is not None])
        if not self._keeps_boxes and self._sphere is None:
            return
        self.kept = self._to_keep(self.run.begins_s)
        with writing(part):
            write_kept(part, self.kept)

    def keeps_data(self, part: Path) -> bool:
        """Whether the output holds what no muxer takes along, to the byte."""
        if not self._keeps_boxes and self._sphere is None:
            return True
        is_flat = self._sphere is not None and not self._sphere.stereo
        return is_all_there(part, self.kept) and not (is_flat and says_sphere(part))

    def _to_keep(self, begins_s: Sequence[Fraction]) -> Kept:
        kept = what_to_keep(self.run.paths, begins_s) if self._keeps_boxes else Kept()
        tags = self._sphere
        if tags is None:
            return kept
        if not tags.stereo:
            return kept.without_sphere()
        eye_px = one_eye_px(tags.stereo, self.facts.video[0].width, self.facts.video[0].height)
        boxes = v2_boxes(tags.stereo, tags.bounds, MAKER)
        return kept.with_sphere(boxes, v1_box(tags.stereo, tags.bounds, eye_px, MAKER))

    def _count(self, timed: TimedPacket) -> None:
        self.pictures += not timed.hidden
        if timed.hidden and (self._container == "mkv" or timed.pts_s >= 0):
            held = "Matroska has no list for that" if self._container == "mkv" else "they lie between others"
            raise RequestError(
                f"The edit list of {shown(self.run.paths[0].name)} hides pictures, and {held}.",
                path=self.run.paths[0],
                safe="The original is untouched; nothing was written.",
                do="Rewrap it to MOV, or convert it.",
            )

    def read_back(self, part: Path) -> ReadBack:
        """Reads every packet of the output: whether they are the same, each container's framing undone.

        Raises:
            MediaError: it cannot be read.
        """
        found = read_back(part, self._tracks, self.run)
        self._layouts, self._shown_otherwise = found.layouts, found.shown_otherwise
        with opened([part]) as media:
            self._lost_tags = self._tags.lost_in(media)
        return found

    def out_of_step(self, instants_s: Instants, there: Instants | None) -> tuple[Finding, ...]:
        """Where a picture of the output stands at another time than in the source.

        Packet by packet: pictures that are shown in each other's place have the same instants all in all.

        Args:
            instants_s: of the output, in the order of coding.
            there: of the source, by its own stamps, in the order of coding; None where they do not tell.
        """
        rate = self.facts.video[0].frame_rate
        if len(instants_s) != self.pictures:
            words = f"{len(instants_s)} pictures are in it, not {self.pictures}"
            return (Finding("out of step", 0, 0.0, words),)
        if there is None:
            return ()
        if len(there) == 2 * len(instants_s) and are_fields(np.sort(there), rate):
            # Each field had a stamp of its own.
            there = there[::2]
        if len(there) != len(instants_s):
            return (Finding("out of step", 0, 0.0, f"{len(there)} pictures are coded, not {len(instants_s)}"),)
        shown_s = instants_s - instants_s.min(initial=np.inf)
        pictures = np.argsort(np.argsort(shown_s, kind="stable"))
        wrong = np.flatnonzero(np.abs(shown_s - there) > 0.5 / float(rate))
        return tuple(
            Finding("out of step", int(pictures[place]), float(shown_s[place]), f"it was shown at {there[place]:.3f} s")
            for place in wrong[:MOST_FINDINGS].tolist()
        )

    def problems(self, name: str) -> list[Problem]:
        """What a person should know of an output that is right."""
        found = []
        lost = self.kept.lost if self._keeps_boxes else tuple(self.facts.data)
        if not self._keeps_boxes and self.facts.video[0].timecode:
            # The label is written anew, where the container has a place for it.
            lost = tuple(each for each in lost if each != "timecode")
        if lost:
            found.append(
                Problem(
                    f"{self._container.upper()} made from {self.facts.container} takes no {', '.join(lost)} along: "
                    f"{name} goes without.",
                    name,
                    "The original keeps everything.",
                    "Keep the original beside it if that is needed.",
                )
            )
        for words in self.facts.span_differences:
            found.append(remark(name, f"{words[:-1]}; {name} says what the first one says."))
        for number, early_s in self._early_s.items():
            if number - 1 in self.as_pcm:
                found += early_sound(name, number, early_s, f"{name} begins with the picture")
            elif self._container in _ISO:
                found += early_sound(name, number, early_s, f"in {name} it is there, and not played")
        found += tags_lost(name, self._lost_tags)
        if self._shown_otherwise:
            found.append(
                Problem(
                    f"{name} does not say of its pictures what the original says: {'; '.join(self._shown_otherwise)}.",
                    name,
                    "The pictures themselves are the same.",
                    "Set it where the film is edited" + (", or choose MOV." if self._container == "mkv" else "."),
                )
            )
        found += layouts_told(name, [track.layout for track in self.facts.audio], self._layouts)
        if self._container == "mp4" and self.as_pcm - set(self._unjoined):
            found.append(
                Problem(
                    f"{name} holds its sound as {self._sound_words()} by a young standard: older programs hear nothing "
                    "of it.",
                    name,
                    "Every sample is in it.",
                    "Rewrap to MOV, which all programs read.",
                )
            )
        if self._unjoined:
            tracks = ", ".join(str(number + 1) for number in self._unjoined)
            found.append(
                Problem(
                    f"Sound track {tracks} of {name} is plain PCM: each part of the clip began its sound anew, and its "
                    "packets cannot follow each other to the sample.",
                    name,
                    "Every sample stands at its place.",
                    "Nothing needs doing.",
                )
            )
        return found


def _another_track(path: Path) -> MediaError:
    return MediaError(
        f"A later part of {shown(path.name)} has more tracks than the first.",
        path=path,
        safe="The originals are untouched; nothing was written.",
        do="Rewrap the parts one by one.",
    )
