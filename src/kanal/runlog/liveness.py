"""Tells whether the process of a run still lives: by asking this machine, or by the sign it gives every few seconds."""

from __future__ import annotations

import datetime as dt
import os
import socket
from pathlib import Path

#: A run gives a sign so often, in seconds.
SIGN_EVERY = 5.0
#: A run on another machine that has given none for so long is taken for dead.
SILENT = dt.timedelta(seconds=120)


def born(process: int) -> str:
    """When a process of this machine began, in the machine's own count; empty where that cannot be told."""
    try:
        text = Path(f"/proc/{process}/stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    # The name, in parentheses, may have blanks; the start is the 22nd field of all.
    return text.rpartition(")")[2].split()[19]


def lives(host: str | None, process: int | None, began: str | None, sign: dt.datetime | None, now: dt.datetime) -> bool:
    """True for a run whose process lives, as far as can be told from here."""
    if host == socket.gethostname() and process is not None:
        try:
            os.kill(process, 0)
        except ProcessLookupError:
            return False
        except PermissionError:
            pass
        return not began or born(process) == began
    return sign is not None and now - sign < SILENT
