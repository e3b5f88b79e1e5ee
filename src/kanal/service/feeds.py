"""What the page gives to programs: changes as they happen, metrics, and whether the service is well."""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import AsyncIterator, Callable
from pathlib import Path
from typing import Any

from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import (
    JSONResponse,
    Response,
    StreamingResponse,
)

from kanal.core.errors import KanalError
from kanal.runlog import clock
from kanal.service.metrics import metrics_text
from kanal.service.service import Service
from kanal.version import VERSION

PAGES = Path(__file__).parent / "pages"
SECURITY = {
    "Content-Security-Policy": "default-src 'none'; style-src 'self'; script-src 'self'; img-src 'self' data:; "
    "connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cache-Control": "no-store",
}
#: Seconds for which what was made for one viewer is good for others too.
_FRESH = 1.0


class Cache:
    """Keeps what was computed for a moment, for all who ask at about the same time."""

    def __init__(self) -> None:
        self._kept: dict[str, tuple[float, Any]] = {}
        self._lock = threading.Lock()
        #: Each result has a lock of its own, so that one that takes long holds up nobody who asks for others.
        self._locks: dict[str, threading.Lock] = {}

    def get(self, key: str, compute: Callable[[], Any]) -> Any:
        """The result of a function, computed once by one of those who ask."""
        kept = self._fresh(key)
        if kept is None:
            with self._lock:
                lock = self._locks.setdefault(key, threading.Lock())
            with lock:
                kept = self._fresh(key)
                if kept is None:
                    found = compute()
                    kept = (time.monotonic(), found)
                    self._keep(key, kept)
        return kept[1]

    def _fresh(self, key: str) -> tuple[float, Any] | None:
        kept = self._kept.get(key)
        return kept if kept is not None and time.monotonic() - kept[0] < _FRESH else None

    def _keep(self, key: str, kept: tuple[float, Any]) -> None:
        with self._lock:
            if len(self._kept) > 500:
                self._kept.clear()
                self._locks = {name: lock for name, lock in self._locks.items() if lock.locked()}
            self._kept[key] = kept

    def clear(self) -> None:
        """Forget everything."""
        self._kept.clear()


class Feeds:
    """Answers programs."""

    def __init__(self, service: Service, cache: Cache) -> None:
        self._service, self._cache = service, cache

    def _pulse(self) -> str:
        parts = [str(log.past.pulse()) for log in self._service.logs()]
        for served in self._service.served.values():
            parts.append(f"{served.broken}{served.trouble}{served.child is not None}{served.changing_to(True)}")
        return str(hash("|".join(parts)))

    async def changes(self, request: Request) -> Response:
        """Server-sent events: one as soon as something has changed."""

        async def events() -> AsyncIterator[str]:
            seen, quiet = None, 0
            while not await request.is_disconnected() and not self._service.stopping:
                try:
                    now = await run_in_threadpool(self._cache.get, "pulse", self._pulse)
                except KanalError:
                    now = seen
                if now != seen:
                    if seen is not None:
                        yield "event: change\ndata: 1\n\n"
                    seen, quiet = now, 0
                elif quiet >= 15:
                    yield ": still here\n\n"
                    quiet = 0
                quiet += 1
                await asyncio.sleep(1)

        return StreamingResponse(events(), media_type="text/event-stream", headers=SECURITY)

    async def metrics(self, _: Request) -> Response:
        """The metrics of all jobs."""
        text, kind = await run_in_threadpool(self._cache.get, "metrics", lambda: metrics_text(self._service))
        return Response(text, headers=SECURITY | {"Content-Type": kind})

    async def health(self, _: Request) -> Response:
        """Whether the run logs answer, and which jobs are broken or running."""

        def state() -> dict[str, Any]:
            jobs = list(self._service.served.values())
            for log in self._service.logs():
                log.past.pulse()
            return {
                "status": "ok", "version": VERSION, "jobs": len(jobs),
                "broken": [*sorted(one.name for one in jobs if one.broken), *map(str, self._service.jobs.unread)],
                "running": sorted(served.name for served in jobs if served.child is not None),
                "since": self._service.began.isoformat(), "now": clock.now().isoformat() + "Z",
            }  # fmt: skip

        try:
            return JSONResponse(await run_in_threadpool(state), headers=SECURITY)
        except KanalError as error:
            return JSONResponse({"status": "failed", "error": str(error)}, 503, SECURITY)
