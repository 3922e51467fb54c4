"""The footage of a shoot: what is selected of it, what is known of that, and what the person says of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path

from diadoche.core.codecnames import spoken_codec
from diadoche.core.identify.facts import Facts
from diadoche.core.identify.sphere import arc_text, view_px
from diadoche.core.rates import rate_text
from diadoche.core.sizes import clock_text, count_text, size_text
from diadoche.screens.browsing import Browsing, FootageLook, Grouping, Heading, Showing
from diadoche.screens.comparing import ComparedLine, compare
from diadoche.screens.lines import ALL_COLUMNS, Column, Line
from diadoche.screens.selection import MarkedPart, Selection
from diadoche.screens.shelf import ClipsChanged, Shelf
from diadoche.services.jobs.measure_playback import gain_words, playback_words
from diadoche.services.ledger.kept_clips import KeptClip
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.opinions import Opinion, Verdict
from diadoche.services.ledger.remembered import forget, recall, recall_all, remember

_SCOPE, _KEY, _PARTS = "view", "footage", "part"
# More columns than this cannot be read side by side.
MOST_COMPARED = 6


@dataclass(frozen=True, slots=True)
class Detail:
    """What the panel beside the table says of a clip."""

    title: str
    reasons: str
    facts: tuple[str, ...]
    kept: str
    problems: tuple[str, ...]
    verdict: Verdict
    tags: str
    note: str


# What can be written of footage that is a sphere, and in words.
SPHERE_CHOICES = (
    ("mono", "A whole sphere, one picture for both eyes"),
    ("top-bottom", "A whole sphere, eyes over each other"),
    ("side-by-side", "A whole sphere, eyes beside each other"),
    ("", "Flat: no sphere at all"),
)


class FootageScreen:
    """Rows of the table; one clip is at hand for the player, several may be selected."""

    def __init__(self, shelf: Shelf, ledger: Ledger) -> None:
        self._shelf = shelf
        self._ledger = ledger
        self.browsing = Browsing(_renamed(recall(ledger, _SCOPE, [_KEY], FootageLook) or FootageLook()))
        self.selection = Selection()
        self.selection.parts = {
            int(clip): part
            for clip, part in recall_all(ledger, _PARTS, MarkedPart)
            if clip.isdecimal() and 0 <= part.first < part.end
        }
        # Told which rows say something else now; with None, all of them may, and stand elsewhere.
        self.on_change: Callable[[Sequence[int] | None], None] = lambda _rows: None
        # Makes copies of clips that say what they are.
        self.write_spheres: Callable[[Sequence[KeptClip], str], None] = lambda _clips, _stereo: None
        # Converts parts of clips.
        self.convert_clip_parts: Callable[[Sequence[tuple[KeptClip, MarkedPart]]], None] = lambda _parts: None
        # Fetches a clip by its name from copies, to a folder.
        self.fetch_clip: Callable[[str, tuple[Path, ...], Path], None] = lambda _name, _roots, _to: None
        self.browsing.arrange(shelf.lines, shelf.found)
        shelf.listeners.append(self._clips_changed)

    # -- what there is -------------------------------------------------------------------------

    @property
    def clips(self) -> list[KeptClip]:
        """All clips of the shoot, whatever is shown of them."""
        return [line.clip for line in self._shelf.lines]

    @property
    def look(self) -> FootageLook:
        """How the person wants to see the table."""
        return self.browsing.look

    @property
    def rows(self) -> list[Line | Heading]:
        """What the table shows."""
        return self.browsing.rows

    @property
    def columns(self) -> tuple[Column, ...]:
        """The chosen columns, in their order."""
        return tuple(column for column in ALL_COLUMNS if column.name in self.look.columns)

    def _clips_changed(self, change: ClipsChanged) -> None:
        if change.clip_ids is None:
            rows = None
            self.selection.keep(self._shelf.has)
        elif change.judged:
            rows = self.browsing.judged(change.clip_ids)
        else:
            rows = self.browsing.replace(self._shelf.chosen(change.clip_ids))
        if rows is None:
            self._arrange()
        else:
            self.on_change(rows)

    def _arrange(self) -> None:
        """The rows anew; the selection stays with its clips."""
        self.browsing.arrange(self._shelf.lines, self._shelf.found)
        self.on_change(None)

    def summary(self) -> str:
        """The words under the view's name."""
        return count_text(len(self._shelf.lines), "clip")

    def headline(self) -> str:
        """How much there is, how much of it is shown, and what most of it is."""
        there, shown = len(self._shelf.lines), self.browsing.count
        if not there:
            return ""
        clips = count_text(there, "clip")
        parts = [f"{shown} of {clips}" if shown < there else clips, f"{clock_text(self.browsing.seconds)} of footage"]
        majority, odd = self._shelf.majority, self._shelf.odd
        if majority is not None:
            which = "all are" if majority.clips == majority.of else f"{majority.clips} are"
            parts.append(f"{which} {majority.words}")
        if odd:
            parts.append("1 stands out" if odd == 1 else f"{odd} stand out")
        return " · ".join(parts)

    def is_heading(self, row: int) -> bool:
        """Whether a row stands above a group."""
        return isinstance(self.rows[row], Heading)

    # -- how it is shown -----------------------------------------------------------------------

    def _show(self, look: FootageLook) -> None:
        self.browsing.look = look
        self._ledger.writer.do(lambda: remember(self._ledger, _SCOPE, _KEY, look))
        self._arrange()

    def choose_column(self, name: str, wanted: bool) -> None:
        """Shows a column, or takes it away; the clip's name always stays."""
        columns = {*self.look.columns, name} if wanted else {*self.look.columns} - {name}
        self._show(
            replace(self.look, columns=tuple(each.name for each in ALL_COLUMNS if each.name in columns | {"Clip"}))
        )

    def sort_by(self, name: str) -> None:
        """Sorts by a column; a second time, the other way round."""
        again = name == self.look.sorted_by
        self._show(replace(self.look, sorted_by=name, downwards=again and not self.look.downwards))

    def group_by(self, grouping: Grouping) -> None:
        """Puts rows in groups."""
        self._show(replace(self.look, grouping=grouping))

    def show_only(self, showing: Showing) -> None:
        """Shows some of the clips."""
        self.browsing.showing = showing
        self._arrange()

    def find(self, words: str) -> None:
        """Shows the clips in which every word occurs, in whatever column."""
        self.browsing.wanted = words.lower().strip()
        self._arrange()

    # -- selection -----------------------------------------------------------------------------

    def select(self, rows: Sequence[int]) -> None:
        """Selects the clips of some rows, the first one for the player."""
        lines = [self.rows[row] for row in rows if 0 <= row < len(self.rows)]
        self.selection.choose([line.clip.id for line in lines if isinstance(line, Line)])

    def selected_rows(self) -> list[int]:
        """Where the selected clips stand now."""
        return sorted(self.browsing.rows_of(self.selection.clip_ids))

    @property
    def current(self) -> KeptClip | None:
        """The clip that the player shows."""
        line = next(self._chosen(), None)
        return line.clip if line is not None else None

    def first_row(self) -> int | None:
        """The first row that is a clip."""
        return next((row for row, line in enumerate(self.rows) if isinstance(line, Line)), None)

    def paths_of(self, row: int) -> tuple[Path, ...]:
        """Where the clip of a row lies, every span of it, in a copy that is here."""
        line = self.rows[row]
        return line.clip.paths if isinstance(line, Line) else ()

    def selected_paths(self) -> list[Path]:
        """Where the selected clips lie."""
        return [path for line in self._chosen() for path in line.clip.paths]

    def fetch(self, to: Path) -> None:
        """Fetches the selected clips, each from the proven copies that hold it."""
        for line in self._chosen():
            roots = tuple(Path(copy.root) for copy in line.clip.copies if copy.proven)
            self.fetch_clip(line.clip.clip.name, roots, to)

    def _chosen(self) -> Iterator[Line]:
        """The selected clips that are shown: what a search hides is not judged with the rest."""
        for clip_id in self.browsing.those_shown(self.selection.clip_ids):
            yield from self._shelf.chosen([clip_id])

    @property
    def chosen_count(self) -> int:
        """How many clips are selected and shown."""
        return len(self.browsing.those_shown(self.selection.clip_ids))

    def detail(self) -> Detail | None:
        """The panel's text for the selected clip."""
        line = next(self._chosen(), None)
        if line is None:
            return None
        clip, opinion = line.clip, line.clip.opinion
        said = (opinion.verdict, ", ".join(opinion.tags), opinion.note)
        if clip.facts is None:
            return Detail(clip.clip.name, "It was not looked at yet.", (), _kept(clip), (), *said)
        facts = clip.facts
        return Detail(
            f"{facts.route.name.capitalize()}: {clip.card}, {clip.clip.name}",
            " ".join(facts.route.reasons),
            (*self._part_line(), *_facts_lines(facts), *self._pace_words(line), *self._odd_words(line)),
            _kept(clip),
            tuple(problem.sentence() for problem in facts.problems),
            *said,
        )

    def _part_line(self) -> tuple[str, ...]:
        words = self.part_words()
        return (f"{words[:1].upper()}{words[1:]}: C converts it, X forgets it.",) if words else ()

    def _pace_words(self, line: Line) -> tuple[str, ...]:
        """How it plays on this machine, and how what was made of it does."""
        original = self._shelf.paces.of_clip(line.make)
        if original is None:
            return ()
        made = next((each.recipe for each in reversed(line.clip.outputs) if each.output), "")
        gain = gain_words(None, self._shelf.paces.of_output(line.make, made)) if made else ""
        return (f"It {playback_words(original)}." + (f" Its output {gain}." if gain else ""),)

    @staticmethod
    def _odd_words(line: Line) -> tuple[str, ...]:
        majority = line.majority
        if not line.odd or majority is None:
            return ()
        most = f"{majority.clips} of {majority.of} clips of this card are {majority.words}"
        return (f"Stands out by its {' and '.join(line.odd)}: {most}.",)

    def compared(self) -> tuple[tuple[str, ...], tuple[ComparedLine, ...]]:
        """Names of the selected clips, and their facts side by side; nothing where fewer than two are selected."""
        lines = list(islice(self._chosen(), MOST_COMPARED))
        if len(lines) < 2:
            return (), ()
        found = compare([line.clip.facts for line in lines])
        verdicts = tuple(line.clip.opinion.verdict or "not decided" for line in lines)
        said = ComparedLine("Keep", verdicts, len(set(verdicts)) > 1)
        return tuple(line.clip.clip.name for line in lines), (said, *found)

    def compared_words(self) -> str:
        """What the comparison found, in a sentence."""
        names, lines = self.compared()
        differing = sum(line.differs for line in lines)
        more = self.chosen_count - len(names)
        rest = f" The first {len(names)} of {self.chosen_count} are shown." if more > 0 else ""
        return f"{len(names)} clips side by side: {count_text(differing, 'line')} of {len(lines)} differ.{rest}"

    # -- parts of clips ------------------------------------------------------------------------

    @property
    def part(self) -> MarkedPart | None:
        """What is marked of the clip at hand."""
        clip = self.current
        return self.selection.parts.get(clip.id) if clip is not None else None

    @property
    def can_mark(self) -> bool:
        """Whether one clip is at hand, and has pictures that can be marked, and converted."""
        clip = self.current
        return clip is not None and self.chosen_count == 1 and _is_decodable(clip)

    def begin_part(self, picture: int) -> None:
        """The part begins with the picture that is on show."""
        clip = self.current
        if self.can_mark and clip is not None and clip.facts is not None:
            self.selection.begin_part(clip.id, picture, clip.facts.pictures)
            self._keep_part(clip.id)

    def end_part(self, picture: int) -> None:
        """The part ends with the picture that is on show."""
        clip = self.current
        if self.can_mark and clip is not None and clip.facts is not None:
            self.selection.end_part(clip.id, picture, clip.facts.pictures)
            self._keep_part(clip.id)

    @property
    def can_forget_part(self) -> bool:
        """Whether a part of the one clip at hand is marked."""
        return self.can_mark and self.part is not None

    def forget_part(self) -> None:
        """All of the clip is wanted."""
        clip = self.current
        if self.can_forget_part and clip is not None:
            del self.selection.parts[clip.id]
            self._keep_part(clip.id)

    def _keep_part(self, clip_id: int) -> None:
        ledger, key, part = self._ledger, str(clip_id), self.selection.parts.get(clip_id)
        ledger.writer.do(
            lambda: remember(ledger, _PARTS, key, part) if part is not None else forget(ledger, _PARTS, key)
        )

    def part_words(self) -> str:
        """Which part is marked of the clip at hand, or nothing."""
        clip, part = self.current, self.part
        if part is None or clip is None or clip.facts is None or not clip.facts.video:
            return ""
        begins, ends = (label_at(clip.facts, picture, 1) for picture in (part.first, part.end - 1))
        return f"part {begins} to {ends}, {count_text(part.pictures, 'picture')}"

    def _marked(self) -> list[tuple[KeptClip, MarkedPart]]:
        """The selected clips of which a part is marked."""
        parts = self.selection.parts
        chosen = (line.clip for line in self._chosen()) if parts else iter(())
        return [(clip, parts[clip.id]) for clip in chosen if clip.id in parts and _is_decodable(clip)]

    @property
    def can_convert_parts(self) -> bool:
        """Whether a part of a selected clip is marked."""
        return bool(self._marked())

    def convert_parts(self) -> int:
        """Has the marked parts of the selected clips converted, and gives how many."""
        marked = self._marked()
        if marked:
            self.convert_clip_parts(marked)
        return len(marked)

    # -- what the person says of clips -----------------------------------------------------------

    def judge(self, verdict: Verdict) -> None:
        """Keep, maybe, no, or nothing, for all that is selected."""
        opinions = self._with(lambda opinion: replace(opinion, verdict=verdict))
        self._shelf.judge(opinions, f"{verdict or 'no verdict'} for {count_text(len(opinions), 'clip')}")

    def _with(self, change: Callable[[Opinion], Opinion]) -> dict[int, Opinion]:
        """What the person says of each selected clip, changed; the same of all of whom the same was said."""
        changed: dict[Opinion, Opinion] = {}
        judged: dict[int, Opinion] = {}
        last = new = None
        for line in self._shelf.chosen(self.browsing.those_shown(self.selection.clip_ids)):
            before = line.clip.opinion
            # It is mostly the very same as that of the clip before, which is sooner seen than looked up.
            if new is None or before is not last:
                last, new = before, changed.setdefault(before, change(before))
            judged[line.clip.id] = new
        return judged

    def tag(self, words: str) -> None:
        """Gives the selected clips these tags, written with commas between them."""
        tags = tuple(dict.fromkeys(filter(None, (word.strip() for word in words.split(",")))))
        opinions = self._with(lambda opinion: replace(opinion, tags=tags))
        self._shelf.judge(opinions, f"tags of {count_text(len(opinions), 'clip')}")

    def note(self, words: str) -> None:
        """Writes a note to the selected clips."""
        opinions = self._with(lambda opinion: replace(opinion, note=words.strip()))
        self._shelf.judge(opinions, f"the note of {count_text(len(opinions), 'clip')}")

    @property
    def can_write_sphere(self) -> bool:
        """Whether all that is selected is equirectangular, or of that shape, and could say so, or otherwise."""
        return self.current is not None and all(_may_be_sphere(line.clip) for line in self._chosen())

    def write_sphere(self, stereo: str) -> None:
        """Has copies made of the selected clips that say what they are, as `SPHERE_CHOICES` has it."""
        if self.can_write_sphere:
            self.write_spheres([line.clip for line in self._chosen()], stereo)

    def combing_words(self) -> str:
        """What the enlarged place shows, or nothing where no fields were seen."""
        line = next(self._chosen(), None)
        facts = line.clip.facts if line is not None else None
        evidence = facts.video[0].evidence if facts and facts.video else None
        if evidence is None:
            return ""
        return f"Seen at {clock_text(evidence.time_s)}: two moments woven line by line, three times enlarged."


