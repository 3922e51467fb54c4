"""How the media library calls the layouts of sound channels, and what such a name tells."""

from __future__ import annotations


def lists_channels(layout: str) -> bool:
    """Whether a layout, by the media library's name, tells each channel by itself: "3 channels (FR+FL+TC)"."""
    return " channels (" in layout


def names_places(layout: str) -> bool:
    """Whether a layout is of places that have a name together, as "5.1": no list, no number alone, no directions."""
    return layout in {"1 channels", "2 channels"} or not (" channels" in layout or is_ambisonic(layout))


def is_ambisonic(layout: str) -> bool:
    """Whether channels stand for directions: "ambisonic 1"."""
    return layout.startswith("ambisonic")


def unnamed_layout(layout: str) -> str:
    """The library's name for so many channels in their order, where a layout lists them; any other layout stays."""
    return layout.partition(" ")[0] + "C" if lists_channels(layout) else layout
