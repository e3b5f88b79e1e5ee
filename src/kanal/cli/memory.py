"""Sets how often Python collects unused objects."""

from __future__ import annotations

import gc


def expect_long_work() -> None:
    """Collect garbage now and then, since the start is over and the work may take long."""
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)
