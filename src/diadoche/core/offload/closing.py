"""The end of a copy: names made durable, the manifest written, times put back, the journal closed."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from diadoche.core.errors import writing
from diadoche.core.offload.destination import Destination
from diadoche.core.offload.manifest_words import LESS_THAN_WHOLE, NOT_WHOLE
from diadoche.core.offload.manifest_writing import ManifestRequest, carry_history, write_manifest
from diadoche.core.offload.plan import OffloadPlan
from diadoche.core.open_folder import OpenFolder


def close_copy(
    destination: Destination, plan: OffloadPlan, whole: bool, version: str, now: datetime, *, remark: str
) -> Path:
    """Writes the manifest of what is proven, and closes the journal of a whole copy; called where it may hang.

    Raises:
        TargetError: it cannot be written, or the disk is gone.
    """
    destination.folder.check_there()
    destination.note_read_back()
    destination.folder.sync(destination.proven.values())
    with writing(destination.root):
        if plan.history is not None:
            with destination.calls, OpenFolder.at(plan.history) as source:
                carry_history(source, destination.folder.held)
        request = _request(destination, plan, whole, version, now, remark)
        manifest = write_manifest(destination.folder.held, request, destination.calls)
        with destination.calls:
            _restore_folder_times(destination, plan)
    # The disk may have gone away meanwhile, and the manifest landed on another: asked before anything is promised.
    destination.folder.check_there()
    with writing(destination.root), destination.calls:
        # Last of all: until here the copy says of itself that it is not whole.
        destination.journal.close(whole=whole)
    return manifest


def _request(
    destination: Destination, plan: OffloadPlan, whole: bool, version: str, now: datetime, remark: str
) -> ManifestRequest:
    missing = len(plan.files) - len(destination.proven)
    comments = [
        "" if whole else f"{NOT_WHOLE}: {missing} of {len(plan.files)} files are not in it.",
        "Folders of the card could not be listed." if plan.unlisted else "",
        remark,
        "" if plan.whole else LESS_THAN_WHOLE,
        f"It was {destination.read_back.value}.",
    ]
    return ManifestRequest(
        files=tuple(sorted(destination.proven.values(), key=lambda file: os.fsencode(file.kept_as))),
        folders=tuple(replace(each, path=destination.target.kept_as(each.path)) for each in plan.folders),
        changed_ns={file.path: file.changed_ns for file in plan.files},
        digests=plan.digests[:1] if plan.promised else plan.digests,
        version=version,
        now=now,
        identity=destination.journal.identity,
        whole=whole,
        asked_for_all=plan.whole,
        comment=" ".join(filter(None, comments)),
    )


def _restore_folder_times(destination: Destination, plan: OffloadPlan) -> None:
    for folder in reversed(plan.folders):
        try:
            destination.folder.held.set_time(destination.target.kept_as(folder.path), folder.changed_ns)
        except OverflowError:
            # A time that this system cannot write: the manifest has the listing's.
            continue
        except OSError:
            destination.keeps_times = False
