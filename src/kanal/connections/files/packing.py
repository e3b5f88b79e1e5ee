"""Unpacks files by their endings, and stops if one unpacks to more than it may."""

from __future__ import annotations

import bz2
import contextlib
import gzip
import io
import lzma
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import PurePosixPath
from typing import IO, Any, cast

import pyarrow as pa

from kanal.connections.files.stores import FoundFile
from kanal.core.errors import KanalError, listed


def _unzipped(stream: IO[bytes], name: str) -> IO[bytes]:
    """The one file of an archive."""
    archive = zipfile.ZipFile(stream)
    inside = [info for info in archive.infolist() if not info.is_dir()]
    if len(inside) != 1:
        names = f": {listed([info.filename for info in inside[:5]])}" if inside else ""
        raise KanalError(f"{name} holds {len(inside)} files{names}", "give archives one file each, or unpack it")
    if inside[0].flag_bits & 1:
        raise KanalError(f"{name} is encrypted", "unpack it, or have it sent without a password")
    return archive.open(inside[0])


#: By ending, how a packed file is unpacked.
_UNPACKING: dict[str, Callable[[IO[bytes], str], Any]] = {
    ".gz": lambda stream, _: gzip.GzipFile(fileobj=stream),
    ".bz2": lambda stream, _: bz2.BZ2File(stream),
    ".xz": lambda stream, _: lzma.LZMAFile(stream),  # noqa: SIM115
    ".zst": lambda stream, _: pa.CompressedInputStream(pa.PythonFile(stream, "r"), "zstd"),
    ".zip": _unzipped,
}
#: So many bytes may any file unpack to, and this many times its size, if the job does not state it.
_HARMLESS, _RATIO = 20_000_000, 200


def endings_of(name: str) -> tuple[str, str]:
    """What says how a file of a name is packed, if it is, and what says its format, such as .gz and .csv."""
    endings = [suffix.casefold() for suffix in PurePosixPath(name).suffixes]
    packing = endings.pop() if endings and endings[-1] in _UNPACKING else ""
    return packing, endings[-1] if endings else ""


def ending_of(file: FoundFile) -> str:
    """The ending that determines the format of a file. For an archive such as tolls.zip, the file in it counts.

    Raises KanalError if the archive is damaged, or has more or less than one file.
    """
    packing, ending = endings_of(file.name)
    if packing != ".zip" or ending:
        return ending
    with telling(file), file.open() as stored, _unzipped(stored, file.name) as inside:
        return endings_of(inside.name)[1]


@contextlib.contextmanager
def unpacked(file: FoundFile, most: int | None = None) -> Iterator[IO[bytes]]:
    """The content of a file, unpacked if it is packed; raises KanalError if it cannot be read, is damaged, unpacks
    to more bytes than it may, or has changed meanwhile."""
    unpack = _UNPACKING.get(endings_of(file.name)[0])
    with telling(file), file.open() as stored:
        if unpack is None:
            yield stored
        else:
            with cast("IO[bytes]", unpack(stored, file.name)) as stream:
                yield cast("IO[bytes]", io.BufferedReader(_Limited(stream, file, most), 1 << 20))
    file.check_unchanged()


@contextlib.contextmanager
def telling(file: FoundFile) -> Iterator[None]:
    """Says of what goes wrong while a file is read which file it is and what to do; raises KanalError."""
    try:
        yield
    except UnicodeDecodeError:
        raise KanalError(f"{file.name} is damaged: it has texts that are none", "have it sent again") from None
    except (EOFError, gzip.BadGzipFile, zlib.error, lzma.LZMAError, zipfile.BadZipFile, NotImplementedError) as error:
        raise KanalError(f"{file.name} is damaged, or not complete: {error}", "have it sent again") from None
    except (pa.ArrowException, OSError) as error:
        said = getattr(error, "strerror", None) or " ".join(str(error).split())[:200]
        if "Truncated" in said or "decompress" in said:
            raise KanalError(f"{file.name} is damaged, or not complete: {said}", "have it sent again") from None
        raise KanalError(
            f"{file.name} cannot be read: {said}", "correct that or its ending, or have it sent again"
        ) from None


class _Limited(io.RawIOBase):
    """A stream that is unpacked, up to this many bytes."""

    def __init__(self, stream: IO[bytes], file: FoundFile, most: int | None) -> None:
        self._stream = stream
        self._file = file
        self._most = max(_HARMLESS, file.size * _RATIO) if most is None else most
        self._bytes = 0

    def readable(self) -> bool:
        return True

    def readinto(self, room: Any) -> int:
        found = self._stream.read(len(room))
        self._bytes += len(found)
        if self._bytes > self._most:
            raise KanalError(
                f"{self._file.name} has {self._file.size:,} bytes and unpacks to more than {self._most:,}",
                "see whether it is what it should be; if it is, unpack it first, or allow more by unpacked_bytes",
            )
        room[: len(found)] = found
        return len(found)
