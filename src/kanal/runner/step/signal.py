"""How a step is asked to stop."""

from __future__ import annotations

import threading

from kanal.connections.reading import Breaker
from kanal.runner.messages import Stopped


class StopSignal:
    """Stops a step from another thread. `reading` and `writing` cancel the statements that are running."""

    def __init__(self) -> None:
        self.reading = Breaker()
        self.writing = Breaker()
        self._set = threading.Event()

    def stop(self) -> None:
        """Ask the step to end, and cancel its statements."""
        self._set.set()
        self.reading()
        self.writing()

    def check(self) -> None:
        """Raise Stopped if the step was asked to end."""
        if self._set.is_set():
            raise Stopped

    def stop_reading(self, error: type[BaseException] | None, *_: object) -> None:
        """Cancel reading if the load has failed, since it could go on for a long time. Use it with ExitStack.push."""
        if error is not None:
            self.reading()
