"""When what failed is tried again, and after how long."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from kanal.core.errors import passes

if TYPE_CHECKING:
    import tenacity

LONGEST_PAUSE = 60.0


def pause(tries: int, wait: float) -> float:
    """The seconds to wait after this many tries, 1 at least: doubled each time, with some chance added."""
    return min(wait * 2.0 ** min(tries - 1, 30), LONGEST_PAUSE) + random.uniform(0, wait)


def retrying(
    retries: int, wait: float, sleep: Callable[[float], Any], before_sleep: Callable[[Any], None]
) -> tenacity.Retrying:
    """What calls a function, and again up to `retries` times if a trouble passes; its last error is raised."""
    import tenacity

    return tenacity.Retrying(
        retry=tenacity.retry_if_exception(passes),
        stop=tenacity.stop_after_attempt(1 + retries),
        wait=lambda state: pause(state.attempt_number, wait),
        sleep=sleep,
        before_sleep=before_sleep,
        reraise=True,
    )
