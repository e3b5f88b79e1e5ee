"""Files behind HTTP(S) addresses, which may be signed and expire. Needs httpx (pip install kanal[http])."""

from __future__ import annotations

import contextlib
import datetime as dt
import email.utils
import re
import shutil
import tempfile
from collections.abc import Hashable, Iterator, Mapping
from pathlib import Path
from typing import IO, Any, ClassVar, Self, cast
from urllib.parse import quote, urlencode

import sqlalchemy as sa
import tenacity

from kanal.connections.bodies import blocks, whole_number
from kanal.connections.errors import unreached
from kanal.connections.files.folder import Folder
from kanal.connections.files.formats import kinds_by_ending, needed
from kanal.connections.files.packing import endings_of
from kanal.connections.files.remote import StoreError, ranged, temporary
from kanal.connections.files.stores import FoundFile, Receipt, names_of
from kanal.connections.roles import Reads, Writes, lacks
from kanal.connections.urls import shown_url
from kanal.core.errors import KanalError, passes

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
#: Settings of an address that say until when it is good, as seconds since 1970 or in ISO form.
_UNTIL = ("expires", "se", "exp", "expiry")
#: Bytes that are read of an answer that refuses a file.
_MOST_SAID = 100_000


class HttpStore:
    """An address of a file, or of a folder whose files are known by name; it can only be read."""

    kind = "address"

    def __init__(self, url: sa.URL) -> None:
        self.shown = shown_url(url)
        self._settings = {name: str(value) for name, value in url.query.items()}
        port = f":{url.port}" if url.port else ""
        self._host = f"{url.host}{port}"
        self._path = (url.database or "").strip("/")
        self._scheme = url.drivername
        self._sign_in = (url.username or "", str(url.password or "")) if url.username else None
        last = self._path.rpartition("/")[2]
        #: The file that the address itself is, if it is one.
        self._file = last if endings_of(last)[1] in kinds_by_ending() or endings_of(last)[0] else ""
        self._made: Any = None

    @property
    def identity(self) -> Hashable:
        return "http", self._host, self._path

    def _address(self, name: str) -> str:
        path = self._path if name == self._file else f"{self._path}/{name}".lstrip("/")
        query = f"?{urlencode(self._settings)}" if self._settings else ""
        return f"{self._scheme}://{self._host}/{quote(path)}{query}"

    @property
    def _client(self) -> Any:
        if self._made is None:
            httpx = needed("httpx", "http", "an HTTP address is asked for")
            self._made = httpx.Client(auth=self._sign_in, follow_redirects=True, timeout=60,
                                      headers={"Accept-Encoding": "identity"})  # fmt: skip
        return self._made

    @contextlib.contextmanager
    def _answer(self, name: str, headers: Mapping[str, str]) -> Iterator[Any]:
        """The answer for a file, whose body is not read yet; raises KanalError, and FileNotFoundError."""
        httpx = needed("httpx", "http", "an HTTP address is asked for")
        try:
            with self._client.stream("GET", self._address(name), headers=headers) as answer:
                if answer.status_code in (404, 410):
                    raise FileNotFoundError(name)
                if answer.status_code not in (200, 206):
                    self._refuse(name, answer)
                yield answer
        except httpx.ConnectError as error:
            why, remedy, passing = unreached(self._host, error)
            raise StoreError(f"{name}: {why}", remedy, passing) from None
        except (httpx.UnsupportedProtocol, httpx.TooManyRedirects, httpx.InvalidURL) as error:
            raise StoreError(f"{name}: {self._host} redirects to something that is not a file ({type(error).__name__})",
                             "correct the url") from None  # fmt: skip
        except httpx.HTTPError as error:
            raise StoreError(f"{name}: {self._host} broke off ({type(error).__name__})", "run it again", True) from None

    def _refuse(self, name: str, answer: Any) -> None:
        status = answer.status_code
        said = self._beginning(name, answer) if status < 500 else ""
        until = self._good_until()
        if status in (400, 401, 403) and (
            re.search("expire", said, re.IGNORECASE) or (until and until < dt.datetime.now(dt.UTC))
        ):
            when = f", on {until:%Y-%m-%d %H:%M:%S} UTC" if until is not None else ""
            raise StoreError(f"{name}: the address has expired{when}", "ask for a new one")
        if status == 412:
            raise StoreError(f"{name} has changed while it was read", "run it again once the file is complete")
        if status in (401, 403):
            raise StoreError(f"{name}: the server does not let it be read ({status})",
                             "see whether the signature is whole; or name user and password")  # fmt: skip
        raise StoreError(
            f"{name}: the server answers {status} {answer.reason_phrase}",
            "ask those who run it",
            status >= 500 or status == 429,
        )

    def _beginning(self, name: str, answer: Any) -> str:
        """The first of what an answer says, also if more comes than is read."""
        begun = b""
        with contextlib.suppress(StoreError):
            for block in blocks(answer, name, _MOST_SAID, StoreError):
                begun += block
        return begun[:2000].decode("utf-8", "replace")

    def _good_until(self) -> dt.datetime | None:
        """Until when the address is good, if it says so."""
        settings = {name.lower(): value for name, value in self._settings.items()}
        with contextlib.suppress(ValueError, OverflowError):
            begun, seconds = settings.get("x-amz-date"), settings.get("x-amz-expires")
            if begun and seconds:
                moment = dt.datetime.strptime(begun, "%Y%m%dT%H%M%SZ").replace(tzinfo=dt.UTC)
                return moment + dt.timedelta(seconds=int(seconds))
            for name in _UNTIL:
                value = settings.get(name)
                if value:
                    seconds_since = whole_number(value)
                    if seconds_since is not None:
                        return _EPOCH + dt.timedelta(seconds=seconds_since)
                    return dt.datetime.fromisoformat(value.replace("Z", "+00:00"))
        return None

    def check(self) -> None:
        if self._file and self.look_up(self._file) is None:
            raise StoreError(f"there is no {self._file} at {self._host}", "correct the url")

    def find(self, pattern: str) -> list[FoundFile]:
        names = names_of(pattern)
        if names is None:
            if pattern != "**/*":
                raise KanalError(f'"{pattern}": an address has no list of its files', "name the files themselves")
            names = [self._file] if self._file else []
        return [found for name in names if (found := self.look_up(name)) is not None]

    def look_up(self, name: str) -> FoundFile | None:
        return cast("FoundFile | None", _again(self._look_up, name))

    def _look_up(self, name: str) -> FoundFile | None:
        try:
            with self._answer(name, {"Range": "bytes=0-0"}) as answer:
                return self._found(name, answer)
        except FileNotFoundError:
            return None

    def _found(self, name: str, answer: Any) -> FoundFile:
        headers = answer.headers
        whole = headers.get("Content-Range", "").rpartition("/")[2]
        size = whole if answer.status_code == 206 else headers.get("Content-Length", "")
        modified = _EPOCH
        with contextlib.suppress(TypeError, ValueError, IndexError, OverflowError):
            modified = email.utils.parsedate_to_datetime(headers.get("Last-Modified", ""))
        bytes_ = whole_number(size)
        return FoundFile(name, -1 if bytes_ is None else bytes_, modified, self, headers.get("ETag", ""))

    def open(self, file: FoundFile) -> IO[bytes]:
        headers = {"If-Match": file.tag} if file.tag and not file.tag.startswith("W/") else {}
        with self._answer(file.name, {"Range": "bytes=0-0"}) as answer:
            in_ranges = answer.status_code == 206 and file.size >= 0
        if not in_ranges:
            return self._whole(file)

        def fetch(start: int, stop: int) -> bytes:
            with self._answer(file.name, headers | {"Range": f"bytes={start}-{stop - 1}"}) as answer:
                if self._found(file.name, answer) != file:
                    raise StoreError(f"{file.name} has changed while it was read", "run it again once it is complete")
                return b"".join(blocks(answer, file.name, stop - start, StoreError))

        return ranged(file.size, lambda start, stop: cast(bytes, _again(fetch, start, stop)))

    def _whole(self, file: FoundFile) -> IO[bytes]:
        """A file of a server that gives no parts, in a temporary file."""
        kept = temporary()
        most = file.size if file.size >= 0 else shutil.disk_usage(tempfile.gettempdir()).free // 2
        with self._answer(file.name, {}) as answer:
            for block in blocks(answer, file.name, most, StoreError):
                kept.write(block)
        kept.seek(0)
        return kept

    # --- what cannot be done ---------------------------------------------------------------------------------------

    def move(self, name: str, to: str) -> None:
        raise lacks(self._host, Reads.MOVE)

    def remove(self, name: str) -> None:
        raise lacks(self._host, Reads.MOVE)

    def begin(self) -> IO[bytes]:
        raise lacks(self._host, Writes.APPEND)

    def prepare(self, written: IO[bytes], name: str) -> Receipt:
        raise lacks(self._host, Writes.APPEND)

    def publish(self, receipt: Receipt, again: bool = False) -> None:
        raise lacks(self._host, Writes.APPEND)

    def discard(self, receipt: Receipt) -> None:
        """Nothing was prepared."""

    def tidy(self) -> None:
        """Nothing is left."""

    def notes(self, prefix: str) -> list[str]:
        raise lacks(self._host, Writes.REMEMBER)

    def note(self, name: str) -> str | None:
        raise lacks(self._host, Writes.REMEMBER)

    def keep_note(self, name: str, text: str | None) -> None:
        raise lacks(self._host, Writes.REMEMBER)


def _again(act: Any, *given: Any) -> Any:
    """What an act gives, which is tried again if a trouble passes."""
    retrying = tenacity.Retrying(
        stop=tenacity.stop_after_attempt(4), wait=tenacity.wait_exponential(0.2, max=5), reraise=True,
        retry=tenacity.retry_if_exception(passes),
    )  # fmt: skip
    return retrying(act, *given)


class HttpFolder(Folder):
    """Files behind an address, as a source."""

    reads: ClassVar[frozenset[Reads]] = frozenset({Reads.ROWS, Reads.FILES})
    writes: ClassVar[frozenset[Writes]] = frozenset()

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection to an address: of a file, or of a folder in which files are known by name."""
        del folder
        return cls(name, HttpStore(url))
