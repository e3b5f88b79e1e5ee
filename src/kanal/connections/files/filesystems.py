"""Stores that fsspec knows, such as SFTP, FTP, SMB and the clouds' own. Needs fsspec (pip install kanal[stores])."""

from __future__ import annotations

import contextlib
import datetime as dt
import shutil
import uuid
from collections.abc import Hashable, Iterator
from pathlib import Path
from typing import IO, Any, Self, cast

import sqlalchemy as sa

from kanal.connections.files.folder import Folder
from kanal.connections.files.formats import needed
from kanal.connections.files.remote import OLD, StoreError, temporary
from kanal.connections.files.stores import OWN, FoundFile, Receipt, by_name, fits, fixed_part
from kanal.connections.urls import FILESYSTEMS, shown_url
from kanal.core.errors import KanalError

#: Those whose URLs begin with a bucket or container, and not with a host.
_BUCKETS = ("abfs", "abfss", "az", "gs", "gcs", "memory")


class FilesystemStore:
    """A folder of a file system that fsspec knows."""

    kind = "folder"

    def __init__(self, url: sa.URL) -> None:
        self.shown = shown_url(url)
        scheme = url.drivername
        self._scheme = scheme
        self._settings: dict[str, Any] = {name: str(value) for name, value in url.query.items()}
        if url.password is not None and FILESYSTEMS[scheme]:
            self._settings[FILESYSTEMS[scheme]] = str(url.password)
        path = (url.database or "").strip("/")
        if scheme in _BUCKETS:
            self._root = f"{url.host or ''}/{path}".strip("/")
            if url.username:
                self._settings["account_name"] = url.username
        else:
            self._root = f"/{path}".rstrip("/")
            self._settings |= {"host": url.host or "localhost"}
            self._settings |= {"port": url.port} if url.port else {}
            self._settings |= {"username": url.username} if url.username else {}
        self._made: Any = None

    @property
    def identity(self) -> Hashable:
        return self._scheme, self._settings.get("host"), self._settings.get("account_name"), self._root

    @property
    def _system(self) -> Any:
        if self._made is None:
            fsspec = needed("fsspec", "stores", f"a folder of {self._scheme} is asked for")
            try:
                self._made = fsspec.filesystem(self._scheme, **self._settings)
            except ImportError as error:
                raise KanalError(f"a folder of {self._scheme} is asked for, and its library is not installed: {error}",
                                 "install it by pip") from None  # fmt: skip
            except Exception as error:
                raise self._trouble("it cannot be reached", error) from None
        return self._made

    @contextlib.contextmanager
    def _told(self, what: str) -> Iterator[Any]:
        """The file system, with its errors as KanalErrors; what is not there raises FileNotFoundError."""
        system = self._system
        try:
            yield system
        except (KanalError, FileNotFoundError):
            raise
        except Exception as error:  # whatever the library of the protocol raises
            raise self._trouble(what, error) from None

    def _trouble(self, what: str, error: Exception) -> StoreError:
        said = " ".join(str(error).split()) or type(error).__name__
        for secret in filter(None, (self._settings.get(FILESYSTEMS[self._scheme]),)):
            said = said.replace(str(secret), "***")
        passing = isinstance(error, ConnectionError | TimeoutError | EOFError)
        return StoreError(f"{self.shown}: {what}: {said[:300]}", "correct the url, user and password", passing)

    def _path(self, name: str) -> str:
        return f"{self._root}/{name}" if self._root else name

    def check(self) -> None:
        with self._told("it cannot be reached") as system:
            system.invalidate_cache()
            if not system.exists(self._root or "/"):
                raise StoreError(f"{self.shown} is not there", "correct the url")

    def find(self, pattern: str) -> list[FoundFile]:
        return by_name(
            file for file in self._listed(fixed_part(pattern).rpartition("/")[0]) if fits(pattern, file.name)
        )

    def _listed(self, folder: str) -> Iterator[FoundFile]:
        with self._told("it cannot be listed") as system:
            system.invalidate_cache()
            try:
                found = system.find(self._path(folder).rstrip("/"), detail=True)
            except FileNotFoundError:
                return
            for path, info in found.items():
                name = path.lstrip("/")[len(self._root.lstrip("/")) :].lstrip("/")
                yield self._file(name, info)

    def _file(self, name: str, info: dict[str, Any]) -> FoundFile:
        given = next((info[key] for key in ("mtime", "LastModified", "last_modified", "updated", "modify", "created")
                      if info.get(key) is not None), 0)  # fmt: skip
        if isinstance(given, int | float):
            given = dt.datetime.fromtimestamp(given, dt.UTC)
        elif isinstance(given, str):
            with contextlib.suppress(ValueError):
                given = dt.datetime.fromisoformat(given.replace("Z", "+00:00"))
        modified = given if isinstance(given, dt.datetime) else dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
        modified = modified if modified.tzinfo is not None else modified.replace(tzinfo=dt.UTC)
        tag = info.get("ETag") or info.get("etag") or info.get("content_md5") or ""
        return FoundFile(name, int(info.get("size") or 0), modified, self, str(tag).strip('"'))

    def look_up(self, name: str) -> FoundFile | None:
        with self._told(name) as system:
            system.invalidate_cache()
            try:
                info = system.info(self._path(name))
            except FileNotFoundError:
                return None
            return self._file(name, info) if info.get("type") != "directory" else None

    def open(self, file: FoundFile) -> IO[bytes]:
        with self._told(f"{file.name} cannot be read") as system:
            return cast("IO[bytes]", system.open(self._path(file.name), "rb"))

    def move(self, name: str, to: str) -> None:
        if self.look_up(to) is not None:
            raise StoreError(f"{name} cannot be moved to {to}: there is a file of that name", "move that one away")
        with self._told(f"{name} cannot be moved to {to}") as system:
            self._move(system, name, to, False)

    def _move(self, system: Any, name: str, to: str, again: bool) -> None:
        folder = self._path(to).rpartition("/")[0]
        if folder:
            system.makedirs(folder, exist_ok=True)
        try:
            if system.exists(self._path(name)):
                system.mv(self._path(name), self._path(to))
                return
        except FileNotFoundError:  # another process has done it just now
            pass
        if not again:
            raise StoreError(f"{name} is not there any more", "see what has become of it")

    def remove(self, name: str) -> None:
        with contextlib.suppress(FileNotFoundError), self._told(f"{name} cannot be removed") as system:
            if system.exists(self._path(name)):
                system.rm_file(self._path(name))

    # --- files that are written ------------------------------------------------------------------------------------

    def begin(self) -> IO[bytes]:
        return temporary()

    def prepare(self, written: IO[bytes], name: str) -> Receipt:
        made = f"{OWN}/temporary-{uuid.uuid4().hex}"
        size = written.seek(0, 2)
        written.seek(0)
        self._write(made, written, name)
        return {"name": name, "file": made, "size": size}

    def _write(self, path: str, content: IO[bytes], what: str) -> None:
        with self._told(f"{what} cannot be written") as system:
            system.makedirs(self._path(path).rpartition("/")[0], exist_ok=True)
            with system.open(self._path(path), "wb") as out:
                shutil.copyfileobj(content, out, 4 * 1024 * 1024)

    def publish(self, receipt: Receipt, again: bool = False) -> None:
        with self._told(f"{receipt['name']} cannot be written") as system:
            self._move(system, receipt["file"], receipt["name"], again)

    def discard(self, receipt: Receipt) -> None:
        with contextlib.suppress(KanalError):
            self.remove(receipt["file"])

    def tidy(self) -> None:
        before = dt.datetime.now(dt.UTC) - dt.timedelta(seconds=OLD)
        with contextlib.suppress(KanalError):
            pending = [self.note(name) or "" for name in self.notes("commit-")]
            for file in self._listed(OWN):
                left = "/temporary-" in file.name and file.modified < before
                if left and not any(file.name in text for text in pending):
                    self.remove(file.name)

    # --- what Kanal remembers here ---------------------------------------------------------------------------------

    def notes(self, prefix: str) -> list[str]:
        names = [file.name.rpartition("/")[2] for file in self._listed(OWN)]
        return sorted(name for name in names if name.startswith(prefix))

    def note(self, name: str) -> str | None:
        with self._told(name) as system:
            try:
                content: bytes = system.cat_file(self._path(f"{OWN}/{name}"))
            except FileNotFoundError:
                return None
            return content.decode()

    def keep_note(self, name: str, text: str | None) -> None:
        if text is None:
            self.remove(f"{OWN}/{name}")
            return
        with temporary() as content:
            content.write(text.encode())
            self.publish(self.prepare(content, f"{OWN}/{name}"))


class FilesystemFolder(Folder):
    """A folder of a file system that fsspec knows, as source and target."""

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection to a folder, such as sftp://USER@HOST/PATH, with further settings of the library in the URL."""
        del folder
        return cls(name, FilesystemStore(url))
