"""Mistakes in data files that a person wrote, with their line."""

from __future__ import annotations

import re

from pydantic import ValidationError


def mistake_words(error: ValidationError, text: str) -> str:
    """The first mistake with its line: that of the key, or of the text where a key is missing."""
    # A key that was mistyped is missing too; what was typed is what can be found.
    first = min(error.errors(), key=lambda each: each["type"] == "missing")
    keys = [str(part) for part in first["loc"] if isinstance(part, str)]
    key = keys[-1] if keys else ""
    lines = [
        number for number, line in enumerate(text.splitlines(), start=1) if re.match(rf"\s*\W*{re.escape(key)}\b", line)
    ]
    words = {"missing": f"the key {key!r} is missing", "extra_forbidden": f"there is no key called {key!r}"}.get(
        first["type"], f"{key!r}: {first['msg'].removeprefix('Value error, ')}"
    )
    return f"line {lines[0]}: {words}." if lines and first["type"] != "missing" else f"{words}."
