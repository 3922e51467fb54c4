"""The waybill as CSV and JSON, from the same page as the HTML."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping
from dataclasses import asdict

from diadoche.core.names import shown
from diadoche.core.offload.waybill import STATUS_WORDS, WaybillPage


def waybill_csv(page: WaybillPage) -> bytes:
    """One line for each file of the card: path, bytes, digests, and its name in each copy."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    copies = [copy for copy in page.result.copies if copy.manifest]
    writer.writerow(["path", "bytes", *page.digests, *(f"state in {shown(copy.root)}" for copy in copies)])
    renamed: Mapping[str, str] = dict(page.result.renamed)
    for file in page.result.kept:
        state = [f"{STATUS_WORDS[copy.status]}{_as(renamed.get(file.path, ''))}" for copy in copies]
        digests = [file.digests.get(name, "") for name in page.digests]
        writer.writerow([_cell(shown(file.path)), file.size_bytes, *digests, *state])
    return out.getvalue().encode("utf-8", "backslashreplace")


def _as(name: str) -> str:
    return f", as {shown(name)}" if name else ""


def _cell(text: str) -> str:
    """A name as text: spreadsheets take what begins like this for a formula."""
    return f"'{text}" if text[:1] in {"=", "+", "-", "@", "\t"} else text


def waybill_json(page: WaybillPage) -> bytes:
    """The whole record for other programs."""
    result = page.result
    value = {
        "waybill": 1,
        "shoot": page.shoot,
        "card": page.card,
        "layout": page.layout,
        "source": result.source,
        "started": result.started.isoformat(),
        "seconds": round(result.seconds, 3),
        "files": result.files,
        "bytes": result.bytes,
        "whole": result.whole,
        "stopped": result.stopped,
        "copies": [asdict(copy) for copy in result.copies],
        "clips": [clip.as_dict() for clip in page.clips],
        "stills": page.stills,
        "kept": [{"path": file.path, "bytes": file.size_bytes, "digests": file.digests} for file in result.kept],
        "left_out": [problem.as_dict() for problem in result.skipped],
        "renamed": [{"path": old, "kept_as": new} for old, new in result.renamed],
        "problems": [problem.as_dict() for problem in result.problems],
        "on_the_card": list(page.card_problems),
        "tried": page.tried,
        "version": page.version,
    }
    return json.dumps(value, indent=1, ensure_ascii=True).encode("ascii") + b"\n"
