"""The recipes that a check is made for: one of each kind in the usual run, all of them in the long one."""

from __future__ import annotations

import pytest

from diadoche.core.convert.recipes import recipes

# Another rate of the same encoder, or the same in another container, goes the same way.
_LIKE_OTHERS = {
    "prores-422-proxy", "prores-422-lt", "prores-422-hq", "vc3-lb", "vc3-sq", "vc3-hqx", "vc3-hq-mxf", "review-h264",
}  # fmt: skip
EVERY_RECIPE = [
    pytest.param(name, marks=pytest.mark.long) if name in _LIKE_OTHERS else name for name in sorted(recipes())
]
