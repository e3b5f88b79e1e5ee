"""When a connection that was kept is tried before it is used again."""

from __future__ import annotations


class _Kept:
    """Seconds after which it may have been cut off, since it was last used."""

    seconds = 2.0


def long_ago() -> float:
    """So many seconds ago, it may have been cut off since."""
    return _Kept.seconds


def try_each_time() -> None:
    """Have all tried before they are used: of tasks that are handed out, one ends the session of another."""
    _Kept.seconds = 0.0
