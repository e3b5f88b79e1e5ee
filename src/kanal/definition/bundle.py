"""Packs a job with all its texts into one file with checksums, and reads such a file."""

from __future__ import annotations

import atexit
import hashlib
import json
import lzma
import os
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterable
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from kanal.core.errors import KanalError
from kanal.definition.problems import JobError, Problem
from kanal.version import VERSION

if TYPE_CHECKING:
    from kanal.definition.models import JobDefinition

#: How the name of a bundle ends.
ENDING = ".kanal.zip"
_LIST = "bundle.json"
#: A job's texts are small: more bytes than this are none.
_MOST = 100_000_000
#: A job has fewer files.
_MOST_FILES = 10_000


def texts_of(job: JobDefinition) -> list[Path]:
    """The files whose text is part of a job: its own first, what it includes, its SQL, functions and descriptions."""
    main, _ = job.located(())
    if main is None:
        raise KanalError("The job was made in Python, and has no file", "write it to a file first, by Job.write")
    found = [main, *(path for path, _ in job._lines.values())]
    found += [job.texts / name for name in named_texts(job)]
    return list(dict.fromkeys(path.resolve() for path in found))


def named_texts(job: JobDefinition) -> list[str]:
    """The files that a job names as texts of its own, from its folder: SQL, functions and descriptions."""
    found = [command.sql_file for command in job.command.values() if command.sql_file is not None]
    found += [name for name in job.functions if isinstance(name, str) and name.endswith(".py")]
    places = [connection.openapi_file for connection in job.connection.values()]
    return found + [place for place in places if place is not None]


def write_bundle(job: JobDefinition, path: Path) -> list[str]:
    """Write a job's bundle; the names of the files in it. The same texts make the same bytes. Raises KanalError."""
    if not path.name.endswith(ENDING):
        raise KanalError(f"{path} is not the name of a bundle", f"let it end in {ENDING}")
    files = texts_of(job)
    root = Path(os.path.commonpath([file.parent for file in files]))
    contents: dict[str, bytes] = {}
    for file in files:
        try:
            contents[file.relative_to(root).as_posix()] = file.read_bytes()
        except OSError as error:
            raise KanalError(f"{file} cannot be read: {error.strerror}", "correct its path in the job") from None
    listed = {
        "kanal": VERSION,
        "job": files[0].relative_to(root).as_posix(),
        "files": {name: hashlib.sha256(content).hexdigest() for name, content in sorted(contents.items())},
    }
    packed = {_LIST: json.dumps(listed, indent=2).encode()} | dict(sorted(contents.items()))
    part = path.with_name(path.name + ".part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in packed.items():
                archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), content, zipfile.ZIP_DEFLATED)
        part.replace(path)
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file") from None
    finally:
        part.unlink(missing_ok=True)
    return list(contents)


def unpacked(path: Path) -> Path:
    """The job file of a bundle, unpacked into a folder that goes with this process; raises JobError."""
    try:
        with zipfile.ZipFile(path) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > _MOST:
                raise _broken(path, f"its files have more than {_MOST:,} bytes")
            if len(archive.infolist()) > _MOST_FILES:
                raise _broken(path, f"it has more than {_MOST_FILES:,} files")
            contents = {name: archive.read(name) for name in archive.namelist()}
        listed = json.loads(contents.pop(_LIST))
        files, main = dict(listed["files"]), str(listed["job"])
    except FileNotFoundError:
        raise JobError(
            [Problem((), f"There is no file {path}", "name the bundle, or make it with kanal bundle")]
        ) from None
    except OSError as error:
        raise _broken(path, f"it cannot be read: {error.strerror or error}") from None
    except (
        zipfile.BadZipFile,
        zipfile.LargeZipFile,
        KeyError,
        ValueError,
        TypeError,
        RuntimeError,
        NotImplementedError,
        EOFError,
        zlib.error,
        lzma.LZMAError,
    ):
        raise _broken(path, "it is no bundle, or is damaged") from None
    _check(path, contents, files, main)
    folder = Path(tempfile.mkdtemp(prefix="kanal-bundle-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    for name, content in contents.items():
        file = folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(content)
    return folder / main


def _check(path: Path, contents: dict[str, bytes], files: dict[str, str], main: str) -> None:
    """Raises JobError if a bundle does not hold just what it lists."""
    for name in _differing(contents, files):
        raise _broken(path, f"{name} is not as it was packed")
    for name in [*contents, main]:
        pure = PurePosixPath(name)
        strange = pure.is_absolute() or ".." in pure.parts or str(pure) != name or any(sign in name for sign in "\\:\0")
        if strange or not pure.parts or name not in contents:
            raise _broken(path, f'"{name}" is not a file of a bundle')
        if any(str(folder) in contents for folder in pure.parents):
            raise _broken(path, f'"{name}" is in a folder that is a file of the bundle too')


def _differing(contents: dict[str, bytes], files: dict[str, str]) -> Iterable[str]:
    for name in sorted({*contents, *files}):
        if name not in contents or hashlib.sha256(contents[name]).hexdigest() != files.get(name):
            yield name


def _broken(path: Path, why: str) -> JobError:
    return JobError(
        [Problem((), f"the bundle {path.name} cannot be used: {why}", "make it anew with kanal bundle", path)]
    )