def _renamed(look: FootageLook) -> FootageLook:
    """A look that was kept while a column was called otherwise."""
    columns = tuple("Needs" if name == "Route" else name for name in look.columns)
    return replace(
        look,
        columns=columns,
        sorted_by="Needs" if look.sorted_by == "Route" else look.sorted_by,
        grouping="Needs" if look.grouping == "Route" else look.grouping,
    )


def _may_be_sphere(clip: KeptClip) -> bool:
    facts = clip.facts
    if facts is None or facts.container not in {"MP4", "MOV"}:
        return False
    return facts.projection == "equirectangular" or (facts.projection == "flat" and facts.spatial == "missing")


def _facts_lines(facts: Facts) -> tuple[str, ...]:
    lines = []
    for video in facts.video[:1]:
        order = f", {video.field_order} field first" if video.field_order else ""
        frames = "every picture whole" if video.intra_only else "long-GOP"
        codec = f"{spoken_codec(video.codec)} {video.profile}".strip()
        lines.append(f"{facts.container} · {codec} · {frames} · {video.bit_depth} bits {video.chroma}")
        lines.append(
            f"{video.width}×{video.height} · {rate_text(video.frame_rate)} {video.frame_rate_mode} · "
            f"{video.scan}{order} · {video.color.primaries}"
        )
        if video.log_curve:
            lines.append(video.log_curve)
        if video.pulldown:
            lines.append("Film on a video clock: each picture stands for two fields, then for three.")
        if video.gaps:
            count = sum(gap.pictures for gap in video.gaps)
            lines.append(f"{count_text(count, 'picture')} missing, the first after {video.gaps[0].at_s:.1f} s.")
        if video.scan not in {"undecided", video.scan_flagged} and video.scan_flagged != "undecided":
            lines.append(f"The file says {video.scan_flagged}, the pictures show {video.scan}.")
    sounds = [f"{spoken_codec(each.codec)} {each.layout} {each.sample_rate / 1000:g} kHz" for each in facts.audio]
    timecode = f"timecode {facts.video[0].timecode}" if facts.video and facts.video[0].timecode else ""
    frames = count_text(facts.frames, "picture") if facts.frames else ""
    lines.append(" · ".join(filter(None, [*sounds, timecode, frames, size_text(facts.size_bytes)])))
    if facts.projection != "flat" or facts.spatial != "none":
        lines.append(_sphere_words(facts))
    others = [name for name in facts.data if name != "timecode"]
    if others:
        lines.append(f"Also in it: {', '.join(others)}.")
    if facts.origin_reason:
        lines.append(facts.origin_reason)
    return tuple(lines)


