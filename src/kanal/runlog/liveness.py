"""Tells whether the process of a run still lives: by asking this machine, or by the sign it gives every few seconds."""

from __future__ import annotations

import datetime as dt
import os
import socket
from contextlib import suppress
from pathlib import Path

#: A run gives a sign so often, in seconds.
SIGN_EVERY = 5.0
#: A run on another machine that has given none for so long is taken for dead.
SILENT = dt.timedelta(seconds=120)


def here() -> str:
    """What tells this machine, and within it this space of process numbers, from others of the same name."""
    found = ""
    with suppress(OSError):
        found = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="utf-8").strip()
    with suppress(OSError):
        found += " " + os.readlink("/proc/self/ns/pid")  # noqa: PTH115 - it leads to no path
    return found


def born(process: int) -> str:
    """When a process began, by its machine's count, and on which; empty if it has ended or nobody can tell."""
    try:
        text = Path(f"/proc/{process}/stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    # The name, in parentheses, may have blanks; the state is the 3rd field of all, the start the 22nd.
    fields = text.rpartition(")")[2].split()
    return "" if fields[0] in "ZXx" else f"{fields[19]} {here()}"


def lives(host: str | None, process: int | None, began: str | None, sign: dt.datetime | None, now: dt.datetime) -> bool:
    """True for a run whose process lives, as far as it is known from here."""
    same_name = host == socket.gethostname() and process is not None
    start, _, machine = (began or "").partition(" ")
    if same_name and process is not None and (machine == here() or not machine):
        try:
            os.kill(process, 0)
        except ProcessLookupError:
            return False
        except PermissionError:
            pass
        return not start or born(process).partition(" ")[0] == start
    # On another machine, or in another container of this one, only its sign tells.
    return sign is not None and now - sign < SILENT
