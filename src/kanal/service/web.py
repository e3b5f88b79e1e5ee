"""The page of a service: what runs, what ran, and why; and what may be done from it."""

from __future__ import annotations

import asyncio
import datetime as dt
import hmac
import io
import secrets
import threading
import time
from collections.abc import AsyncIterator, Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import jinja2
import uvicorn
from msgspec import Struct, field
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.middleware.trustedhost import TrustedHostMiddleware
from starlette.requests import Request
from starlette.responses import (
    HTMLResponse,
    JSONResponse,
    PlainTextResponse,
    RedirectResponse,
    Response,
    StreamingResponse,
)
from starlette.routing import Route

from kanal.connections.secrets import secret_value
from kanal.core.errors import KanalError, duration, masked
from kanal.definition.secrets import Secret
from kanal.explore.reject_files import reject_documents, write_csv
from kanal.runlog import RunGlance, RunRecord, clock
from kanal.service import views
from kanal.service.drawings import SIGNS
from kanal.service.due import first
from kanal.service.metrics import metrics_text
from kanal.service.served import Served
from kanal.service.service import Service, utc_now
from kanal.version import VERSION

PAGES = Path(__file__).parent / "pages"
#: Seconds for which what was made for one viewer is good for others too.
_FRESH = 1.0
_SECURITY = {
    "Content-Security-Policy": "default-src 'none'; style-src 'self'; script-src 'self'; img-src 'self' data:; "
    "connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cache-Control": "no-store",
}
#: The fewest characters of a token that cannot be guessed.
_TOKEN = 16


def environment() -> jinja2.Environment:
    """The templates, which escape whatever is put into them."""
    made = jinja2.Environment(
        loader=jinja2.FileSystemLoader(PAGES), autoescape=True, trim_blocks=True, lstrip_blocks=True,
        undefined=jinja2.StrictUndefined,
    )  # fmt: skip
    made.filters |= {"duration": duration, "number": lambda value: f"{value:,}", "explained": views.explained}
    made.globals |= {"signs": SIGNS, "version": VERSION}
    return made


class JobRow(Struct, frozen=True):
    """A job as the first page shows it."""

    name: str
    state: str
    said: str
    glances: list[RunGlance]
    next: dt.datetime | None
    follows: str
    running: views.RunView | None

    @property
    def last(self) -> RunGlance | None:
        """Its latest run that has ended."""
        return next((run for run in reversed(self.glances) if run.status != "running"), None)


class _Session(Struct):
    """Someone who has shown the token: what their forms carry, and until when."""

    form: str = field(default_factory=lambda: secrets.token_urlsafe(24))
    until: float = field(default_factory=lambda: time.monotonic() + 12 * 3600)


