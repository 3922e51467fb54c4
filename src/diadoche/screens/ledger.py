"""The ledger: waybills with the state of every copy, the disks they lie on, and what happened, in order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from diadoche.core.errors import DiadocheError
from diadoche.core.offload.copies import CopyState
from diadoche.core.offload.expected import CardTruth
from diadoche.core.offload.found_copies import copy_tree
from diadoche.core.offload.waybill import STATUS_WORDS
from diadoche.core.sizes import count_text, size_text
from diadoche.screens.marks import Mark
from diadoche.services.jobs.adopt_folder import AdoptFolderRequest
from diadoche.services.jobs.copy_on import CopyOnRequest
from diadoche.services.jobs.level import LevelRequest
from diadoche.services.jobs.rebuild import RebuildRequest
from diadoche.services.jobs.restore import RestoreRequest
from diadoche.services.jobs.verify import VerifyRequest
from diadoche.services.ledger.card_truth import card_truth
from diadoche.services.ledger.copies import CopyEntry
from diadoche.services.ledger.happenings import Happening, happenings, seen_until
from diadoche.services.ledger.known_copies import holders, known_roots, place_below
from diadoche.services.ledger.shoots import Shoot, ShootSettings, all_shoots
from diadoche.services.ledger.waybills import WaybillEntry, matching_waybills, waybills
from diadoche.services.queue.runner import Job
from diadoche.services.queue.states import State
from diadoche.services.station.station import Station

COLUMNS = ("Card", "Shoot", "Offloaded", "Clips", "Size", "Copies", "Read back", "Camera may format")
DISK_COLUMNS = ("Disk", "Where", "Cards kept", "Size", "Longest unread")
HAPPENING_COLUMNS = ("What happened", "When")
CHECK_CHOICES = (
    (0, "when I ask for it"),
    (30, "every 30 days"),
    (90, "every 90 days"),
    (180, "twice a year"),
    (365, "once a year"),
)
_NOT_READ = "The ledger could not be read anew; what stands here may be older."
_NOT_SEARCHED = "The ledger could not be searched."
_DONE_KINDS = {"verify", "copy on", "level", "restore", "rebuild", "take in"}


@dataclass(frozen=True, slots=True)
class LedgerDetail:
    """What the panel says of a waybill."""

    title: str
    copies: tuple[tuple[Mark, str], ...]
    page: Path | None
    can_copy_on: bool
    # Where its copies lie that are here.
    folders: tuple[Path, ...] = ()


@dataclass(frozen=True, slots=True)
class DiskRow:
    """A disk that copies lie on. `search` finds what it holds, in the drawer too."""

    name: str
    search: str
    where: str
    cards: int
    size_bytes: int
    oldest: datetime | None
    here: bool

    def texts(self) -> tuple[str, ...]:
        """One row of the list."""
        size = size_text(self.size_bytes)
        return self.name, self.where, count_text(self.cards, "card"), size, age_text(self.oldest)


@dataclass(frozen=True, slots=True)
class _Read:
    """What stood in the ledger when it was read."""

    shoots: dict[str, Shoot]
    waybills: list[WaybillEntry]
    disks: list[DiskRow]
    happened: list[Happening]


class LedgerScreen:
    """What the ledger view shows and allows."""

    def __init__(self, station: Station) -> None:
        self._station = station
        self._ledger = station.ledger
        self._runner = station.runner
        self.on_change: Callable[[], None] = lambda: None
        # All waybills, and those that the search leaves.
        self.everything: list[WaybillEntry] = []
        self.entries: list[WaybillEntry] = []
        self.disks: list[DiskRow] = []
        self.happened: list[Happening] = []
        # Up to when the person has read of it: what is read of the ledger may be older than that is written there.
        self._seen_until = 0
        self.selected: int | None = None
        self.message = ""
        self._shoots: dict[str, Shoot] = {}
        self._search = ""
        # Which waybills hold a text, and which text that was; None where nothing is searched for.
        self._matching: frozenset[int] | None = None
        self._answered = ""
        self._is_asking = False
        self.only_wanting = False
        # Told when the waybills were read anew.
        self.on_read: Callable[[], None] = lambda: None
        self._is_reading = self._again = False
        self._take(self._read())

    # -- what is shown -------------------------------------------------------------------------

    def refresh(self) -> None:
        """Reads the ledger anew; what is asked for meanwhile is done once, afterwards.

        The window does not wait: neither for the ledger, nor for disks that are asked for the first time whether a copy
        is there. What was read before stays where the ledger cannot be read just now.
        """
        if self._is_reading:
            self._again = True
            return
        self._is_reading = True

        def came(read: _Read | Exception) -> None:
            self._is_reading = False
            if not isinstance(read, Exception):
                if self.message.startswith(_NOT_READ):
                    self.message = ""
                self._take(read)
                self.on_read()
            else:
                told = read.problem.sentence() if isinstance(read, DiadocheError) else f"{read}."
                self._say(f"{_NOT_READ} {told}")
            if self._again:
                self._again = False
                self.refresh()

        self._station.in_background(self._read, came)

    def _read(self) -> _Read:
        """On any thread."""
        entries = waybills(self._ledger)
        shoots = {shoot.name: shoot for shoot in all_shoots(self._ledger)}
        return _Read(shoots, entries, self._disks(entries), happenings(self._ledger))

    def _take(self, read: _Read) -> None:
        self._shoots, self.everything, self.disks = read.shoots, read.waybills, read.disks
        self.happened = self._as_seen(read.happened)
        self._look_for_search()
        self._narrow()

    def _narrow(self) -> None:
        """Leaves what search and choice leave; while a search is not answered, what was shown before it stays."""
        matching = self._matching if self._search else None
        found = [entry for entry in self.everything if matching is None or entry.id in matching]
        self.entries = [entry for entry in found if self._wants_copies(entry)] if self.only_wanting else found
        if self.selected not in {entry.id for entry in self.entries}:
            self.selected = None
        self.on_change()

    def _look_for_search(self) -> None:
        """Asks anew what holds the text: every file of every card is looked through, and the window goes on."""
        asked = self._search
        if not asked:
            self._matching, self._answered = None, ""
            return
        if self._is_asking:
            # Whoever types is quicker than the ledger: it is asked for the newest text when it has answered.
            return
        self._is_asking = True

        def found(matching: frozenset[int] | Exception) -> None:
            self._is_asking = False
            if asked != self._search:
                self._look_for_search()
                return
            self._answered = asked
            if self.message.startswith(_NOT_SEARCHED):
                self.message = ""
            if isinstance(matching, Exception):
                # What cannot be searched is shown whole: that nothing matches is not known.
                told = matching.problem.sentence() if isinstance(matching, DiadocheError) else f"{matching}."
                self._matching, self.message = None, f"{_NOT_SEARCHED} {told}"
            else:
                self._matching = matching
            self._narrow()

        self._station.in_background(lambda: matching_waybills(self._ledger, asked), found)

    def read_happened(self) -> None:
        """Something was noted: only that is read anew."""

        def came(happened: list[Happening] | Exception) -> None:
            # What is read anew just now is newer.
            if not isinstance(happened, Exception) and not self._is_reading:
                self.happened = self._as_seen(happened)
                self.on_change()

        self._station.in_background(lambda: happenings(self._ledger), came)

    def search(self, text: str) -> None:
        """Shows only waybills whose card, shoot, day, clips, files, digests or disks hold the text."""
        self._search = text.strip()
        self._look_for_search()
        self._narrow()

    @property
    def is_looking(self) -> bool:
        """Whether it is not known yet what holds the text that is searched for."""
        return self._search != self._answered

    @property
    def searching(self) -> bool:
        """Whether something narrows the list."""
        return bool(self._search) or self.only_wanting

    def show_only_wanting(self, wanted: bool) -> None:
        """Shows only cards that stand on fewer disks than their shoot asks for."""
        self.only_wanting = wanted
        self._narrow()

    def _wants_copies(self, entry: WaybillEntry) -> bool:
        return entry.proven_disks < self._copies_wanted(entry)

    def _copies_wanted(self, entry: WaybillEntry) -> int:
        return self._settings(entry.shoot).copies_wanted

    def _settings(self, shoot: str) -> ShootSettings:
        # This shoot's are as the person left them: the ledger may still have to take them over.
        here = self._station.shoot
        return here.settings if shoot == here.name else self._shoots.get(shoot, here).settings

    def summary(self) -> str:
        """The words under the view's name."""
        unread = self.unread()
        return f"{unread} new in the log" if unread else count_text(len(self.everything), "waybill")

    def unread(self) -> int:
        """How many happenings were not read yet."""
        return sum(not each.seen for each in self.happened)

    def texts(self, row: int) -> tuple[str, ...]:
        """One row of the list."""
        entry = self.entries[row]
        disks = entry.proven_disks
        where = f", {count_text(disks, 'disk')}" if disks else ""
        return (
            entry.card,
            entry.shoot,
            _when(entry.started),
            str(entry.clips),
            size_text(entry.size_bytes),
            f"{entry.proven} of {len(entry.copies)}{where}",
            age_text(entry.oldest_check),
            self._may_format(entry),
        )

    def mark(self, row: int) -> Mark:
        """Whether all copies of a row are proven."""
        entry = self.entries[row]
        return Mark.PROVEN if entry.copies and entry.proven == len(entry.copies) else Mark.PROBLEM

    def _may_format(self, entry: WaybillEntry) -> str:
        if not entry.whole:
            return "no, part of a card"
        wanted = self._copies_wanted(entry)
        return "yes" if entry.may_format(wanted) else f"no, on {entry.proven_disks} of {wanted} disks"

    def happening_texts(self, row: int) -> tuple[str, ...]:
        """One row of what happened."""
        happening = self.happened[row]
        return happening.words, _when(happening.at)

    def happening_mark(self, row: int) -> Mark:
        """A shape for what happened."""
        kinds = {"proven": Mark.PROVEN, "problem": Mark.PROBLEM, "begun": Mark.UNDER_WAY}
        return kinds.get(self.happened[row].kind, Mark.EXPECTED)

    def read_all(self) -> None:
        """The person has looked at what happened."""
        if self.unread():
            until = self._seen_until = max(each.number for each in self.happened)
            self.happened = self._as_seen(self.happened)
            self._ledger.writer.do(lambda: seen_until(self._ledger, until))
            self.on_change()
            self.on_read()

    def _as_seen(self, happened: list[Happening]) -> list[Happening]:
        return [replace(each, seen=each.seen or each.number <= self._seen_until) for each in happened]

    def select(self, row: int | None) -> None:
        """Selects a row."""
        self.selected = self.entries[row].id if row is not None and 0 <= row < len(self.entries) else None

    def detail(self) -> LedgerDetail | None:
        """The panel's text for the selected waybill; it waits for no disk, and is told again when one has answered."""
        entry = self._entry()
        if entry is None:
            return None
        here = [self._is_here(copy, wait=False) for copy in entry.copies]
        copies = tuple(self._copy_words(*each) for each in zip(entry.copies, here, strict=True))
        page = Path(entry.html) if entry.html and self._station.is_there(Path(entry.html), wait=False) else None
        title = f"{entry.card}, {count_text(entry.files, 'file')}, {size_text(entry.size_bytes)}"
        found = [copy for copy, is_here in zip(entry.copies, here, strict=True) if is_here]
        folders = tuple(Path(copy.root) for copy in found)
        return LedgerDetail(title, copies, page, any(copy.proven for copy in found), folders)

    # -- what is done --------------------------------------------------------------------------

    def check_copies(self) -> int:
        """Reads every copy of the selected waybill back again; gives how many jobs that are."""
        entry = self._entry()
        if entry is None:
            return 0
        return self._check([copy for copy in entry.copies if self._is_here(copy, now=True) is not False], entry.card)

    def check_due(self, now: datetime) -> int:
        """Reads back what was not read for longer than its shoot allows and is here now; gives how many jobs."""
        if not any(shoot.settings.check_every_days for shoot in (*self._shoots.values(), self._station.shoot)):
            return 0
        count = 0
        waiting = {job.request.root for job in self._runner.jobs() if job.kind == "verify" and not job.state.ended}
        for entry in self.everything:
            days = self._settings(entry.shoot).check_every_days
            if not days:
                continue
            before = now - timedelta(days=days)
            due = [copy for copy in entry.copies if copy.proven and copy.verified and copy.verified < before]
            count += self._check(
                [copy for copy in due if self._is_here(copy, now=True) and Path(copy.root) not in waiting], entry.card
            )
        return count

    def _check(self, copies: list[CopyEntry], card: str) -> int:
        for copy in copies:
            self._check_one(copy, f"Check {card} in {Path(copy.destination).name}")
        return len(copies)

    def _check_one(self, copy: CopyEntry, title: str) -> None:
        def begin(card: CardTruth | None) -> None:
            self._runner.add("verify", title, f"disk:{copy.disk}", VerifyRequest(Path(copy.root), card))

        self._with_card(Path(copy.root), begin)

    def _with_card(self, root: Path, begin: Callable[[CardTruth | None], None]) -> None:
        """Begins work on a copy with what came off its card, where its manifests do not say that as well."""

        def found(card: CardTruth | Exception | None) -> None:
            begin(None if isinstance(card, Exception) else card)

        # The copy is looked at on its disk.
        self._station.in_background(lambda: card_truth(self._ledger, root), found)

    @property
    def check_every_days(self) -> int:
        """How often copies of this shoot are read back; 0 for only when asked."""
        return self._station.shoot.settings.check_every_days

    def set_check_every_days(self, days: int) -> None:
        """Changes that."""
        self._station.change_settings(check_every_days=days)

    def copy_on(self, to: Path) -> None:
        """Copies the selected card on to another place, from a proven copy that is here."""
        entry = self._entry()
        good = self._good_copy(entry) if entry is not None else None
        if entry is None or good is None:
            self._say("No proven copy of it is known to be here now. Plug in a disk that has one.")
            return
        root = Path(good.root)
        target, title = place_below(self._ledger, root, to), f"Copy {entry.card} on to {to.name}"

        def begin(card: CardTruth | None) -> None:
            self._runner.add("copy on", title, "copies", CopyOnRequest(root, ((to, target),), card))

        self._with_card(root, begin)
        self._say(f"{entry.card} is copied on to {to}; see Work.")

    def restore(self, wanted: str, to: Path) -> None:
        """Fetches a clip or a file from any proven copy that is here."""

        def found(roots: tuple[Path, ...] | Exception) -> None:
            self._restore_from(() if isinstance(roots, Exception) else roots, wanted, to)

        # Copies are looked at on their disks.
        self._station.in_background(lambda: holders(self._ledger, wanted) if wanted.strip() else (), found)

    def fetch_clip(self, name: str, roots: tuple[Path, ...], to: Path) -> None:
        """Fetches a clip that was found from the copies that are known to hold it."""
        self._restore_from(roots, name, to)

    def _restore_from(self, roots: tuple[Path, ...], wanted: str, to: Path) -> None:
        if not roots:
            self._say(
                f"No proven copy of {wanted.strip() or 'nothing'} is here now. Write its name as the waybill does."
            )
            return
        self._runner.add("restore", f"Fetch {wanted} to {to.name}", "copies", RestoreRequest(wanted, to, roots))
        self._say(f"{wanted} is fetched to {to}; see Work.")

    def level(self, here: Path, there: Path) -> None:
        """Brings two places to the same state."""
        title = f"Bring {here.name} and {there.name} level"
        self._runner.add("level", title, "copies", LevelRequest(here, there))
        self._say(f"{here} and {there} are compared; what one lacks is copied and proven.")

    def rebuild(self, folder: Path) -> None:
        """Fills the ledger from the manifests below a folder."""
        request = RebuildRequest((folder,), known_roots(self._ledger), self._station.own.layouts.folder)
        self._runner.add("rebuild", f"Read the manifests in {folder.name}", "copies", request)
        self._say(f"The manifests in {folder} are read.")

    def take_in(self, folder: Path) -> None:
        """Takes footage into the shoot where it lies."""
        shoot_id, layouts = self._station.shoot.id, self._station.own.layouts.folder

        def known() -> CardTruth | None:
            return card_truth(self._ledger, folder, copy_tree(folder).fingerprint())

        def begin(card: CardTruth | Exception | None) -> None:
            request = AdoptFolderRequest(folder, shoot_id, layouts, None if isinstance(card, Exception) else card)
            self._runner.add("take in", f"Take in {folder.name} where it lies", "copies", request)

        self._station.in_background(known, begin)
        self._say(f"{folder} is read and listed where it lies; nothing is moved.")

    def job_changed(self, job: Job) -> None:
        """Work on copies ended: what came of it is said, and the ledger is read anew."""
        if job.kind not in _DONE_KINDS or not job.state.ended:
            return
        if job.state is State.DONE:
            self.message = _ended_words(job)
        elif job.problem is not None:
            self.message = job.problem.sentence()
        self.refresh()

    def _say(self, words: str) -> None:
        self.message = words
        self.on_change()

    def _entry(self) -> WaybillEntry | None:
        return next((entry for entry in self.entries if entry.id == self.selected), None)

    def _good_copy(self, entry: WaybillEntry) -> CopyEntry | None:
        return next((copy for copy in entry.copies if copy.proven and self._is_here(copy, now=True)), None)

    def _is_here(self, copy: CopyEntry, *, now: bool = False, wait: bool = True) -> bool | None:
        """Whether a copy's manifest is there; None while its disk has not answered."""
        if not copy.manifest or copy.status is CopyState.GONE:
            return False
        return self._station.is_there(Path(copy.manifest), Path(copy.destination), now=now, wait=wait)

    def _copy_words(self, copy: CopyEntry, is_here: bool | None) -> tuple[Mark, str]:
        here = {True: "", False: " Not here now.", None: " Whether it is here is not known."}[is_here]
        read = f", read back {age_text(copy.verified)}" if copy.verified else ""
        check = f", {copy.last_check}" if copy.last_check else ""
        words = f"{STATUS_WORDS[copy.status]}, {count_text(copy.files_verified, 'file')}{read}{check}.{here}"
        return (
            Mark.PROVEN if copy.proven else Mark.PROBLEM,
            f"{copy.root}\n{words} On {copy.disk_words or 'an unknown disk'}.",
        )

    def _disks(self, entries: list[WaybillEntry]) -> list[DiskRow]:
        """Every disk that a copy lies on; those in the drawer too."""
        found: dict[str, list[tuple[WaybillEntry, CopyEntry]]] = {}
        for entry in entries:
            for copy in entry.copies:
                found.setdefault(copy.disk, []).append((entry, copy))
        rows = []
        for pairs in found.values():
            proven = [(entry, copy) for entry, copy in pairs if copy.proven]
            here = any(self._is_here(copy) for _entry, copy in pairs)
            places = ", ".join(dict.fromkeys(copy.destination for _entry, copy in pairs))
            checks = [copy.verified for _entry, copy in proven if copy.verified is not None]
            size = sum(entry.size_bytes for entry, _copy in proven)
            name = pairs[0][1].disk_words or "disks that could not be told apart"
            where = places if here else f"not here now; was {places}"
            search = pairs[0][1].disk_words or pairs[0][1].destination
            rows.append(DiskRow(name, search, where, len(proven), size, min(checks, default=None), here))
        return sorted(rows, key=lambda row: (not row.here, row.name))


