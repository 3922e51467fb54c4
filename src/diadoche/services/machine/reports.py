"""Errors that nobody foresaw: a problem in words, and a report in a file of its own."""

from __future__ import annotations

import os
import traceback
from contextlib import suppress
from datetime import UTC, datetime

from diadoche.core.errors import Problem
from diadoche.services.machine.state_places import default_places


def unforeseen(error: BaseException) -> Problem:
    """An error that nobody foresaw, as a problem; its report is kept in a file of its own."""
    report = "".join(traceback.format_exception(error))
    where = "It could not be kept in a file."
    with suppress(OSError):
        folder = default_places().state / "reports"
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{datetime.now(UTC):%Y-%m-%d_%H%M%S}_{os.getpid()}.txt"
        path.write_text(report, "utf-8", "backslashreplace")
        where = f"Its report is {path}."
    return Problem(
        f"The program failed: {type(error).__name__}: {error}.",
        "",
        f"Originals and copies are untouched; nothing half-made stands under a final name. {where}",
        "Try it again; send the report to the developers if it comes back.",
    )
