"""The temporary folders of services and their runs: each is locked while its process lives, so that another one can
remove it once that process was killed."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from pathlib import Path
from typing import IO

_PREFIX, _LOCK = "kanal-service-", "lock"


def own_folder() -> tuple[Path, IO[bytes]]:
    """A new folder, and the open file that holds its lock. The folders of killed processes are removed."""
    for path in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        _remove_left(path)
    made = Path(tempfile.mkdtemp(prefix=_PREFIX))
    held = (made / _LOCK).open("wb")
    _lock(held)
    return made, held


def _remove_left(path: Path) -> None:
    """Remove a folder whose process does not live any more."""
    with contextlib.suppress(OSError), (path / _LOCK).open("rb+") as found:
        if os.name == "posix" and found.seek(0) == 0 and path.stat().st_uid == os.getuid():
            _lock(found)
            shutil.rmtree(path, ignore_errors=True)


def _lock(opened: IO[bytes]) -> None:
    """Lock a file while it is open; raises OSError if another process has."""
    try:
        import fcntl
    except ImportError:  # if an open file cannot be removed anyway
        return
    fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
