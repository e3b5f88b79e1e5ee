"""Tells whether two spellings name one server or one file."""

from __future__ import annotations

import socket
from collections.abc import Hashable
from functools import lru_cache
from pathlib import Path


@lru_cache(maxsize=256)
def host_identity(host: str | None) -> str:
    """A host by its address, so that its names are one; as it is written if it has none."""
    if not host or host.startswith("/") or host in ("localhost", "::1"):
        return "127.0.0.1"
    try:
        return str(sorted(socket.getaddrinfo(host, None))[0][4][0])
    except OSError:
        return host.casefold()


def file_identity(path: Path) -> Hashable:
    """A file by its number on its disk, so that links to it are one; by its whole path if it is not there yet."""
    try:
        found = path.stat()
    except OSError:
        return str(path.resolve())
    return found.st_dev, found.st_ino
