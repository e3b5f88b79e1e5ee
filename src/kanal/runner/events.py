"""What happens in a run, as records of Python's logging, and as lines of JSON for those who gather such."""

from __future__ import annotations

import datetime as dt
import json
import logging
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

_LOG = logging.getLogger("kanal.runner")


def tell(event: str, level: int = logging.INFO, said: str = "", **fields: Any) -> None:
    """Log an event, in a sentence or else as its fields, without those that are None or 0; all are in the JSON line."""
    if _LOG.isEnabledFor(level):
        said = said or " ".join([event, *(f"{name}={value}" for name, value in fields.items() if value)])
        _LOG.log(level, "%s", said, extra={"kanal_event": {"event": event, **fields}})


class JsonLines(logging.Formatter):
    """One JSON document a record: `time` (UTC), `level`, `logger`, then the event's fields, or `message`."""

    def format(self, record: logging.LogRecord) -> str:
        """The line."""
        time = dt.datetime.fromtimestamp(record.created, dt.UTC).isoformat(timespec="milliseconds")
        line = {"time": time, "level": record.levelname.lower(), "logger": record.name}
        event = getattr(record, "kanal_event", None)
        line |= event if event is not None else {"message": record.getMessage()}
        return json.dumps(line, ensure_ascii=False, default=str)


@contextmanager
def events_to(handler: logging.Handler) -> Iterator[None]:
    """While this lasts, a handler gets all events as lines of JSON; it is closed afterwards."""
    handler.setFormatter(JsonLines())
    logger = logging.getLogger("kanal")
    logger.addHandler(handler)
    logger.setLevel(logging.INFO)
    try:
        yield
    finally:
        logger.removeHandler(handler)
        handler.close()
