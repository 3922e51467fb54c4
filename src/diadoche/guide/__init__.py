"""The user guide: one text for docs/, and for the window's own help."""

from __future__ import annotations

import re
from pathlib import Path

GUIDE = Path(__file__).with_name("guide.md")
_PICTURE = re.compile(r"^!\[[^\]]*\]\([^)]*\)\n\n?", re.MULTILINE)


def guide_text() -> str:
    """The guide in Markdown, without its pictures: the window is itself what they show."""
    return _PICTURE.sub("", GUIDE.read_text("utf-8"))
