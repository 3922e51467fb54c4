"""The waybill of an offload as one HTML page that stands by itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from jinja2 import Environment, PackageLoader, StrictUndefined, select_autoescape

from diadoche.core.cards.clips import Clip
from diadoche.core.names import shown
from diadoche.core.offload.offload import OffloadResult
from diadoche.core.sizes import clock_text, size_text

_STATUS_WORDS = {"proven": "proven", "incomplete": "not whole", "failed": "failed"}


@dataclass(frozen=True, slots=True)
class WaybillPage:
    """What a waybill tells."""

    shoot: str
    card: str
    layout: str
    clips: Sequence[Clip]
    stills: int
    card_problems: Sequence[str]
    result: OffloadResult
    digests: tuple[str, ...]
    version: str


def waybill_html(page: WaybillPage) -> str:
    """The page. Every text from outside is escaped."""
    environment = Environment(
        loader=PackageLoader("diadoche.core.offload"), autoescape=select_autoescape(), undefined=StrictUndefined
    )
    environment.filters |= {"size": size_text, "clock": clock_text, "shown": shown}
    proven = page.result.proven_copies
    return environment.get_template("waybill.html").render(
        page=page,
        result=page.result,
        proven=proven,
        verdict=_verdict(page.result),
        status_words=_STATUS_WORDS,
        passed_cache=all(copy.passed_cache for copy in page.result.copies if copy.manifest),
    )


def _verdict(result: OffloadResult) -> str:
    wanted = len(result.copies)
    if result.stopped:
        return "Stopped before the end: no copy of this run is whole."
    if result.proven_copies == wanted:
        return f"All {wanted} copies are proven." if wanted > 1 else "The copy is proven."
    return f"{result.proven_copies} of {wanted} copies are proven."


def waybill_place(place: Path, shoot_folder: Path, root: Path) -> Path:
    """Where the page lies: beside the originals of the shoot, named after day, camera and card."""
    day, camera, card = root.parts[-3:]
    return place / shoot_folder.parts[0] / "Waybills" / f"{day} {camera} {card}.html"
