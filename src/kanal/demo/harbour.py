"""The harbour master's register, a small HTTP API that answers JSON; for examples and tests.

    python -m kanal.demo.harbour [--port 8081] [--vessels 500]

It lists vessels in pages, by every usual way of paging, to those who are signed in, and takes arrivals, one by one or
many at once; it can be told to answer too many requests with 429, to fail now and then, and to lose its answer.
"""

from __future__ import annotations

import argparse
import base64
import contextlib
import datetime as dt
import json
import random
import re
import secrets
from collections.abc import Callable
from typing import Any, ClassVar
from urllib.parse import parse_qs, urlencode, urlsplit

from kanal.demo.serving import DemoHandler, DemoServer, serve

TOKEN = "harbour-token"
_NAMES = ["Morgenstond", "Zwarte Zwaan", "Stille Stroom", "Wilgentak", "Noorderlicht"]
_OWNERS = ["Quispel & Daughters", "Haverdal Barges", "Rederij Sollering"]


def vessels(count: int, seed: int = 2025) -> list[dict[str, Any]]:
    """The vessels of the register; every name is made up."""
    chance = random.Random(seed)
    start = dt.datetime(2025, 3, 1, 8, tzinfo=dt.UTC)
    return [
        {
            "mark": f"HV{number:05d}",
            "name": f"{chance.choice(_NAMES)} {number}",
            "tonnage": chance.randint(8_000, 320_000) / 100,
            "owner": {"name": chance.choice(_OWNERS)} if number % 7 else None,
            "changed_at": (start + dt.timedelta(minutes=number)).isoformat(),
            "calls": [
                {"quay": f"Q{chance.randint(1, 9)}", "tonnes": chance.randint(1, 900)} for _ in range(number % 3)
            ],
        }
        for number in range(1, count + 1)
    ]


#: A moment as RFC 3339 has it (section 5.6).
_RFC3339 = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)")


class HarbourServer(DemoServer):
    """The service, at this machine, from when it is made until it is closed. `spoiled` may change an answer before it
    is sent: the number of the request, its status and its content."""

    def __init__(
        self, rows: list[dict[str, Any]], port: int = 0, limit_every: int = 0, fail_every: int = 0, lose_every: int = 0,
        spoiled: Callable[[int, int, bytes], tuple[int, bytes]] | None = None,
    ) -> None:  # fmt: skip
        self.rows = rows
        self.limit_every, self.fail_every, self.lose_every = limit_every, fail_every, lose_every
        self.spoiled = spoiled
        #: The arrivals that were sent, as they came; and what was answered to each Idempotency-Key.
        self.arrivals: list[dict[str, Any]] = []
        self.answered: dict[str, tuple[int, Any]] = {}
        self.requests: list[tuple[str, str | None]] = []
        self.tokens = {TOKEN}
        super().__init__(type("Handler", (_Handler,), {"harbour": self}), port)

    @property
    def url(self) -> str:
        """The address of the API."""
        return f"http://127.0.0.1:{self.port}/v1"


