"""Buckets of S3 and of stores that speak its protocol. Needs boto3 (pip install kanal[s3])."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Hashable, Iterator
from pathlib import Path
from typing import IO, Any, Self

import sqlalchemy as sa

from kanal.connections.files.folder import Folder
from kanal.connections.files.formats import needed
from kanal.connections.files.remote import OLD, StoreError, ranged, temporary
from kanal.connections.files.stores import OWN, FoundFile, Receipt, by_name, fits, fixed_part
from kanal.connections.urls import shown_url
from kanal.core.errors import KanalError

#: Bytes of a part of an upload, of which there may be 10,000.
_PART = 8 * 1024 * 1024
#: Objects that are listed at once; no store gives more.
_PAGE = 1000
#: By the store's code, what an error means and what to do.
_CAUSES = {
    "NoSuchBucket": ("there is no bucket {bucket}", "correct the url, or make the bucket"),
    "InvalidAccessKeyId": ("the access key is not known", "correct the user of the url"),
    "SignatureDoesNotMatch": ("the secret key is wrong", "correct what password names"),
    "AccessDenied": ("it is not allowed", "ask for the right to list, read and write objects of {bucket}"),
    "403": ("it is not allowed", "ask for the right to read objects of {bucket}"),
    "ExpiredToken": ("the credentials have expired", "get new ones"),
    "RequestTimeTooSkewed": ("the clock of this machine is wrong", "set it"),
    "PreconditionFailed": ("it has changed while it was read", "run it again once it is complete"),
    "PermanentRedirect": ("the bucket is in another region", "name it in the url: ?region=…"),
    "AuthorizationHeaderMalformed": ("the bucket is in another region", "name it in the url: ?region=…"),
}
_GONE = ("404", "NoSuchKey", "NotFound", "NoSuchUpload")


class S3Store:
    """A bucket, or what of it begins with a prefix."""

    kind = "bucket"

    def __init__(self, url: sa.URL) -> None:
        self.shown = shown_url(url)
        self._bucket = url.host or ""
        self._prefix = f"{(url.database or '').strip('/')}/".lstrip("/")
        self._settings = {name: str(value) for name, value in url.query.items()}
        self._user, self._password = url.username, str(url.password) if url.password is not None else None
        self._made: Any = None

    @property
    def identity(self) -> Hashable:
        return "s3", self._settings.get("endpoint_url", ""), self._bucket, self._prefix

    @property
    def _client(self) -> Any:
        if self._made is None:
            boto3 = needed("boto3", "s3", "a bucket of S3 is asked for")
            config = needed("botocore.config", "s3", "a bucket of S3 is asked for")
            more: dict[str, Any] = {}
            if self._user:
                more = {"aws_access_key_id": self._user, "aws_secret_access_key": self._password}
            retries = {"mode": "standard", "max_attempts": 4}
            with self._told(f"the bucket {self._bucket}"):
                self._made = boto3.session.Session().client(
                    "s3", endpoint_url=self._settings.get("endpoint_url"),
                    region_name=self._settings.get("region") or "us-east-1",
                    config=config.Config(retries=retries, connect_timeout=10, read_timeout=60), **more,
                )  # fmt: skip
        return self._made

    @contextlib.contextmanager
    def _told(self, what: str) -> Iterator[None]:
        """Makes errors of the store KanalErrors; what is not there raises FileNotFoundError."""
        errors = needed("botocore.exceptions", "s3", "a bucket of S3 is asked for")
        try:
            yield
        except errors.ClientError as error:
            code = str(error.response.get("Error", {}).get("Code", ""))
            if code in _GONE:
                raise FileNotFoundError(what) from None
            status = error.response.get("ResponseMetadata", {}).get("HTTPStatusCode", 0)
            why, remedy = _CAUSES.get(code, (error.response.get("Error", {}).get("Message") or code, "correct that"))
            passing = status >= 500 or code in ("SlowDown", "RequestTimeout")
            raise StoreError(
                f"{what}: {why.format(bucket=self._bucket)}", remedy.format(bucket=self._bucket), passing
            ) from None
        except (errors.NoCredentialsError, errors.PartialCredentialsError):
            raise StoreError(f"{what}: there are no credentials", "write the access key as user of the url, the secret "
                             'key by password = { env = "NAME" }') from None  # fmt: skip
        except (errors.EndpointConnectionError, errors.HTTPClientError) as error:
            raise StoreError(f"{what}: the store gives no answer ({type(error).__name__})",
                             "see whether it runs; correct endpoint_url", passing=True) from None  # fmt: skip
        except (errors.BotoCoreError, ValueError) as error:
            raise StoreError(f"{what}: {error}", "correct the url") from None

    def check(self) -> None:
        with self._told(f"bucket {self._bucket}"):
            try:
                self._client.list_objects_v2(Bucket=self._bucket, Prefix=self._prefix, MaxKeys=1)
            except FileNotFoundError:
                raise StoreError(f"there is no bucket {self._bucket}", "correct the url") from None

    def find(self, pattern: str) -> list[FoundFile]:
        return by_name(file for file in self._listed(fixed_part(pattern)) if fits(pattern, file.name))

    def _listed(self, start: str) -> Iterator[FoundFile]:
        with self._told(f"bucket {self._bucket} cannot be listed"):
            pages, page_size = self._client.get_paginator("list_objects_v2"), {"PageSize": _PAGE}
            for page in pages.paginate(Bucket=self._bucket, Prefix=self._prefix + start, PaginationConfig=page_size):
                for found in page.get("Contents", []):
                    if not found["Key"].endswith("/"):
                        name = found["Key"][len(self._prefix) :]
                        yield self._file(name, found["Size"], found["LastModified"], found["ETag"])

    def _file(self, name: str, size: int, modified: dt.datetime, tag: str) -> FoundFile:
        return FoundFile(name, size, modified.astimezone(dt.UTC), self, tag.strip('"'))

    def look_up(self, name: str) -> FoundFile | None:
        try:
            with self._told(name):
                found = self._client.head_object(Bucket=self._bucket, Key=self._prefix + name)
        except FileNotFoundError:
            return None
        return self._file(name, found["ContentLength"], found["LastModified"], found["ETag"])

    def open(self, file: FoundFile) -> IO[bytes]:
        def fetch(start: int, stop: int) -> bytes:
            with self._told(file.name):
                answer = self._client.get_object(
                    Bucket=self._bucket, Key=self._prefix + file.name, Range=f"bytes={start}-{stop - 1}",
                    IfMatch=f'"{file.tag}"',
                )  # fmt: skip
                content: bytes = answer["Body"].read()
                return content

        return ranged(file.size, fetch)

    def move(self, name: str, to: str) -> None:
        if self.look_up(to) is not None:
            raise StoreError(f"{name} cannot be moved to {to}: there is a file of that name", "move that one away")
        with self._told(f"{name} cannot be moved to {to}"):
            source = {"Bucket": self._bucket, "Key": self._prefix + name}
            self._client.copy(source, self._bucket, self._prefix + to)
        self.remove(name)

    def remove(self, name: str) -> None:
        with contextlib.suppress(FileNotFoundError), self._told(f"{name} cannot be removed"):
            self._client.delete_object(Bucket=self._bucket, Key=self._prefix + name)

    # --- files that are written ------------------------------------------------------------------------------------

    def begin(self) -> IO[bytes]:
        return temporary()

    def prepare(self, written: IO[bytes], name: str) -> Receipt:
        size = written.seek(0, 2)
        written.seek(0)
        with self._told(f"{name} cannot be written"):
            place = {"Bucket": self._bucket, "Key": self._prefix + name}
            upload = self._client.create_multipart_upload(**place)["UploadId"]
            parts: list[dict[str, Any]] = []
            while not parts or written.tell() < size:
                number = len(parts) + 1
                content = written.read(max(_PART, size // 9_000))
                answer = self._client.upload_part(**place, UploadId=upload, PartNumber=number, Body=content)
                parts.append({"PartNumber": number, "ETag": answer["ETag"]})
        return {"name": name, "upload": upload, "parts": parts, "size": size}

    def publish(self, receipt: Receipt, again: bool = False) -> None:
        name = receipt["name"]
        try:
            with self._told(f"{name} cannot be written"):
                self._client.complete_multipart_upload(
                    Bucket=self._bucket, Key=self._prefix + name, UploadId=receipt["upload"],
                    MultipartUpload={"Parts": receipt["parts"]},
                )  # fmt: skip
        except FileNotFoundError:  # which has been done before
            there = self.look_up(name)
            if not again and (there is None or there.size != receipt["size"]):
                raise StoreError(f"the upload of {name} is gone", "run the step anew") from None

    def discard(self, receipt: Receipt) -> None:
        with contextlib.suppress(KanalError, FileNotFoundError), self._told(receipt["name"]):
            key = self._prefix + receipt["name"]
            self._client.abort_multipart_upload(Bucket=self._bucket, Key=key, UploadId=receipt["upload"])

    def tidy(self) -> None:
        """Give up uploads that were begun a day ago and not ended."""
        before = dt.datetime.now(dt.UTC) - dt.timedelta(seconds=OLD)
        with contextlib.suppress(KanalError, FileNotFoundError), self._told(self._bucket):
            pending = [self.note(name) or "" for name in self.notes("commit-")]
            pages = self._client.get_paginator("list_multipart_uploads")
            for page in pages.paginate(Bucket=self._bucket, Prefix=self._prefix):
                for found in page.get("Uploads", []):
                    known = any(found["UploadId"] in text for text in pending)
                    if found["Initiated"] < before and not known:
                        self.discard({"name": found["Key"][len(self._prefix) :], "upload": found["UploadId"]})

    # --- what Kanal remembers here ---------------------------------------------------------------------------------

    def notes(self, prefix: str) -> list[str]:
        return sorted(file.name.rpartition("/")[2] for file in self._listed(f"{OWN}/{prefix}"))

    def note(self, name: str) -> str | None:
        try:
            with self._told(name):
                answer = self._client.get_object(Bucket=self._bucket, Key=f"{self._prefix}{OWN}/{name}")
                text: str = answer["Body"].read().decode()
                return text
        except FileNotFoundError:
            return None

    def keep_note(self, name: str, text: str | None) -> None:
        if text is None:
            self.remove(f"{OWN}/{name}")
            return
        with self._told(f"{name} cannot be written"):
            self._client.put_object(Bucket=self._bucket, Key=f"{self._prefix}{OWN}/{name}", Body=text.encode())


class S3Folder(Folder):
    """A bucket of S3, as source and target."""

    @classmethod
    def opened(cls, name: str, url: sa.URL, folder: Path) -> Self:
        """A connection to a bucket: s3://KEY@BUCKET/PREFIX?endpoint_url=…&region=…, the secret key as password."""
        del folder
        return cls(name, S3Store(url))
