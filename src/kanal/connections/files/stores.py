"""Where files are kept: what a store can be asked, the files that fit a pattern, and folders of this machine."""

from __future__ import annotations

import contextlib
import datetime as dt
import errno
import hashlib
import os
import re
import tempfile
import uuid
from collections.abc import Hashable, Iterable, Iterator
from pathlib import Path
from typing import IO, Any, ClassVar, Protocol, cast

from msgspec import Struct

from kanal.connections.journal import LoadedFile, moment_text
from kanal.core.errors import KanalError
from kanal.core.records import PartlyCompared

_BRACES = re.compile(r"\{([^{}]*)\}")
_WILD = re.compile(r"[*?{]")


class FoundFile(PartlyCompared, Struct, frozen=True, eq=False):
    """A file: its name in the store, its size in bytes, when it was last modified (UTC), and what else tells one state
    of its content from another."""

    aside: ClassVar[frozenset[str]] = frozenset({"store"})

    name: str
    size: int
    modified: dt.datetime
    store: Store
    tag: str = ""

    def open(self) -> IO[bytes]:
        """Its content as it is stored, from any place on; raises KanalError or OSError."""
        return self.store.open(self)

    def check_unchanged(self) -> None:
        """Raise KanalError where the file is not what it was when it was found."""
        if self.store.look_up(self.name) != self:
            raise KanalError(f"{self.name} has changed while it was read", "run it again once the file is complete")

    @property
    def modified_text(self) -> str:
        """When it was last modified, as a loaded file is remembered, in UTC."""
        return moment_text(self.modified)

    def same_as(self, known: LoadedFile) -> bool:
        """True if it has the size of a loaded file, and its time and tag, or else its content. The name is ignored."""
        if self.size != known.size:
            return False
        if self.modified_text == known.modified and self.tag in ("", known.checksum):
            return True
        return self.checksum() == known.checksum

    def checksum(self) -> str:
        """What tells its content from any other: the store's tag, or else the SHA-256 of all of it."""
        if self.tag:
            return self.tag
        with self.open() as stream:
            return hashlib.file_digest(cast(Any, stream), "sha256").hexdigest()


#: What says to another process where a prepared file is.
Receipt = dict[str, Any]
#: The folder of Kanal's own files in a place that it writes to.
OWN = ".kanal"


class Store(Protocol):
    """A place that keeps files, each with a name that may have folders in it, divided by /."""

    #: What it is and where, for people.
    shown: str
    kind: str

    @property
    def identity(self) -> Hashable:
        """What two connections to one place have in common."""

    def check(self) -> None:
        """Raise KanalError where it cannot be reached."""

    def find(self, pattern: str) -> list[FoundFile]:
        """The files that fit a pattern, by their names; raises KanalError."""

    def look_up(self, name: str) -> FoundFile | None:
        """A file as it is now; None if there is none."""

    def open(self, file: FoundFile) -> IO[bytes]:
        """A file's content; raises KanalError or OSError where it cannot be read or is no longer the same."""

    def move(self, name: str, to: str) -> None:
        """Give a file another name, which no file has; raises KanalError."""

    def remove(self, name: str) -> None:
        """Remove a file, if it is there; raises KanalError."""

    # --- files that are written ------------------------------------------------------------------------------------

    def begin(self) -> IO[bytes]:
        """A new file, which nobody sees, and which goes with this process; raises KanalError."""

    def prepare(self, written: IO[bytes], name: str) -> Receipt:
        """Have a file that was begun ready, so that `publish` makes it visible at once, even in another process."""

    def publish(self, receipt: Receipt, again: bool = False) -> None:
        """Make a prepared file visible, whole; raises KanalError.

        `again` is true if a process that died may have done it: a file that is gone has then been published, even if
        somebody has taken it since.
        """

    def discard(self, receipt: Receipt) -> None:
        """Remove a prepared file."""

    def tidy(self) -> None:
        """Remove what processes have left that were killed."""

    # --- what Kanal remembers here ---------------------------------------------------------------------------------

    def notes(self, prefix: str) -> list[str]:
        """The names of notes that begin so."""

    def note(self, name: str) -> str | None:
        """The text of a note; None if there is none."""

    def keep_note(self, name: str, text: str | None) -> None:
        """Keep a note, whole or not at all, in the place of a former one; None removes it. Raises KanalError."""


def fits(pattern: str, name: str) -> bool:
    """True for a name that fits a pattern: * is any text without a /, ** any folders, ? any character but /, {a,b} one
    of several texts. Names that begin with a dot fit none that does not say so."""
    return any(_compiled(one).fullmatch(name) is not None for one in without_braces(pattern))