class _Handler(DemoHandler):
    harbour: ClassVar[HarbourServer]

    def _turned_away(self) -> bool:
        """Answer who is not signed in, or asks when he should not; True if that was done."""
        harbour = self.harbour
        harbour.requests.append((self.path, self.headers.get("Authorization") or self.headers.get("X-Key")))
        number = len(harbour.requests)
        given = (self.headers.get("Authorization") or "").removeprefix("Bearer ")
        basic = base64.b64encode(f"keeper:{TOKEN}".encode()).decode()
        if given not in harbour.tokens and given != f"Basic {basic}" and self.headers.get("X-Key") != TOKEN:
            self._say(401, {"error": "sign in"})
        elif harbour.limit_every and number % harbour.limit_every == 0:
            self._say(429, {"error": "too many requests"}, {"Retry-After": "0"})
        elif harbour.fail_every and number % harbour.fail_every == 0:
            self._say(503, {"error": "for a moment"}, {"Retry-After": "0"})
        else:
            return False
        return True

    def do_GET(self) -> None:  # noqa: N802 - as http.server calls it
        """Answer with a page of vessels."""
        parts = urlsplit(self.path)
        if self._turned_away():
            return
        if parts.path == "/v1/vessels":
            self._vessels({name: values[0] for name, values in parse_qs(parts.query).items()})
        else:
            self._say(404, {"error": "there is no such list"})

    def do_POST(self) -> None:  # noqa: N802 - as http.server calls it
        """Take arrivals; give a token that soon expires to whoever names the secret."""
        body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
        if urlsplit(self.path).path.startswith("/v1/arrivals"):
            if not self._turned_away():
                self._take(json.loads(body))
            return
        basic = base64.b64encode(f"keeper:{TOKEN}".encode()).decode()
        if self.headers.get("Authorization") != f"Basic {basic}":
            self._say(401, {"error": "invalid_client"})
            return
        token = secrets.token_hex(8)
        self.harbour.tokens = {TOKEN, token}
        self._say(200, {"access_token": token, "token_type": "bearer", "expires_in": 31})

    do_PUT = do_POST  # noqa: N815

    def _take(self, content: Any) -> None:
        """Take arrivals: one, a list of which all or none are taken, or items of which the good ones are."""
        harbour, key = self.harbour, self.headers.get("Idempotency-Key", "")
        if key not in harbour.answered:
            listed = content if isinstance(content, list) else content.get("items", [content])
            bad = {
                place: f"{row.get('tonnes')} tonnes" for place, row in enumerate(listed) if (row.get("tonnes") or 0) < 0
            }
            partly = isinstance(content, dict) and "items" in content
            harbour.answered[key] = (
                422 if bad and not partly else 201,
                {"errors": [{"index": place, "message": words} for place, words in bad.items()]},
            )
            if partly or not bad:
                place = urlsplit(self.path).path.removeprefix("/v1/arrivals").strip("/")
                if place:  # by PUT, in the place of one that is there
                    harbour.arrivals = [row for row in harbour.arrivals if str(row.get("number")) != place]
                harbour.arrivals += [row for number, row in enumerate(listed) if number not in bad]
        if harbour.lose_every and len(harbour.requests) % harbour.lose_every == 0:
            self.close_connection = True  # the answer is lost
            return
        self._say(*harbour.answered[key])

    def _vessels(self, query: dict[str, str]) -> None:
        since = query.get("changed_after", "")
        if since and not _RFC3339.fullmatch(since):  # as strict services do
            self._say(400, {"errors": [{"message": f"changed_after is not a moment of RFC 3339: {since}"}]})
            return
        moment = dt.datetime.fromisoformat(since) if since else None
        rows = [
            row for row in self.harbour.rows if not moment or dt.datetime.fromisoformat(row["changed_at"]) >= moment
        ]
        size = max(1, min(int(query.get("limit", "100")), 1000))
        start = int(query.get("offset", "0")) + (int(query.get("page", "1")) - 1) * size
        after = query.get("after")
        if after is not None:
            start = next((place for place, row in enumerate(rows, 1) if row["mark"] == after), len(rows))
        page = rows[start : start + size]
        more = start + size < len(rows)
        following = (
            f"/v1/vessels?{urlencode({**query, 'offset': start + size, 'limit': size, 'page': 1})}" if more else None
        )
        content = {"items": page, "total": len(rows), "next": following, "cursor": page[-1]["mark"] if more else None}
        self._say(200, content, {"Link": f'<{following}>; rel="next"'} if following else {})

    def _say(self, status: int, content: Any, headers: dict[str, str] | None = None) -> None:
        raw = json.dumps(content).encode()
        if self.harbour.spoiled is not None:
            status, raw = self.harbour.spoiled(len(self.harbour.requests), status, raw)
        self.send_response(status)
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(raw)))
        self.end_headers()
        with contextlib.suppress(ConnectionError):
            self.wfile.write(raw)


def harbour(count: int = 500, **options: Any) -> HarbourServer:
    """The service with so many vessels, for a `with`, which closes it."""
    return HarbourServer(vessels(count), **options)


def main() -> None:
    """Serve the register."""
    parser = argparse.ArgumentParser(prog="python -m kanal.demo.harbour", description=__doc__.partition("\n")[0])
    parser.add_argument("--port", type=int, default=8081)
    parser.add_argument("--vessels", type=int, default=500)
    chosen = parser.parse_args()

    def tell(server: HarbourServer) -> None:
        print(f"the harbour master's register is at {server.url}; its token is {TOKEN}", flush=True)

    serve(lambda: HarbourServer(vessels(chosen.vessels), chosen.port), chosen.port, tell)


if __name__ == "__main__":
    main()