class Page:
    """The page of a service at an address; actions are possible where a token is kept in a secret."""

    def __init__(self, service: Service, listen: str, port: int, allow_actions: str | None = None) -> None:
        self.service = service
        self.listen, self.port = listen, port
        self.token = _token_of(allow_actions) if allow_actions else None
        self._sessions: dict[str, _Session] = {}
        self._templates = environment()
        self._kept: dict[str, tuple[float, Any]] = {}
        self._keeping = threading.Lock()
        self._server: uvicorn.Server | None = None

    @property
    def address(self) -> str:
        """Where the page is."""
        host = f"[{self.listen}]" if ":" in self.listen else self.listen
        return f"http://{host}:{self.port}/"

    # --- the server ------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Answer requests, in a thread of its own; raises KanalError where the address cannot be had."""
        config = uvicorn.Config(
            self.app(), host=self.listen, port=self.port, log_level="critical", access_log=False, lifespan="off",
            server_header=False, timeout_graceful_shutdown=1,
        )  # fmt: skip
        try:
            socket = config.bind_socket()
        except (SystemExit, OSError):
            raise KanalError(
                f"Nothing can listen at {self.address}: the port is taken, or the address is not one of this machine",
                "name another --port or --listen",
            ) from None
        self._server = uvicorn.Server(config)
        thread = threading.Thread(target=self._server.run, args=([socket],), name="service-page", daemon=True)
        thread.start()
        while not self._server.started and thread.is_alive():
            time.sleep(0.01)

    def stop(self) -> None:
        """Answer no more."""
        if self._server is not None:
            self._server.should_exit = True

    def app(self) -> Starlette:
        """What answers requests."""
        local = self.listen in ("127.0.0.1", "::1", "localhost")
        hosts = ["127.0.0.1", "localhost", "[::1]"] if local else ["*"]
        return Starlette(
            routes=[
                Route("/", self._overview),
                # A name may have a / in it, so the longer paths come first.
                Route("/jobs/{name:path}/runs/{run:int}/rejects.csv", self._rejects_file),
                Route("/jobs/{name:path}/runs/{run:int}/rejects", self._rejects),
                Route("/jobs/{name:path}/runs/{run:int}", self._run),
                Route("/jobs/{name:path}/text", self._text),
                Route("/jobs/{name:path}/lineage", self._lineage),
                Route("/jobs/{name:path}/act", self._act, methods=["POST"]),
                Route("/jobs/{name:path}", self._job),
                Route("/sign-in", self._sign_in, methods=["GET", "POST"]),
                Route("/sign-out", self._sign_out, methods=["POST"]),
                Route("/changes", self._changes),
                Route("/metrics", self._metrics),
                Route("/health", self._health),
                Route("/page.css", _file("page.css", "text/css")),
                Route("/page.js", _file("page.js", "text/javascript")),
                Route("/mark.svg", _file("mark.svg", "image/svg+xml")),
            ],
            middleware=[Middleware(TrustedHostMiddleware, allowed_hosts=hosts)],
            exception_handlers={HTTPException: self._wrong, KanalError: self._failed, Exception: self._failed},
        )

    # --- making pages ----------------------------------------------------------------------------------------------

    def _kept_for_a_moment(self, key: str, make: Callable[[], Any]) -> Any:
        """What a function gives, made once for all who ask at about the same time."""
        kept = self._kept.get(key)
        if kept is not None and time.monotonic() - kept[0] < _FRESH:
            return kept[1]
        with self._keeping:
            kept = self._kept.get(key)
            if kept is None or time.monotonic() - kept[0] >= _FRESH:
                made = make()
                if len(self._kept) > 500:
                    self._kept.clear()
                self._kept[key] = kept = (time.monotonic(), made)
            return kept[1]

    def _html(self, request: Request, template: str, status: int = 200, **values: Any) -> Response:
        session = self._session(request)
        text = self._templates.get_template(template).render(
            now=utc_now(), ago=views.ago, allows=self.token is not None, signed_in=session is not None,
            form=session.form if session is not None else "", path=request.url.path, **values,
        )  # fmt: skip
        return HTMLResponse(text, status, _SECURITY)

    async def _shown(self, request: Request, template: str, make: Callable[[], dict[str, Any]]) -> Response:
        """A page of what a function gives; kept for a moment for those who look only."""

        def made() -> Response:
            if self._session(request) is not None:
                return self._html(request, template, **make())
            key = f"{request.url.path}?{request.url.query}"
            return self._kept_for_a_moment(key, lambda: self._html(request, template, **make()))  # type: ignore[no-any-return]

        return await run_in_threadpool(made)

    def _served(self, request: Request) -> Served:
        served = self.service.served.get(request.path_params["name"])
        if served is None:
            raise HTTPException(404, "There is no such job here.")
        return served

    def _record(self, served: Served, request: Request) -> RunRecord:
        try:
            record = served.log.run(request.path_params["run"])
        except KanalError as error:
            raise HTTPException(404, str(error)) from None
        if record.job != served.name:
            raise HTTPException(404, f"That run is not one of {served.name}.")
        return record

    # --- pages -----------------------------------------------------------------------------------------------------

    async def _overview(self, request: Request) -> Response:
        return await self._shown(request, "overview.html", self._overview_values)

    def _overview_values(self) -> dict[str, Any]:
        glances: dict[str, list[RunGlance]] = {}
        for log in self.service.logs():
            glances |= log.glance([one.name for one in self.service.served.values() if one.log is log], views.MARKS)
        rows = [self._row(served, glances[served.name]) for served in self.service.served.values()]
        rank = {"starting": 0, "running": 0, "stopping": 0, "broken": 1, "trouble": 1, "failed": 2}
        rows.sort(key=lambda row: (rank.get(row.state, 3), row.name))
        counts: dict[str, int] = {}
        for row in rows:
            counts[row.state] = counts.get(row.state, 0) + 1
        return {"rows": rows, "unread": {str(path): why for path, why in self.service.unread.items()},
                "counts": counts, "marks": views.MARKS}  # fmt: skip

    def _row(self, served: Served, glances: list[RunGlance]) -> JobRow:
        schedule = served.job.schedule
        ended = next((run for run in reversed(glances) if run.status != "running"), None)
        state = ended.mark if ended is not None else "waiting"
        said = ""
        running = None
        if served.trouble:
            state, said = "trouble", served.trouble
        if served.broken:
            state, said = "broken", served.broken
        if glances and glances[-1].status == "running":
            state = "running"
            running = views.run_view(served.log, served.log.run(glances[-1].run))
        state = served.changing_to(running is not None) or state
        times = first(schedule, utc_now(), 1) if schedule is not None and schedule.enabled else []
        follows = ", ".join(schedule.after_job) if schedule is not None else ""
        return JobRow(served.name, state, said, glances, times[0] if times else None, follows, running)

    async def _job(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            glances = served.log.glance([served.name], views.TRENDS)[served.name]
            schedule = served.job.schedule
            times = first(schedule, utc_now(), 5) if schedule is not None and schedule.enabled else []
            zone = schedule.zone if schedule is not None else dt.UTC
            return {
                "job": served, "row": self._row(served, glances), "runs": glances[::-1][: views.TRENDS],
                "trends": views.trends_of(glances), "schedule": schedule,
                "times": [moment.astimezone(zone) for moment in times],
                "receivers": {name: found.when for name, found in served.job.notify.items()},
            }  # fmt: skip

        return await self._shown(request, "job.html", values)

    async def _run(self, request: Request) -> Response:
        served = self._served(request)
        record = await run_in_threadpool(self._record, served, request)

        def values() -> dict[str, Any]:
            runs = served.log.is_running(served.name)
            busy = runs or served.child is not None
            return {"job": served, "run": views.run_view(served.log, record), "busy": busy,
                    "changing": served.changing_to(runs)}  # fmt: skip

        return await self._shown(request, "run.html", values)

    async def _rejects(self, request: Request) -> Response:
        served = self._served(request)
        record = await run_in_threadpool(self._record, served, request)
        chosen = {name: request.query_params.get(name) or None for name in ("step", "reason", "column")}
        page = request.query_params.get("page", "1")

        def values() -> dict[str, Any]:
            number = int(page) if page.isdigit() and len(page) < 9 else 1
            view = views.rejects_view(
                served.log, record.run, chosen["step"], chosen["reason"], chosen["column"], number
            )
            return {"job": served, "run": record, "view": view, "chosen": chosen}

        return await self._shown(request, "rejects.html", values)

    async def _rejects_file(self, request: Request) -> Response:
        served = self._served(request)
        record = await run_in_threadpool(self._record, served, request)
        chosen = {name: request.query_params.get(name) or None for name in ("step", "reason", "column")}

        def content() -> str:
            found = reject_documents(served.log, record.run, chosen.pop("step"), **chosen)
            file = io.StringIO(newline="")
            write_csv(file, found, escape_formulas=True)
            return file.getvalue()

        headers = {"Content-Disposition": f'attachment; filename="rejects-{record.run}.csv"'}
        return Response(await run_in_threadpool(content), media_type="text/csv", headers=_SECURITY | headers)

    async def _text(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            try:
                text = served.path.read_text(encoding="utf-8") if served.path.suffix == ".toml" else ""
            except (OSError, ValueError):
                text = ""
            return {"job": served, "text": masked(text)}

        return await self._shown(request, "text.html", values)

    async def _lineage(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            runs = [run for run in served.log.runs_of(served.name, 10, steps=False) if not run.is_replay]
            found = next((found for run in runs if (found := views.lineage_of(served.log, run.run))), {})
            return {"job": served, "targets": found}

        return await self._shown(request, "lineage.html", values)

    # --- actions ---------------------------------------------------------------------------------------------------

    def _session(self, request: Request) -> _Session | None:
        session = self._sessions.get(request.cookies.get("kanal-session", ""))
        return session if session is not None and session.until > time.monotonic() else None

    def _same_site(self, request: Request) -> bool:
        """True for a request that this page itself makes."""
        origin = request.headers.get("origin")
        return origin is None or origin.partition("://")[2] == request.headers.get("host")

    async def _sign_in(self, request: Request) -> Response:
        if self.token is None:
            raise HTTPException(404, "Nothing can be done from this page; see --allow-actions.")
        if request.method == "GET":
            return self._html(request, "sign_in.html", wrong=False)
        given = str((await request.form()).get("token", ""))
        if not self._same_site(request) or not hmac.compare_digest(given.encode(), self.token.encode()):
            await asyncio.sleep(1)
            return self._html(request, "sign_in.html", 403, wrong=True)
        now = time.monotonic()
        self._sessions = {key: one for key, one in self._sessions.items() if one.until > now}
        key = secrets.token_urlsafe(32)
        self._sessions[key] = _Session()
        response = RedirectResponse("/", 303, _SECURITY)
        response.set_cookie("kanal-session", key, httponly=True, samesite="strict", max_age=12 * 3600,
                            secure=request.url.scheme == "https")  # fmt: skip
        return response

    async def _sign_out(self, request: Request) -> Response:
        form = await request.form()
        self._must_be_allowed(request, str(form.get("form", "")))
        self._sessions.pop(request.cookies.get("kanal-session", ""), None)
        return RedirectResponse("/", 303, _SECURITY)

    def _must_be_allowed(self, request: Request, form: str) -> None:
        session = self._session(request)
        if (
            session is None
            or not self._same_site(request)
            or not hmac.compare_digest(form.encode(), session.form.encode())
        ):
            raise HTTPException(403, "Sign in first; nothing was done.")

    async def _act(self, request: Request) -> Response:
        served = self._served(request)
        form = await request.form()
        self._must_be_allowed(request, str(form.get("form", "")))
        act, number = str(form.get("act", "")), str(form.get("run", ""))
        if act not in ("run", "resume", "replay", "stop") or not (number == "" or number.isdigit()):
            raise HTTPException(400, "There is no such action.")
        run = int(number) if number else None
        where = request.client.host if request.client is not None else "?"
        await run_in_threadpool(self.service.act, served, act, run, f"the page, from {where}")
        self._kept.clear()
        return RedirectResponse(f"/jobs/{quote(served.name, safe='')}", 303, _SECURITY)

    # --- for programs ----------------------------------------------------------------------------------------------

    def _pulse(self) -> str:
        parts = [str(log.pulse()) for log in self.service.logs()]
        for served in self.service.served.values():
            parts.append(f"{served.broken}{served.trouble}{served.child is not None}{served.changing_to(True)}")
        return str(hash("|".join(parts)))

    async def _changes(self, request: Request) -> Response:
        """Server-sent events: one as soon as something has changed."""

        async def events() -> AsyncIterator[str]:
            seen, quiet = None, 0
            while not await request.is_disconnected() and not self.service.stopping:
                try:
                    now = await run_in_threadpool(self._kept_for_a_moment, "pulse", self._pulse)
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

        return StreamingResponse(events(), media_type="text/event-stream", headers=_SECURITY)

    async def _metrics(self, _: Request) -> Response:
        text, kind = await run_in_threadpool(self._kept_for_a_moment, "metrics", lambda: metrics_text(self.service))
        return Response(text, headers=_SECURITY | {"Content-Type": kind})

    async def _health(self, _: Request) -> Response:
        def state() -> dict[str, Any]:
            jobs = list(self.service.served.values())
            for log in self.service.logs():
                log.pulse()
            return {
                "status": "ok", "version": VERSION, "jobs": len(jobs),
                "broken": [*sorted(one.name for one in jobs if one.broken), *map(str, self.service.unread)],
                "running": sorted(served.name for served in jobs if served.child is not None),
                "since": self.service.began.isoformat(), "now": clock.now().isoformat() + "Z",
            }  # fmt: skip

        try:
            return JSONResponse(await run_in_threadpool(state), headers=_SECURITY)
        except KanalError as error:
            return JSONResponse({"status": "failed", "error": str(error)}, 503, _SECURITY)

    # --- what goes wrong -------------------------------------------------------------------------------------------

    async def _wrong(self, request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        said = error.detail if error.detail != "Not Found" else "There is no such page."
        return self._html(request, "error.html", error.status_code, said=said)

    async def _failed(self, request: Request, error: Exception) -> Response:
        if not isinstance(error, KanalError):
            return PlainTextResponse("this should not happen; please report it", 500, _SECURITY)
        return self._html(request, "error.html", 503, said=str(error))


def _file(name: str, kind: str) -> Callable[[Request], Any]:
    content = (PAGES / name).read_bytes()

    async def answer(_: Request) -> Response:
        return Response(content, media_type=kind, headers=_SECURITY | {"Cache-Control": "max-age=300"})

    return answer


def _token_of(place: str) -> str:
    """The token of an environment variable, or of a file after file:, or of the keyring after keyring:."""
    kind, colon, rest = place.partition(":")
    secret = Secret(**{kind: rest}) if colon and kind in ("file", "keyring", "env") else Secret(env=place)
    token = secret_value(secret, "--allow-actions", Path.cwd(), "kanal").strip()
    if len(token) < _TOKEN:
        raise KanalError(
            f"the token of --allow-actions has fewer than {_TOKEN} characters, and could be guessed",
            "take a longer one, such as of: openssl rand -hex 24",
        )
    return token