def _compiled(pattern: str) -> re.Pattern[str]:
    parts = []
    for part in pattern.split("/"):
        if part == "**":
            parts.append(r"(?:[^/.][^/]*/)*")
            continue
        text = "".join("[^/]*" if sign == "*" else "[^/]" if sign == "?" else re.escape(sign) for sign in part)
        parts.append((r"(?!\.)" if part[:1] in ("*", "?") else "") + text + "/")
    whole = "".join(parts)
    whole = whole + r"[^/.][^/]*" if pattern.endswith("**") else whole.removesuffix("/")
    return re.compile(whole, re.DOTALL)


def without_braces(pattern: str) -> list[str]:
    """The patterns without {a,b} that a pattern represents."""
    braces = _BRACES.search(pattern)
    if braces is None:
        return [pattern]
    before, after = pattern[: braces.start()], pattern[braces.end() :]
    return [whole for part in braces[1].split(",") for whole in without_braces(before + part + after)]


def names_of(pattern: str) -> list[str] | None:
    """The names that a pattern without wild cards represents; None for any other."""
    names = without_braces(pattern)
    return None if any(_WILD.search(name) for name in names) else names


def fixed_part(pattern: str) -> str:
    """What all names that fit a pattern begin with."""
    return (_WILD.split(pattern, maxsplit=1))[0]


def check_pattern(pattern: str) -> None:
    """Raise KanalError for a pattern that leads out of the folder, or that no file can fit."""
    if "\0" in pattern:
        raise KanalError("the name of the files has the character NUL in it, which no file name can have", "remove it")
    if pattern.startswith(("/", "\\")) or ".." in re.split(r"[/\\]", pattern) or Path(pattern).is_absolute():
        raise KanalError(f'"{pattern}" leads out of the folder', "name files within it")


def by_name(found: Iterable[FoundFile]) -> list[FoundFile]:
    """Files in the order of their names."""
    return sorted(found, key=lambda file: file.name)


def everything_in(store: Store) -> list[FoundFile]:
    """All files of a store, to be listed for people."""
    return store.inside() if isinstance(store, LocalStore) else store.find("**/*")


