"""A small HTTP server whose addresses are signed and expire, as those of object stores do; for examples and tests.

    python -m kanal.demo.server FOLDER [--port 8080] [--seconds 3600]

It answers with the files of a folder, whole or in parts (RFC 9110, Range), to addresses that it has signed itself.
"""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import hmac
import re
import secrets
import sys
import time
from email.utils import formatdate
from pathlib import Path
from typing import ClassVar
from urllib.parse import parse_qs, quote, unquote, urlsplit

from kanal.demo.serving import DemoHandler, DemoServer, serve

_BLOCK = 1024 * 1024


class FileServer(DemoServer):
    """A server of a folder's files at this machine, from when it is made until it is closed."""

    def __init__(self, folder: Path, port: int = 0, in_parts: bool = True) -> None:
        self.folder = folder.resolve()
        self._key = secrets.token_bytes(32)
        super().__init__(type("Handler", (_Handler,), {"server_of": self, "in_parts": in_parts}), port)

    def signature(self, path: str, until: int) -> str:
        """The signature of an address that is good until a moment, in seconds since 1970."""
        return hmac.new(self._key, f"{path} {until}".encode(), hashlib.sha256).hexdigest()

    def address(self, name: str, seconds: float = 3600) -> str:
        """The address of a file, good for this many seconds."""
        path, until = f"/{quote(name)}", int(time.time() + seconds)
        return f"http://127.0.0.1:{self.port}{path}?expires={until}&signature={self.signature(path, until)}"


class _Handler(DemoHandler):
    server_of: ClassVar[FileServer]
    in_parts: ClassVar[bool]

    def do_GET(self) -> None:  # noqa: N802 - as http.server calls it
        """Answer with a file, or a part of it."""
        parts = urlsplit(self.path)
        settings = {name: values[0] for name, values in parse_qs(parts.query).items()}
        until = int(settings["expires"]) if settings.get("expires", "").isdigit() else 0
        wanted = self.server_of.signature(parts.path, until)
        path = (self.server_of.folder / unquote(parts.path).lstrip("/")).resolve()
        if not hmac.compare_digest(wanted, settings.get("signature", "")):
            self._say(403, "the signature is wrong")
        elif until < time.time():
            self._say(403, "the address has expired")
        elif self.server_of.folder not in path.parents or not path.is_file():
            self._say(404, "there is no such file")
        else:
            self._send(path)

    def _send(self, path: Path) -> None:
        stat = path.stat()
        tag = f'"{stat.st_mtime_ns:x}-{stat.st_size:x}"'
        if self.headers.get("If-Match", tag) != tag:
            self._say(412, "the file has changed")
            return
        start, stop = 0, stat.st_size
        asked = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", "")) if self.in_parts else None
        if asked is not None and int(asked[1]) < stat.st_size:
            start = int(asked[1])
            stop = min(stop, int(asked[2]) + 1) if asked[2] else stop
            self.send_response(206)
            self.send_header("Content-Range", f"bytes {start}-{stop - 1}/{stat.st_size}")
        else:
            self.send_response(200)
        self.send_header("Content-Length", str(stop - start))
        self.send_header("ETag", tag)
        self.send_header("Last-Modified", formatdate(stat.st_mtime, usegmt=True))
        self.end_headers()
        with contextlib.suppress(ConnectionError), path.open("rb") as file:
            file.seek(start)
            while start < stop and (block := file.read(min(_BLOCK, stop - start))):
                self.wfile.write(block)
                start += len(block)

    def _say(self, status: int, words: str) -> None:
        content = words.encode()
        self.send_response(status)
        self.send_header("Content-Type", "text/plain; charset=utf-8")
        self.send_header("Content-Length", str(len(content)))
        self.end_headers()
        self.wfile.write(content)


def main() -> None:
    """Serve a folder, and print the addresses of its files."""
    parser = argparse.ArgumentParser(prog="python -m kanal.demo.server", description=__doc__.partition("\n")[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--port", type=int, default=8080)
    parser.add_argument("--seconds", type=float, default=3600, help="how long an address is good for")
    chosen = parser.parse_args()
    if not chosen.folder.is_dir():
        sys.exit(f"{chosen.folder} is no folder. Name one.")

    def tell(server: FileServer) -> None:
        for path in sorted(chosen.folder.rglob("*")):
            if path.is_file():
                print(server.address(path.relative_to(chosen.folder).as_posix(), chosen.seconds), flush=True)

    serve(lambda: FileServer(chosen.folder, chosen.port), chosen.port, tell)


if __name__ == "__main__":
    main()
