"""Reads a workbook as a trial in a process of its own, since the reading library ends the process if memory is short.

Cells that are far apart make a sheet large, however few they are: the library holds the rectangle around all of them.
"""

from __future__ import annotations

import importlib
import io
import re
import subprocess
import sys
import zipfile
from typing import Any

#: Unpacked bytes below which a part of a workbook has fewer than a hundred thousand rows, or is tried.
_SMALL = 10_000_000
#: An address of a cell right of column DO, or in a row of so many digits.
_FAR = rb' r="(?:(?:[A-Za-z]{3,}|[E-Ze-z][A-Za-z]|[Dd][P-Zp-z])[0-9]|[A-Za-z]{0,2}[0-9]{%d})'
_FAR_IN_SMALL, _FAR_IN_LARGE = re.compile(_FAR % 6), re.compile(_FAR % 7)
#: A cell is written with its address first, as every usual program does it; and never so.
_CELL, _WITH_ADDRESS = b"<c ", b'<c r="'
_UNUSUAL = re.compile(rb"<c[>/\t\r\n]"), re.compile(rb":c[>/ \t\r\n]")
#: How an .xls file begins, which is a compound file.
_XLS = b"\xd0\xcf\x11\xe0"
#: Rows that a sheet has at most.
_ROWS = 1_048_576
#: Bytes of memory that the trial needs besides the workbook, and seconds that it may take.
_BESIDES, _SECONDS = 500_000_000, 300.0
#: How the process ends if the workbook can be read, if it cannot, and if the memory does not suffice.
_READ, _UNREADABLE, _TOO_LARGE = 0, 3, 4


def is_doubtful(content: bytes) -> bool:
    """True unless the rectangle around the cells of each sheet of an .xlsx or .xlsm file is known to be small enough.

    That is at most 12 million cells in a part that unpacks to less than 10 MB, and 119 million in a larger one. Of any
    other workbook it is not known. Raises zipfile.BadZipFile, and what else reading a damaged archive raises.
    """
    if content.startswith(_XLS):  # which has 65,536 rows of 256 columns at most
        return False
    if not zipfile.is_zipfile(io.BytesIO(content)):
        return True
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        if "xl/workbook.xml" not in archive.namelist():
            return True
        return any(_is_far(archive.read(info)) for info in archive.infolist())


def _is_far(part: bytes) -> bool:
    far = _FAR_IN_SMALL if len(part) < _SMALL else _FAR_IN_LARGE
    return (
        part.count(_CELL) != part.count(_WITH_ADDRESS)
        or any(tag.search(part) for tag in _UNUSUAL)
        or part.count(b"<row") > _ROWS
        or b"\0" in part[:4]
        or far.search(part) is not None
    )


def fits(content: bytes, sheet: str, most: int) -> bool:
    """True if a sheet can be read within this many bytes of memory, or cannot be read for another reason."""
    command = [sys.executable, "-m", "kanal.connections.files.trial", sheet, str(most + _BESIDES)]
    try:
        done = subprocess.run(command, input=content, capture_output=True, timeout=_SECONDS, check=False)
    except subprocess.TimeoutExpired:
        return False
    return done.returncode in (_READ, _UNREADABLE)


def main(sheet: str, most: int) -> int:
    """Read a workbook from standard input; the exit code."""
    content = sys.stdin.buffer.read()
    calamine: Any = importlib.import_module("python_calamine")
    try:
        resource: Any = importlib.import_module("resource")
    except ImportError:  # a system that sets no limits: the memory of the machine is the limit
        resource = None
    if resource is not None:
        resource.setrlimit(resource.RLIMIT_AS, (most, most))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        calamine.CalamineWorkbook.from_filelike(io.BytesIO(content)).get_sheet_by_name(sheet).to_python(
            skip_empty_area=False
        )
    except MemoryError:
        return _TOO_LARGE
    except Exception:  # which is reported where the workbook is read
        return _UNREADABLE
    return _READ


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2])))
