"""A scene for each test."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.screens.scene import Scene


@pytest.fixture
def scene(tmp_path: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    # The demo's clips are read once for all tests: how they are read is tested elsewhere.
    made = Scene(tmp_path, tmp_path_factory.getbasetemp() / "known")
    yield made
    made.close()
