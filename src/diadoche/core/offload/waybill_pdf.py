"""The waybill for printing: A4, what a person who was not there must know, then clips, then files."""

from __future__ import annotations

import io
from importlib.resources import files
from xml.sax.saxutils import escape

from reportlab.lib.colors import HexColor
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFError, TTFont
from reportlab.platypus import Image, LongTable, Paragraph, SimpleDocTemplate, Spacer, TableStyle
from reportlab.platypus.flowables import Flowable

from diadoche.core.names import shown
from diadoche.core.offload.waybill import STATUS_WORDS, WaybillPage, began_text, remarks, summary, verdict
from diadoche.core.sizes import clock_text, size_text

_INK, _SOFT, _LINE = HexColor("#1D2B2F"), HexColor("#5E6A6B"), HexColor("#D8D1C2")
_PROVEN, _PROBLEM = HexColor("#1E7B68"), HexColor("#B3371F")
# A PDF of a hundred thousand rows helps nobody; the CSV beside it has them all.
_MOST_ROWS = 5000


def waybill_pdf(page: WaybillPage) -> bytes:
    """The page for printing, A4: what a person who was not there must know, then clips, then files."""
    look = _Look()
    story: list[Flowable] = [
        Paragraph(_safe(page.card), look.title),
        Paragraph(_safe(verdict(page.result)), look.proven if page.all_proven else look.problem),
        Paragraph(_safe(summary(page)), look.text),
        Spacer(1, 4 * mm),
        Paragraph("Copies", look.heading),
        _table(look, ["Where", "Disk", "State", "Files read back"], _copy_rows(page), (90, 40, 22, 26)),
    ]
    said = remarks(page)
    if said:
        story += [Paragraph("Remarks", look.heading)]
        story += [Paragraph("• " + _safe(text), look.text) for text in said]
    story += [Paragraph("Clips", look.heading)]
    story += [_table(look, ["", "Name", "Began", "Length", "Size"], _clip_rows(page), (34, 66, 44, 17, 17))]
    story += [Paragraph("Files", look.heading)]
    rows = [
        [_safe(shown(file.path)), f"{file.size_bytes:,}", _safe(next(iter(file.digests.values()), ""))]
        for file in page.result.kept[:_MOST_ROWS]
    ]
    name = page.digests[0] if page.digests else ""
    story += [_table(look, ["Path on the card", "Bytes", name], rows, (84, 24, 70), small=True)]
    if len(page.result.kept) > _MOST_ROWS:
        rest = len(page.result.kept) - _MOST_ROWS
        story += [Paragraph(f"{rest:,} more files stand in the CSV file beside this page.", look.text)]
    out = io.BytesIO()
    document = SimpleDocTemplate(
        out, pagesize=A4, leftMargin=16 * mm, rightMargin=16 * mm, topMargin=16 * mm, bottomMargin=18 * mm,
        title=f"Waybill: {page.card}, {page.shoot}", author="Diadoche", invariant=1,
    )  # fmt: skip
    foot = f"{page.shoot} · {page.card} · written by Diadoche {page.version}, which only read the card"
    document.build(story, onFirstPage=_foot(look, foot), onLaterPages=_foot(look, foot))
    return out.getvalue()


def _copy_rows(page: WaybillPage) -> list[list[str | Flowable]]:
    return [
        [
            _safe(shown(copy.root)),
            _safe(copy.disk_words or "not known"),
            STATUS_WORDS[copy.status] + (f"; {copy.read_back.value}" if copy.manifest else ""),
            f"{copy.files_verified:,}",
        ]
        for copy in page.result.copies
    ]


def _clip_rows(page: WaybillPage) -> list[list[str | Flowable]]:
    rows: list[list[str | Flowable]] = []
    for clip in page.clips[:_MOST_ROWS]:
        picture = page.thumbnails.get(clip.name)
        length = clock_text(clip.duration_s) if clip.duration_s is not None else "not known"
        rows.append(
            [
                _picture(picture) if picture else "",
                _safe(shown(clip.name)),
                began_text(clip),
                length,
                size_text(clip.size_bytes),
            ]
        )
    return rows


def _picture(data: bytes) -> Flowable:
    made = Image(io.BytesIO(data))
    scale = min(30 * mm / made.imageWidth, 18 * mm / made.imageHeight)
    made.drawWidth, made.drawHeight = made.imageWidth * scale, made.imageHeight * scale
    return made


def _safe(text: str) -> str:
    return escape(text.encode("utf-8", "backslashreplace").decode("utf-8"))


class _Look:
    """Typeface and styles; the typeface that comes with the application where the reader's own may lack it."""

    def __init__(self) -> None:
        self.face, self.bold = _faces()
        self.text = ParagraphStyle("text", fontName=self.face, fontSize=9.5, leading=13, textColor=_INK)
        self.cell = ParagraphStyle("cell", self.text, fontSize=8, leading=10, wordWrap="CJK")
        self.small = ParagraphStyle("small", self.cell, fontSize=6.5, leading=8)
        self.head = ParagraphStyle("head", self.cell, textColor=_SOFT)
        self.title = ParagraphStyle("title", self.text, fontName=self.bold, fontSize=18, leading=22)
        self.heading = ParagraphStyle(
            "heading", self.text, fontName=self.bold, fontSize=11, spaceBefore=5 * mm, spaceAfter=1.5 * mm
        )
        self.proven = ParagraphStyle(
            "proven", self.text, fontName=self.bold, fontSize=13, leading=18, textColor=_PROVEN
        )
        self.problem = ParagraphStyle("problem", self.proven, textColor=_PROBLEM)


def _faces() -> tuple[str, str]:
    folder = files("diadoche").joinpath("fonts")
    names = []
    for name, file in (("Page", "Next_400Regular"), ("PageBold", "Next_700Bold")):
        found = [each for each in folder.iterdir() if each.name.endswith(f"{file}.ttf")]
        try:
            pdfmetrics.registerFont(TTFont(name, io.BytesIO(found[0].read_bytes())))
            names.append(name)
        except (IndexError, TTFError):
            return "Helvetica", "Helvetica-Bold"
    return names[0], names[1]


def _table(
    look: _Look, heads: list[str], rows: list[list[str | Flowable]], widths_mm: tuple[int, ...], *, small: bool = False
) -> Flowable:
    style = look.small if small else look.cell
    cells = [[Paragraph(_safe(text), look.head) for text in heads]]
    cells += [[Paragraph(cell, style) if isinstance(cell, str) else cell for cell in row] for row in rows]
    made = LongTable(cells, colWidths=[width * mm for width in widths_mm], repeatRows=1, hAlign="LEFT")
    made.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, _LINE),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
            ]
        )
    )
    return made


def _foot(look: _Look, text: str) -> object:
    def paint(canvas: object, document: object) -> None:
        canvas.setFont(look.face, 7.5)  # type: ignore[attr-defined]
        canvas.setFillColor(_SOFT)  # type: ignore[attr-defined]
        canvas.drawString(16 * mm, 10 * mm, text[:130])  # type: ignore[attr-defined]
        canvas.drawRightString(A4[0] - 16 * mm, 10 * mm, f"page {document.page}")  # type: ignore[attr-defined]

    return paint
