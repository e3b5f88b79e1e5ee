"""Ctrl-C and SIGTERM, for one run in the main thread or for several in other threads."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any


class Interruption:
    """Passes an interruption of the main thread on to several runs in other threads."""

    def __init__(self) -> None:
        self._handlers: list[Callable[[], None]] = []
        #: True once it has come.
        self.seen = False

    @contextmanager
    def calls(self, interrupt: Callable[[], None]) -> Iterator[None]:
        """While this lasts, an interruption calls `interrupt`; an earlier one calls it at once."""
        self._handlers.append(interrupt)
        try:
            if self.seen:
                interrupt()
            yield
        finally:
            self._handlers.remove(interrupt)

    def __call__(self) -> None:
        """Interrupt all runs."""
        self.seen = True
        for interrupt in list(self._handlers):
            interrupt()


@contextmanager
def interrupts(interrupt: Callable[[], None]) -> Iterator[None]:
    """While this lasts, Ctrl-C and SIGTERM call `interrupt`; the second one raises KeyboardInterrupt.

    In other threads than the main one, it does nothing.
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    seen: list[int] = []

    def handle(number: int, _: Any) -> None:
        seen.append(number)
        if len(seen) > 1:
            raise KeyboardInterrupt
        interrupt()

    before = {number: signal.signal(number, handle) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
