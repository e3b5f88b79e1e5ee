"""A stream to print to, which never raises. It imports little, so that help is quick."""

from __future__ import annotations

import io
import os
from collections.abc import Callable
from contextlib import suppress
from typing import Any


class Guarded(io.TextIOBase):
    """A stream to print to that never raises: what was done counts, not what could be printed of it.

    Characters that it cannot hold are replaced; once it is closed or full, the rest is dropped.
    """

    def __init__(self, stream: Any) -> None:
        self.stream = stream
        #: Why nothing more can be printed; None if nobody listens any more, which is nobody's fault.
        self.failure: OSError | None = None
        self._open = True
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """The encoding of what is printed."""
        return str(getattr(self.stream, "encoding", None) or "utf-8")

    def isatty(self) -> bool:
        """True for a terminal."""
        return bool(self.stream.isatty())

    def fileno(self) -> int:
        """The number of the file behind it."""
        return int(self.stream.fileno())

    def writable(self) -> bool:
        """It takes text."""
        return True

    def write(self, text: str) -> int:
        """Print a text, as far as that is possible; outside of terminals, lines have no blanks at their ends."""
        printed = text if self.isatty() else _without_blanks(text)
        self._try(lambda: self.stream.write(printed))
        return len(text)

    def flush(self) -> None:
        """Hand on what is printed so far."""
        self._try(self.stream.flush)

    def _try(self, act: Callable[[], object]) -> None:
        if not self._open:
            return
        try:
            act()
        except UnicodeEncodeError:
            pass
        except (OSError, ValueError) as error:
            self._open = False
            if isinstance(error, OSError) and not isinstance(error, BrokenPipeError):
                self.failure = error
            self._drop()

    def _drop(self) -> None:
        """Lead what still waits to be printed to nowhere, so that the end of the process does not stumble on it."""
        with suppress(OSError, ValueError):
            nowhere = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nowhere, self.stream.fileno())
            os.close(nowhere)


def _without_blanks(text: str) -> str:
    """A text without the blanks at the ends of its lines; the last one is a line once it has ended."""
    *lines, rest = text.split("\n")
    return "".join(line.rstrip(" ") + "\n" for line in lines) + rest
