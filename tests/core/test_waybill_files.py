"""The waybill as CSV, JSON and PDF: what they say is what was done."""

from __future__ import annotations

import csv
import io
import json
import shutil
import subprocess
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from diadoche.core.cards.card import look
from diadoche.core.cards.clips import Clip
from diadoche.core.cards.groups import groups_of
from diadoche.core.cards.layout import load_layouts
from diadoche.core.errors import Problem
from diadoche.core.footage.trial import try_clip
from diadoche.core.offload.copies import Copy, CopyState, ReadBack
from diadoche.core.offload.offload import KeptFile, OffloadResult
from diadoche.core.offload.waybill import WaybillPage
from diadoche.core.offload.waybill_files import waybill_csv, waybill_json
from diadoche.core.offload.waybill_pdf import waybill_pdf
from diadoche.core.watch import Watch

START = datetime(2026, 6, 14, 9, 0, tzinfo=UTC)


def clip(name: str, start: datetime | None, seconds: float = 60, path: str = "") -> Clip:
    return Clip(name, (path or f"{name}.MOV",), (), 1000, seconds, start)


def page(drone: Path, *, proven: bool = True) -> WaybillPage:
    card = look(drone, load_layouts(None), Watch())
    kept = tuple(
        KeptFile(file.path, file.size_bytes, {"xxh128": f"{number:032x}"})
        for number, file in enumerate(card.tree.files)
    )
    kept = (
        *kept,
        KeptFile("=HYPERLINK(evil).MOV", 1, {"xxh128": "0" * 32}),
        KeptFile("bad\udcff<b>", 2, {"xxh128": "f" * 32}),
    )
    copies = (
        Copy(
            "/media/a",
            "/media/a/Rock/card-001",
            "m.mhl",
            len(kept),
            1,
            CopyState.PROVEN,
            ReadBack.DISK,
            "disk:a",
            "the disk A",
        ),
        Copy(
            "/media/b",
            "/media/b/Rock/card-001",
            "m.mhl",
            1,
            1,
            CopyState.PROVEN if proven else CopyState.INCOMPLETE,
            ReadBack.NETWORK,
            "disk:b",
            "the disk B",
        ),
    )
    problems = () if proven else (Problem("DRON0002.MP4 cannot be read: it broke.", "x", "All else.", "Do."),)
    skipped = (Problem("Thumbs.db: litter of an operating system.", "Thumbs.db", "Left.", "Nothing."),)
    result = OffloadResult(
        str(drone), len(kept), 4_100_000, 2.0, START, copies, kept, proven, False, skipped,
        (("A.MOV", "a (2).mov"),), problems,
    )  # fmt: skip
    thumbnail = try_clip([drone / card.clips[0].spans[0]]).thumbnail
    return WaybillPage(
        "Tern Rock", "Drone <&> 1", card.title, card.clips, len(card.stills), (), result, ("xxh128",), "test",
        thumbnails={card.clips[0].name: thumbnail}, tried=3,
    )  # fmt: skip


def test_the_csv_has_a_line_for_each_file_and_no_formula(drone: Path) -> None:
    made = page(drone)
    rows = list(csv.reader(io.StringIO(waybill_csv(made).decode("utf-8"))))
    assert rows[0][:3] == ["path", "bytes", "xxh128"]
    assert len(rows) == 1 + len(made.result.kept)
    assert rows[-2][0] == "'=HYPERLINK(evil).MOV"
    assert "\udcff" not in rows[-1][0]
    assert {len(row) for row in rows} == {5}


def test_the_json_is_the_whole_record(drone: Path) -> None:
    made = page(drone, proven=False)
    told = json.loads(waybill_json(made))
    assert (told["shoot"], told["card"], told["whole"], told["tried"]) == ("Tern Rock", "Drone <&> 1", False, 3)
    assert [copy["status"] for copy in told["copies"]] == ["proven", "incomplete"]
    assert told["problems"][0]["what"].startswith("DRON0002.MP4")
    assert told["renamed"] == [{"path": "A.MOV", "kept_as": "a (2).mov"}]
    assert len(told["kept"]) == len(made.result.kept)
    assert told["left_out"][0]["path"] == "Thumbs.db"


@pytest.mark.parametrize("proven", [True, False])
def test_the_pdf_reads_well_without_its_author(drone: Path, tmp_path: Path, proven: bool) -> None:
    """Read back by poppler's pdftotext, a public tool."""
    made = page(drone, proven=proven)
    data = waybill_pdf(made)
    assert data.startswith(b"%PDF-")
    assert waybill_pdf(made) == data
    if shutil.which("pdftotext") is None:
        pytest.skip("pdftotext is not installed")
    (tmp_path / "w.pdf").write_bytes(data)
    done = subprocess.run(
        ["pdftotext", "-layout", str(tmp_path / "w.pdf"), "-"], capture_output=True, text=True, check=True
    )
    text = done.stdout
    verdict = "Both copies are proven" if proven else "1 of 2 copies are proven"
    assert verdict in text
    for words in ("Drone <&> 1", "the disk A", "the disk B", "DRON0001", "Tern Rock", "Thumbs.db", "page 1"):
        assert words in text, words
    assert ("DRON0002.MP4 cannot be read" in text) is not proven


def test_a_clip_is_tried_from_the_copy(drone: Path, camcorder: Path, tmp_path: Path) -> None:
    good = try_clip([drone / "DCIM/100DRONE/DRON0001.MP4"])
    assert good.problem is None
    assert good.thumbnail.startswith(b"\xff\xd8")
    spans = [camcorder / f"PRIVATE/AVCHD/BDMV/STREAM/{name}.MTS" for name in ("00000", "00001")]
    assert try_clip(spans).problem is None
    whole = spans[0].read_bytes()
    for cut in (0, 100, len(whole) // 50):
        short = tmp_path / f"{cut}.MTS"
        short.write_bytes(whole[:cut])
        problem = try_clip([short]).problem
        assert problem is not None
        assert short.name in problem.what
    assert try_clip([tmp_path / "gone.MP4"]).problem is not None


def test_clips_fall_into_groups_by_day_and_by_gap() -> None:
    morning = [clip(f"C{number}", START + timedelta(minutes=10 * number)) for number in range(3)]
    evening = [clip(f"E{number}", START + timedelta(hours=9, minutes=number)) for number in range(2)]
    next_day = [clip("N", START + timedelta(days=1))]
    timeless = [clip("T", None)]
    groups = groups_of([*timeless, *next_day, *evening, *morning])
    assert [[each.name for each in group.clips] for group in groups] == [
        ["C0", "C1", "C2"], ["E0", "E1"], ["N"], ["T"]
    ]  # fmt: skip
    assert groups[0].first == START
    assert groups[-1].first is None


def test_a_long_take_bridges_a_gap_and_midnight_parts() -> None:
    long = clip("LONG", START, 6 * 3600)
    after = clip("AFTER", START + timedelta(hours=7))
    assert len(groups_of([long, after])) == 1
    assert len(groups_of([replace(long, duration_s=None), after])) == 2
    late = [
        clip("L", START.replace(hour=23, minute=50)),
        clip("M", START.replace(hour=23, minute=59) + timedelta(minutes=5)),
    ]
    assert len(groups_of(late)) == 2
    assert groups_of([]) == ()
