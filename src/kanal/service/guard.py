"""Keeps the page from using up what the schedule needs: bounds its connections, how long they wait, and forms."""

from __future__ import annotations

import importlib
from asyncio import Transport
from collections.abc import Mapping
from typing import Any
from urllib.parse import parse_qsl

from starlette.exceptions import HTTPException
from starlette.requests import Request
from uvicorn.protocols.http.h11_impl import H11Protocol

#: Connections to the page at once, and files that this process may open for it and for runs.
MOST_CONNECTIONS, _FILES = 1_000, 8_192
#: Seconds in which a request has to arrive: its headers, and then its body.
PATIENCE = 10.0
#: Bytes and fields of a form at most.
_FORM_BYTES, _FIELDS = 20_000, 20


def connections_allowed() -> int:
    """How many connections there may be at once; this process may then open as many files as the system allows."""
    try:
        resource: Any = importlib.import_module("resource")
    except ImportError:  # a system without such a limit
        return MOST_CONNECTIONS
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = _FILES if hard == resource.RLIM_INFINITY else min(hard, _FILES)
    if soft != resource.RLIM_INFINITY and soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
        soft = wanted
    return MOST_CONNECTIONS if soft == resource.RLIM_INFINITY else min(MOST_CONNECTIONS, soft // 2)


class GuardedProtocol(H11Protocol):
    """HTTP for so many connections at once. One that sends no request in time, or not all of it, is closed."""

    most = MOST_CONNECTIONS

    def connection_made(self, transport: Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        if len(self.connections) > self.most:
            transport.close()
        else:
            self.loop.call_later(PATIENCE, self._close_if_idle)

    def _close_if_idle(self) -> None:
        if self.transport.is_closing():
            return
        cycle = self.cycle
        if cycle is None or cycle.response_complete or cycle.more_body:
            self.transport.close()
        else:  # it is being answered, for instance with events
            self.loop.call_later(PATIENCE, self._close_if_idle)


async def small_form(request: Request) -> Mapping[str, str]:
    """The fields of a form of the page; raises HTTPException for a body that is larger than those."""
    body = b""
    async for part in request.stream():
        body += part
        if len(body) > _FORM_BYTES:
            raise HTTPException(413, "The form is larger than those of this page; nothing was done.")
    try:
        return dict(parse_qsl(body.decode("utf-8", "replace"), keep_blank_values=True, max_num_fields=_FIELDS))
    except ValueError:
        raise HTTPException(400, "The form has more fields than those of this page; nothing was done.") from None
