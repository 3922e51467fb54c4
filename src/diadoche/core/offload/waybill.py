"""The waybill of an offload as one HTML page that stands by itself."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from diadoche.core.cards.clips import Clip
from diadoche.core.cards.tree import FileEntry
from diadoche.core.names import shown
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.offload import OffloadResult
from diadoche.core.sizes import clock_text, count_text, size_text

STATUS_WORDS = {
    CopyState.PROVEN: "proven",
    CopyState.INCOMPLETE: "not whole",
    CopyState.FAILED: "failed",
    CopyState.DAMAGED: "damaged",
    CopyState.ALTERED: "its manifests were altered",
    CopyState.LISTED: "by its manifest, not read since",
    CopyState.GONE: "gone from there",
}


@dataclass(frozen=True, slots=True)
class FolderLine:
    """A folder of the card beside what became of it: files and bytes listed, and kept."""

    path: str
    files: int
    size_bytes: int
    kept_files: int
    kept_bytes: int


@dataclass(frozen=True, slots=True)
class WaybillPage:
    """What a waybill tells. `thumbnails` are small JPEGs by the clip's name; `tried` counts clips that decode."""

    shoot: str
    card: str
    layout: str
    clips: Sequence[Clip]
    stills: int
    card_problems: Sequence[str]
    result: OffloadResult
    digests: tuple[str, ...]
    version: str
    listed: Sequence[FileEntry] = ()
    thumbnails: Mapping[str, bytes] = field(default_factory=dict)
    tried: int | None = None

    @property
    def all_proven(self) -> bool:
        """Whether every copy is proven."""
        return self.result.proven_copies == len(self.result.copies) > 0 and not self.result.stopped

    def folders(self) -> list[FolderLine]:
        """Card and copies folder by folder."""
        kept = {file.path: file.size_bytes for file in self.result.kept}
        sums: dict[str, list[int]] = {}
        for file in self.listed:
            line = sums.setdefault(file.path.rpartition("/")[0] or ".", [0, 0, 0, 0])
            line[0] += 1
            line[1] += file.size_bytes
            if file.path in kept:
                line[2] += 1
                line[3] += kept[file.path]
        return [FolderLine(path, *numbers) for path, numbers in sorted(sums.items())]


def waybill_html(page: WaybillPage) -> str:
    """The page. Every text from outside is escaped."""
    environment = Environment(
        loader=PackageLoader("diadoche.core.offload"), autoescape=select_autoescape(), undefined=StrictUndefined
    )
    environment.filters |= {"size": size_text, "clock": clock_text, "shown": shown, "began": began_text}
    return environment.get_template("waybill.html").render(
        page=page,
        result=page.result,
        verdict=verdict(page.result),
        summary=summary(page),
        remarks=remarks(page),
        status_words=STATUS_WORDS,
        pictures={name: b64encode(data).decode("ascii") for name, data in page.thumbnails.items()},
    )


def verdict(result: OffloadResult) -> str:
    """The one sentence that matters."""
    wanted = len(result.copies)
    if result.stopped:
        return "Stopped before the end: no copy of this run is whole."
    if result.proven_copies < wanted:
        return f"{result.proven_copies} of {wanted} copies are proven."
    if wanted == 1:
        return "The copy is proven."
    disks = result.proven_disks
    on = f"on {disks} different disks" if disks > 1 else _together_words(result, wanted)
    return f"{'Both' if wanted == 2 else f'All {wanted}'} copies are proven, {on}."


def _together_words(result: OffloadResult, wanted: int) -> str:
    keys = {copy.disk for copy in result.copies}
    if len(keys) == 1 and next(iter(keys)).partition(":")[0] in {"disk", "server"}:
        return f"{'both' if wanted == 2 else 'all of them'} on one disk: together they count as one"
    return "not known to be on different disks: together they count as one"


def summary(page: WaybillPage) -> str:
    """What was on the card, when, and how fast it went."""
    result = page.result
    rate = size_text(result.bytes / result.seconds) if result.seconds else "0 bytes"
    starts = sorted(clip.start for clip in page.clips if clip.start)
    dates = f" Filmed {_days(starts[0], starts[-1])}." if starts else ""
    tried = ""
    if page.tried is not None and page.clips:
        of = f"{page.tried} of {count_text(len(page.clips), 'clip')}"
        tried = f" {of} opened from the copy and decoded, at the beginning and near the end."
    less = "" if result.whole else " Less than the whole card is in it."
    return (
        f"{count_text(len(page.clips), 'clip')}, {count_text(page.stills, 'still')}, "
        f"{count_text(result.files, 'file')}, {size_text(result.bytes)}.{dates} "
        f"Shoot: {page.shoot}. Card: {page.layout or 'no card structure'}, read from {shown(result.source)} on "
        f"{_day(result.started)}, {result.started:%H:%M %Z}, in {_took(result.seconds)} ({rate} a second)."
        f"{tried}{less}"
    )


def remarks(page: WaybillPage) -> list[str]:
    """What a reader should know beyond the verdict, a sentence or two each."""
    result = page.result
    found = [f"On the card: {text}" for text in page.card_problems]
    found += [each.sentence() for each in result.problems]
    found += [f"Left out: {each.what}" for each in result.skipped]
    found += [f"{shown(old)} is kept as {shown(new)}." for old, new in result.renamed]
    # The card and the trial of its copy may say the same of one clip.
    return list(dict.fromkeys(found))


def _took(seconds: float) -> str:
    return f"{seconds:.1f} s" if seconds < 60 else clock_text(seconds)


def began_text(clip: Clip) -> str:
    """When a clip began, on the clock of its camera."""
    return f"{clip.start:%Y-%m-%d %H:%M:%S %z}".strip() if clip.start else "not known"


def _days(first: datetime, last: datetime) -> str:
    if first.date() == last.date():
        return f"on {_day(first)}, {first:%H:%M} to {last:%H:%M}"
    return f"from {_day(first)} to {_day(last)}"


def _day(moment: datetime) -> str:
    return f"{moment.day} {moment:%B %Y}"


def waybill_place(place: Path, shoot_folder: str, root: Path) -> Path:
    """Where the pages lie, without an ending: beside the originals of the shoot, named after the copy's folders."""
    inside = [part for part in root.relative_to(place).parts if part not in {shoot_folder, "Originals"}]
    return place / shoot_folder / "Waybills" / " ".join(inside)
