"""The page of a service: what runs, what ran, and why; and what may be done from it."""

from __future__ import annotations

import asyncio
import datetime as dt
import io
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import jinja2
import uvicorn
from msgspec import Struct
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import (
    HTMLResponse,
    PlainTextResponse,
    RedirectResponse,
    Response,
)
from starlette.routing import Route

from kanal.core.errors import KanalError, duration
from kanal.definition.shown import shown_job
from kanal.explore.reject_files import reject_documents, write_csv
from kanal.runlog import RunGlance, RunRecord
from kanal.service import views
from kanal.service.doors import Doors, PageAccess
from kanal.service.drawings import SIGNS
from kanal.service.due import first
from kanal.service.feeds import SECURITY, Cache, Feeds
from kanal.service.guard import GuardedProtocol, connections_allowed, small_form
from kanal.service.served import Served
from kanal.service.service import Service, utc_now
from kanal.service.sessions import COOKIE, LASTS
from kanal.version import VERSION

PAGES = Path(__file__).parent / "pages"


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


class Page:
    """The page of a service, for those who have access to it."""

    def __init__(self, service: Service, access: PageAccess) -> None:
        """Raises KanalError if a token is needed and is missing, cannot be had, or is too short."""
        self.service = service
        self.access = access
        self._sessions = access.sessions()
        self._templates = environment()
        self._cache = Cache()
        self._feeds = Feeds(service, self._cache)
        self._server: uvicorn.Server | None = None

    @property
    def address(self) -> str:
        """Where the page is."""
        return self.access.address

    # --- the server ------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Answer requests, in a thread of its own; raises KanalError if the address cannot be had."""
        protocol = type("Protocol", (GuardedProtocol,), {"most": connections_allowed()})
        config = uvicorn.Config(
            self.app(), host=self.access.listen, port=self.access.port, log_level="critical", access_log=False,
            lifespan="off", server_header=False, timeout_graceful_shutdown=1, http=protocol,
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
                Route("/changes", self._feeds.changes),
                Route("/metrics", self._feeds.metrics),
                Route("/health", self._feeds.health),
                Route("/page.css", _file("page.css", "text/css")),
                Route("/page.js", _file("page.js", "text/javascript")),
                Route("/mark.svg", _file("mark.svg", "image/svg+xml")),
            ],
            middleware=[Middleware(Doors, access=self.access, sessions=self._sessions)],
            exception_handlers={HTTPException: self._wrong, KanalError: self._failed, Exception: self._failed},
        )

    # --- making pages ----------------------------------------------------------------------------------------------

    def _html(self, request: Request, template: str, status: int = 200, **values: Any) -> Response:
        session = self._sessions.of(request)
        text = self._templates.get_template(template).render(
            now=utc_now(), ago=views.ago, allows=self._sessions.tokens, signed_in=session is not None,
            acts=session is not None and session.acts,
            form=session.form if session is not None else "", path=request.url.path, **values,
        )  # fmt: skip
        return HTMLResponse(text, status, SECURITY)

    async def _shown(self, request: Request, template: str, make: Callable[[], dict[str, Any]]) -> Response:
        """A page of what a function gives; kept for a moment for those who look only."""

        def made() -> Response:
            if self._sessions.of(request) is not None:
                return self._html(request, template, **make())
            key = f"{request.url.path}?{request.url.query}"
            return self._cache.get(key, lambda: self._html(request, template, **make()))  # type: ignore[no-any-return]

        return await run_in_threadpool(made)

    def _served(self, request: Request) -> Served:
        served = self.service.served.get(request.path_params["name"])
        if served is None:
            raise HTTPException(404, "There is no such job here.")
        return served

    def _record(self, served: Served, request: Request) -> RunRecord:
        try:
            record = served.log.past.run(request.path_params["run"])
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
            glances |= log.past.glance(
                [one.name for one in self.service.served.values() if one.log is log], views.MARKS
            )
        rows = [self._row(served, glances[served.name]) for served in self.service.served.values()]
        rank = {"starting": 0, "running": 0, "stopping": 0, "broken": 1, "trouble": 1, "failed": 2}
        rows.sort(key=lambda row: (rank.get(row.state, 3), row.name))
        counts: dict[str, int] = {}
        for row in rows:
            counts[row.state] = counts.get(row.state, 0) + 1
        return {"rows": rows, "unread": {str(path): why for path, why in self.service.jobs.unread.items()},
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
            running = views.run_view(served.log, served.log.past.run(glances[-1].run))
        state = served.changing_to(running is not None) or state
        times = first(schedule, utc_now(), 1) if schedule is not None and schedule.enabled else []
        follows = ", ".join(schedule.after_job) if schedule is not None else ""
        return JobRow(served.name, state, said, glances, times[0] if times else None, follows, running)

    async def _job(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            glances = served.log.past.glance([served.name], views.TRENDS)[served.name]
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
            runs = served.log.past.is_running(served.name)
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
            number = int(page) if page.isascii() and page.isdecimal() and len(page) < 9 else 1
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
        return Response(await run_in_threadpool(content), media_type="text/csv", headers=SECURITY | headers)

    async def _text(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            try:
                text = served.path.read_text(encoding="utf-8") if served.path.suffix == ".toml" else ""
            except (OSError, ValueError):
                text = ""
            return {"job": served, "text": shown_job(text)}

        return await self._shown(request, "text.html", values)

    async def _lineage(self, request: Request) -> Response:
        served = self._served(request)

        def values() -> dict[str, Any]:
            runs = [run for run in served.log.past.runs_of(served.name, 10, steps=False) if not run.is_replay]
            found = next((found for run in runs if (found := views.lineage_of(served.log, run.run))), {})
            return {"job": served, "targets": found}

        return await self._shown(request, "lineage.html", values)

    # --- actions ---------------------------------------------------------------------------------------------------

    async def _sign_in(self, request: Request) -> Response:
        if not self._sessions.tokens:
            raise HTTPException(404, "Nothing can be done from this page; see --allow-actions.")
        private = self._sessions.private
        if request.method == "GET":
            return self._html(request, "sign_in.html", wrong=False, private=private)
        key = self._sessions.begin(request, (await small_form(request)).get("token", ""))
        if key is None:
            await asyncio.sleep(1)
            return self._html(request, "sign_in.html", 403, wrong=True, private=private)
        response = RedirectResponse("/", 303, SECURITY)
        response.set_cookie(COOKIE, key, httponly=True, samesite="strict", max_age=LASTS,
                            secure=request.url.scheme == "https")  # fmt: skip
        return response

    async def _sign_out(self, request: Request) -> Response:
        self._sessions.require_session(request)
        form = await small_form(request)
        self._sessions.require(request, form.get("form", ""))
        self._sessions.end(request)
        return RedirectResponse("/", 303, SECURITY)

    async def _act(self, request: Request) -> Response:
        served = self._served(request)
        self._sessions.require_actor(request)
        form = await small_form(request)
        self._sessions.require(request, form.get("form", ""))
        act, number = form.get("act", ""), form.get("run", "")
        if act not in ("run", "resume", "replay", "stop") or not (
            number == "" or (number.isascii() and number.isdecimal() and len(number) < 19)
        ):
            raise HTTPException(400, "There is no such action.")
        run = int(number) if number else None
        where = request.client.host if request.client is not None else "?"
        await run_in_threadpool(self.service.act, served, act, run, f"the page, from {where}")
        self._cache.clear()
        return RedirectResponse(f"/jobs/{quote(served.name, safe='')}", 303, SECURITY)

    # --- what goes wrong -------------------------------------------------------------------------------------------

    async def _wrong(self, request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        said = error.detail if error.detail != "Not Found" else "There is no such page."
        return self._html(request, "error.html", error.status_code, said=said)

    async def _failed(self, request: Request, error: Exception) -> Response:
        if not isinstance(error, KanalError):
            return PlainTextResponse("this should not happen; please report it", 500, SECURITY)
        return self._html(request, "error.html", 503, said=str(error))


def _file(name: str, kind: str) -> Callable[[Request], Any]:
    content = (PAGES / name).read_bytes()

    async def answer(_: Request) -> Response:
        return Response(content, media_type=kind, headers=SECURITY | {"Cache-Control": "max-age=300"})

    return answer
