"""Text that came from a card, a disk or a file, shown as it is: Qt takes what looks like markup for markup."""

from __future__ import annotations

import html


def plain(text: str) -> str:
    """A text for a place that guesses whether it is markup, as tooltips do: it is never taken for any."""
    # Nothing else makes Qt guess so (Qt::mightBeRichText).
    if "<" not in text and "&lt;" not in text:
        return text
    return f"<qt>{html.escape(text)}</qt>".replace("\n", "<br>")
