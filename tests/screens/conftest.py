"""A scene for each test."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.screens.scene import Scene


@pytest.fixture
def scene(tmp_path: Path) -> Iterator[Scene]:
    made = Scene(tmp_path)
    yield made
    made.close()
