"""What became of one output, for the ledger, the screens and the command line."""

from __future__ import annotations

from dataclasses import dataclass

from diadoche.core.convert.check import Checks, Finding
from diadoche.core.convert.record import OutputRecord
from diadoche.core.errors import Problem


@dataclass(frozen=True, slots=True)
class Output:
    """A finished and checked output, or the reason why there is none (`output` is empty then)."""

    source: tuple[str, ...]
    output: str
    recipe: str
    frames_in: int
    frames_out: int
    checks: Checks | None
    packets_identical: bool | None
    pictures_identical: bool | None
    bytes: int
    estimated_bytes: int
    seconds: float
    problems: tuple[Problem, ...] = ()
    # Suspect places, to be stepped through.
    findings: tuple[Finding, ...] = ()
    # Of a stitch: by how many pixels edges across the seams break in each picture; None where that could not be told.
    seam_px: tuple[float | None, ...] = ()
    # How it was made; None where an earlier version of this program made it.
    record: OutputRecord | None = None

    def as_dict(self) -> dict[str, object]:
        """The output as the command line's JSON has it."""
        values: dict[str, object] = {
            "source": list(self.source),
            "output": self.output or None,
            "recipe": self.recipe,
            "frames_in": self.frames_in,
            "frames_out": self.frames_out,
            "checks": self.checks.as_dict() if self.checks else None,
            "bytes": self.bytes,
            "estimated_bytes": self.estimated_bytes,
            "seconds": round(self.seconds, 3),
            "problems": [problem.as_dict() for problem in self.problems],
            "findings": [finding.as_dict() for finding in self.findings],
            "record": self.record.as_dict() if self.record is not None else None,
        }
        if self.packets_identical is not None:
            values["packets_identical"] = self.packets_identical
            values["pictures_identical"] = self.pictures_identical
        return values


def failed(source: tuple[str, ...], recipe: str, problem: Problem) -> Output:
    """No output, and why."""
    return Output(source, "", recipe, 0, 0, None, None, None, 0, 0, 0.0, (problem,))


def withheld(name: str, what: str, findings: tuple[Finding, ...] = (), causes: tuple[str, ...] = ()) -> Problem:
    """The problem of an output that failed its check, with the place that failed first: it is not delivered.

    Args:
        name: of the output.
        what: failed.
        findings: of its check.
        causes: what is known of its source that it may come of, in sentences.
    """
    wrong = next((each for each in findings if each.kind in {"changed", "out of step"}), None)
    where = f"; picture {wrong.picture} at {wrong.time_s:.2f} s: {wrong.words}" if wrong is not None else ""
    return Problem(
        " ".join((f"{name} failed its check ({what}{where}) and was not kept.", *causes)),
        name,
        "The originals are untouched.",
        "Rewrap or convert the files of the clip one by one."
        if causes
        else "Try again; if it fails again, look at the clip for damage, or choose another recipe.",
    )