def age_text(at: datetime | None) -> str:
    """How long ago, as people say it."""
    if at is None:
        return "never"
    days = (datetime.now(UTC) - at).days
    if days < 1:
        return "today"
    if days < 60:
        return count_text(days, "day") + " ago"
    if days < 730:
        return count_text(days // 30, "month") + " ago"
    return count_text(days // 365, "year") + " ago"


def _when(at: datetime) -> str:
    local = at.astimezone()
    return f"{local.day} {local:%b %Y, %H:%M}"


def _ended_words(job: Job) -> str:
    result = job.result
    if job.kind == "verify":
        if result.clean:
            return f"{job.title}: as it was."
        counts = f"{len(result.changed)} changed, {len(result.missing)} missing, {len(result.extra)} extra"
        return f"{job.title}: not as it was, {counts}."
    if job.kind == "copy on":
        copies = result.result.copies
        return f"{job.title}: {result.result.proven_copies} of {count_text(len(copies), 'copy', 'copies')} proven."
    if job.kind == "level":
        made, fetched = count_text(len(result.made), "copy", "copies"), count_text(len(result.restored), "file")
        unlike = f", {len(result.differing)} differ and stay as they are" if result.differing else ""
        return f"{job.title}: {made} made, {fetched} fetched{unlike}."
    if job.kind == "restore":
        fetched = count_text(len(result.found.files), "file")
        problem = f" {result.found.problems[0].what}" if result.found.problems else ""
        return f"{job.title}: {fetched} fetched from {result.root}, read back and matched.{problem}"
    if job.kind == "rebuild":
        return f"{job.title}: {count_text(len(result.taken), 'copy', 'copies')} came into the ledger."
    return f"{job.title}: it is a copy now, with a manifest."
