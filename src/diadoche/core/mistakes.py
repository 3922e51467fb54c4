"""Mistakes in data files that a person wrote, with their line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from diadoche.core.errors import RequestError

Model = TypeVar("Model", bound=BaseModel)
_LARGEST_FILE_BYTES = 1_000_000


def own_text(path: Path, what: str) -> str:
    """The text of a small file that a person may have put there.

    Args:
        path: of the file.
        what: what it is called in words of mistakes.

    Raises:
        RequestError: it is no small file, or cannot be read.
    """
    try:
        # Asked first: a pipe of that name would be waited for for ever.
        if not path.is_file() or path.stat().st_size > _LARGEST_FILE_BYTES:
            raise RequestError(f"{path.name} is no {what}: no file of that kind.", path=path, do="Take it away.")
        return path.read_text("utf-8", "replace")
    except OSError as error:
        raise RequestError(f"{path.name} cannot be read: {error.strerror}.", path=path, do="Take it away.") from error


def read_toml(kind: type[Model], text: str, path: Path, what: str, context: Mapping[str, Any] | None = None) -> Model:
    """A data file that a person may have written.

    Args:
        kind: what it is to be.
        text: of the file.
        path: its name, for the words.
        what: what it is called in them.
        context: for the validators of its kind.

    Raises:
        RequestError: it has a mistake; its line is named.
    """
    try:
        return kind.model_validate(tomllib.loads(text), context=context)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        words = f"{path.name} is no TOML: {error}."
    except ValidationError as error:
        words = f"{path.name}, {mistake_words(error, text)}"
    raise RequestError(f"The {what} has a mistake: {words}", path=path, do="Correct it.")


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
