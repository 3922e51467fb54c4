"""The ledger as a plain list of waybills, with the state of every copy."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from diadoche.core.sizes import count_text, size_text
from diadoche.screens.marks import Mark
from diadoche.services.ledger.ledger import Ledger
from diadoche.services.ledger.waybills import WaybillEntry, waybills
from diadoche.services.queue.runner import Job, Runner
from diadoche.services.queue.states import State
from diadoche.services.verifying import VerifyRequest

COLUMNS = ("Card", "Offloaded", "Clips", "Files", "Size", "Copies")


@dataclass(frozen=True, slots=True)
class LedgerDetail:
    """What the panel says of a waybill."""

    title: str
    copies: tuple[tuple[Mark, str], ...]
    page: Path | None
    last_check: str


class LedgerScreen:
    """What the ledger view shows and allows."""

    def __init__(self, ledger: Ledger, runner: Runner) -> None:
        self._ledger = ledger
        self._runner = runner
        self.on_change: Callable[[], None] = lambda: None
        self.entries: list[WaybillEntry] = []
        self.selected: int | None = None
        self._checks: dict[str, str] = {}
        self.refresh()

    def refresh(self) -> None:
        """Reads the ledger anew."""
        self.entries = waybills(self._ledger)
        if self.selected not in {entry.id for entry in self.entries}:
            self.selected = None
        self.on_change()

    def summary(self) -> str:
        """The words under the view's name."""
        return count_text(len(self.entries), "waybill")

    def texts(self, row: int) -> tuple[str, ...]:
        """One row of the list."""
        entry = self.entries[row]
        when = entry.started.astimezone()
        return (
            entry.card,
            f"{when.day} {when:%B %Y, %H:%M}",
            str(entry.clips),
            str(entry.files),
            size_text(entry.size_bytes),
            f"{entry.proven} of {len(entry.copies)} proven",
        )

    def mark(self, row: int) -> Mark:
        """Whether all copies of a row are proven."""
        entry = self.entries[row]
        return Mark.PROVEN if entry.proven == len(entry.copies) else Mark.PROBLEM

    def select(self, row: int | None) -> None:
        """Selects a row."""
        self.selected = self.entries[row].id if row is not None and 0 <= row < len(self.entries) else None

    def detail(self) -> LedgerDetail | None:
        """The panel's text for the selected waybill."""
        entry = self._entry()
        if entry is None:
            return None
        copies = []
        for copy in entry.copies:
            check = self._checks.get(copy.root, "")
            here = "" if Path(copy.root).is_dir() else " Not here now."
            mark = Mark.PROVEN if copy.status == "proven" and "not as" not in check else Mark.PROBLEM
            read_back = f"{copy.status}, {count_text(copy.files_verified, 'file')} read back.{here} {check}"
            copies.append((mark, f"{copy.root}\n{read_back}".strip()))
        page = Path(entry.html) if entry.html and Path(entry.html).exists() else None
        return LedgerDetail(f"{entry.card}, {size_text(entry.size_bytes)}", tuple(copies), page, "")

    def check_copies(self) -> int:
        """Reads every copy of the selected waybill back again; gives how many jobs that are."""
        entry = self._entry()
        if entry is None:
            return 0
        roots = [Path(copy.root) for copy in entry.copies if copy.manifest and Path(copy.root).is_dir()]
        for root in roots:
            self._runner.add("verify", f"Check {entry.card} in {root.parents[4].name}", "verify", VerifyRequest(root))
        return len(roots)

    def job_changed(self, job: Job) -> None:
        """A check ended: its verdict is shown with its copy."""
        if job.kind != "verify" or job.state is not State.DONE:
            return
        verdict = job.result
        if verdict.clean:
            words = f"Checked {job.ended.astimezone():%H:%M}: as it was." if job.ended else ""
        else:
            words = (
                f"Checked: not as it was. {len(verdict.changed)} changed, {len(verdict.missing)} missing, "
                f"{len(verdict.extra)} extra."
            )
        self._checks[str(verdict.root)] = words
        self.on_change()

    def _entry(self) -> WaybillEntry | None:
        return next((entry for entry in self.entries if entry.id == self.selected), None)
