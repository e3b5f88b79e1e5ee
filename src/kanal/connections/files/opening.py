"""Opens files for reading: finds those of a pattern, unpacks them by their ending, and tells when one changes."""

from __future__ import annotations

import bz2
import contextlib
import datetime as dt
import gzip
import lzma
import re
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, cast

from kanal.core.errors import KanalError

#: By ending, how a packed file is unpacked.
_UNPACKING: dict[str, Callable[[Path], Any]] = {".gz": gzip.open, ".bz2": bz2.open, ".xz": lzma.open}
_BRACES = re.compile(r"\{([^{}]*)\}")


@dataclass(frozen=True)
class FoundFile:
    """A file: its name in the folder, its path, its size in bytes and when it was last modified (UTC)."""

    name: str
    path: Path
    size: int
    modified: dt.datetime

    @property
    def ending(self) -> str:
        """What says the format: the last part of the name, without that of a packed file."""
        suffixes = [suffix.casefold() for suffix in self.path.suffixes]
        suffixes = suffixes[:-1] if suffixes and suffixes[-1] in _UNPACKING else suffixes
        return suffixes[-1] if suffixes else ""

    @contextlib.contextmanager
    def opened(self) -> Iterator[IO[bytes]]:
        """Its content, unpacked; raises KanalError where it cannot be read, is damaged, or has changed meanwhile."""
        unpack = _UNPACKING.get(self.path.suffix.casefold())
        try:
            with cast("IO[bytes]", unpack(self.path) if unpack is not None else self.path.open("rb")) as stream:
                yield stream
        except (EOFError, gzip.BadGzipFile, zlib.error, lzma.LZMAError) as error:
            raise KanalError(f"{self.name} is damaged, or not complete: {error}", "have it sent again") from None
        except OSError as error:
            why = error.strerror or str(error)
            raise KanalError(f"{self.name} cannot be read: {why}", "correct that, or have it sent again") from None
        self.check_unchanged()

    def check_unchanged(self) -> None:
        """Raise KanalError where the file is not what it was when it was found."""
        try:
            now = found_file(self.path, self.name)
        except OSError:
            now = None
        if now != self:
            raise KanalError(f"{self.name} has changed while it was read", "run it again once the file is complete")


def found_file(path: Path, name: str) -> FoundFile:
    """A file as it is now; raises OSError."""
    stat = path.stat()
    return FoundFile(name, path, stat.st_size, dt.datetime.fromtimestamp(stat.st_mtime, dt.UTC))


def files_of(folder: Path, pattern: str) -> list[FoundFile]:
    """The files of a folder that fit a pattern, by their names; hidden ones are left out.

    In a pattern, * is any text without a /, ** any folders, ? any character, {a,b} one of several texts.
    """
    found: dict[str, FoundFile] = {}
    for one in _without_braces(pattern):
        for path in folder.glob(one):
            name = path.relative_to(folder).as_posix()
            if path.is_file() and not any(part.startswith(".") for part in name.split("/")):
                found[name] = found_file(path, name)
    return [found[name] for name in sorted(found)]


def _without_braces(pattern: str) -> list[str]:
    braces = _BRACES.search(pattern)
    if braces is None:
        return [pattern]
    before, after = pattern[: braces.start()], pattern[braces.end() :]
    return [whole for part in braces[1].split(",") for whole in _without_braces(before + part + after)]