def _sphere_words(facts: Facts) -> str:
    if facts.spatial == "missing":
        seen = {
            "equirectangular": "It looks like a whole sphere, equirectangular",
            "cubemap": "It looks like the faces of a cube, three beside each other in two rows",
        }.get(facts.projection, "It has the shape of a whole sphere")
        return f"{seen}, but nothing in it says so: an editor would show it flat."
    tracks = f"{len(facts.video)} tracks, " if len(facts.video) > 1 else ""
    words = f"360: {tracks}{facts.projection}, {facts.stereo}"
    if facts.field_of_view_deg is None:
        return f"{words}; how wide it sees is not written in it."
    inside = f"; 90° of it are {across} pixels" if (across := view_px(facts)) else ""
    return f"{words}, {arc_text(facts.field_of_view_deg)}{inside}."


def _kept(clip: KeptClip) -> str:
    places = [copy.destination.rpartition("/")[2] for copy in clip.copies if copy.status == "proven"]
    return f"Proven in {' and '.join(places)}" if places else "Not proven anywhere"


def _is_decodable(clip: KeptClip) -> bool:
    return clip.facts is not None and bool(clip.facts.video) and clip.facts.video[0].decodable


def label_at(facts: Facts, moment: int, fields: int) -> str:
    """The timecode of a moment, or its number where the clip has none."""
    picture = moment // fields
    labels = facts.video[0].labels
    return str(labels.at(picture) if labels is not None else picture)