class LocalStore:
    """A folder of this machine. Links that lead out of it are refused unless it is to follow them."""

    kind = "folder"

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.follows_links = False
        self.shown = f"file://{folder.as_posix()}"

    @property
    def identity(self) -> Hashable:
        return "file", str(self.folder.resolve())

    def check(self) -> None:
        if not self.folder.is_dir():
            what = "is no folder" if self.folder.exists() else "is not there"
            raise KanalError(f"{self.folder} {what}", "correct its url")

    def find(self, pattern: str) -> list[FoundFile]:
        names = names_of(pattern)
        if names is None:
            start = self.folder / fixed_part(pattern).rpartition("/")[0]
            walked = self._walked(start, "**" in pattern, pattern.count("/"))
            names = [name for name in walked if fits(pattern, name)]
        return by_name(found for name in dict.fromkeys(names) if (found := self.look_up(name)) is not None)

    def inside(self) -> list[FoundFile]:
        """All files but those behind links that may not be followed."""
        names = list(self._walked(self.folder, deep=True, slashes=0, lenient=True))
        return by_name(found for name in names if self._stays(name) and (found := self._found(name)) is not None)

    def _walked(self, start: Path, deep: bool, slashes: int, lenient: bool = False) -> Iterator[str]:
        """The names of the files below a folder; raises KanalError for a linked folder that may not be followed."""
        seen = {start.resolve()}
        for path, folders, files in os.walk(start, followlinks=self.follows_links):
            here = Path(path).relative_to(self.folder)
            folders[:] = [name for name in folders if not name.startswith(".")]
            if not deep and len(here.parts) >= slashes:
                folders.clear()
            for name in [name for name in folders if (Path(path) / name).is_symlink()]:
                real = (Path(path) / name).resolve()
                if not self.follows_links and not lenient:
                    self._require_inside((here / name).as_posix())
                if real in seen or any(real in before.parents for before in seen):  # a circle
                    folders.remove(name)
                seen.add(real)
            yield from ((here / name).as_posix() for name in files)

    def _stays(self, name: str) -> bool:
        """True if what has a name is in the folder itself, or links may be followed."""
        if self.follows_links:
            return True
        return (self.folder / name).resolve().is_relative_to(self.folder.resolve())

    def _require_inside(self, name: str) -> None:
        """Raise KanalError for a file behind a link that may not be followed."""
        if not self._stays(name):
            raise KanalError(
                f"{name} is a link, or is behind one, that leads out of {self.folder}",
                'set links = "follow" in the connection if that is meant, or remove the link',
            )

    def look_up(self, name: str) -> FoundFile | None:
        found = self._found(name)
        if found is not None:
            self._require_inside(name)
        return found

    def _found(self, name: str) -> FoundFile | None:
        """The file of a name, wherever it is."""
        path = self.folder / name
        try:
            stat = path.stat()
        except OSError:
            return None
        if not path.is_file():
            return None
        modified = dt.datetime.fromtimestamp(stat.st_mtime_ns // 1000 / 1e6, dt.UTC)
        return FoundFile(name, stat.st_size, modified, self)

    def path_of(self, name: str) -> Path:
        """Where a file is, or will be; raises KanalError if that is behind a link that may not be followed."""
        self._require_inside(name)
        return self.folder / name

    def open(self, file: FoundFile) -> IO[bytes]:
        return self.path_of(file.name).open("rb")

    def remove(self, name: str) -> None:
        with told(f"{name} cannot be removed"):
            self.path_of(name).unlink(missing_ok=True)

    def move(self, name: str, to: str) -> None:
        here, there = self.path_of(name), self.path_of(to)
        with told(f"{name} cannot be moved to {to}"):
            there.parent.mkdir(parents=True, exist_ok=True)
            try:
                os.link(here, there)  # which, unlike a rename, overwrites nothing
            except FileExistsError:
                raise
            except OSError:  # a file system without links
                if there.exists():
                    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST)) from None
                here.rename(there)
            else:
                here.unlink()
            _settle(there.parent)

    # --- files that are written ------------------------------------------------------------------------------------

    @property
    def _own(self) -> Path:
        return self.folder / OWN

    def begin(self) -> IO[bytes]:
        with told(f"nothing can be written to {self.folder}"):
            self._own.mkdir(parents=True, exist_ok=True)
            # Locked before it has its name: else it could be taken for what a dead process has left.
            made = tempfile.NamedTemporaryFile(dir=self._own, prefix="new-", delete=False)  # noqa: SIM115
            _lock(made)
            named = self._own / f"{_TEMPORARY}{uuid.uuid4().hex}"
            Path(made.name).rename(named)
            made.name = str(named)
        return cast("IO[bytes]", made)

    def prepare(self, written: IO[bytes], name: str) -> Receipt:
        self._require_inside(name)
        with told(f"{name} cannot be written"):
            written.flush()
            os.fsync(written.fileno())
        return {"file": Path(written.name).name, "name": name, "size": os.fstat(written.fileno()).st_size}

    def publish(self, receipt: Receipt, again: bool = False) -> None:
        here, there = self._own / receipt["file"], self.path_of(receipt["name"])
        with told(f"{receipt['name']} cannot be written"):
            there.parent.mkdir(parents=True, exist_ok=True)
            try:
                here.replace(there)
            except FileNotFoundError:
                if not again:
                    raise
            _settle(there.parent)

    def discard(self, receipt: Receipt) -> None:
        with contextlib.suppress(OSError):
            (self._own / receipt["file"]).unlink()

    def tidy(self) -> None:
        for path in self._own.glob(f"{_TEMPORARY}*"):
            with contextlib.suppress(OSError), path.open("rb") as found:
                _lock(found)  # which fails while whoever writes it lives
                if not any(path.name in (self.note(name) or "") for name in self.notes("commit-")):
                    path.unlink()

    # --- what Kanal remembers here ---------------------------------------------------------------------------------

    def notes(self, prefix: str) -> list[str]:
        return sorted(path.name for path in self._own.glob(f"{prefix}*"))

    def note(self, name: str) -> str | None:
        try:
            return (self._own / name).read_text(encoding="utf-8")
        except FileNotFoundError:
            return None
        except OSError as error:
            raise KanalError(f"{self._own / name} cannot be read: {error.strerror or error}", "correct that") from None

    def keep_note(self, name: str, text: str | None) -> None:
        with told(f"{self._own / name} cannot be written"):
            if text is None:
                (self._own / name).unlink(missing_ok=True)
                return
            with self.begin() as made:
                made.write(text.encode())
                made.flush()
                os.fsync(made.fileno())
                Path(made.name).replace(self._own / name)
            _settle(self._own)


_TEMPORARY = "temporary-"


def _lock(opened: IO[bytes]) -> None:
    """Lock a file while it is open; raises OSError if another process has."""
    try:
        import fcntl
    except ImportError:  # if an open file cannot be removed anyway
        return
    fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)


def _settle(folder: Path) -> None:
    """Have a change of a folder's names written to the disk, if that can be asked for."""
    with contextlib.suppress(OSError):
        opened = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(opened)
        finally:
            os.close(opened)


@contextlib.contextmanager
def told(what: str) -> Iterator[None]:
    """Makes an error of the system one that says what could not be done."""
    try:
        yield
    except OSError as error:
        raise KanalError(f"{what}: {error.strerror or error}", "correct that, and run it again") from None
