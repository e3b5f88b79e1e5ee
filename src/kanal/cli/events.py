"""Writes the events of runs to a file, for --events."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from kanal.cli.log import private
from kanal.core.errors import KanalError
from kanal.runner.events import events_to


class _Events(logging.FileHandler):
    """Appends events to a file. If that fails, as on a full disk, it reports this once, and the run continues."""

    _failed = False

    def handleError(self, record: logging.LogRecord) -> None:  # noqa: N802 - logging's own name
        del record
        if not self._failed:
            self._failed = True
            error = sys.exc_info()[1]
            why = getattr(error, "strerror", None) or error
            print(f"kanal: events cannot be written to {self.baseFilename}: {why}; the run continues.", file=sys.stderr)

    def close(self) -> None:
        with suppress(OSError):
            super().close()


@contextmanager
def writing_events(path: Path | None) -> Iterator[None]:
    """While this lasts, events are appended to a file as lines of JSON; `-` is standard error."""
    if path is None:
        yield
        return
    try:
        to_stderr = str(path) == "-"
        if not to_stderr:
            os.close(private(str(path), os.O_CREAT | os.O_WRONLY))
        handler = logging.StreamHandler() if to_stderr else _Events(path, encoding="utf-8")
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file for --events") from None
    with events_to(handler):
        yield
