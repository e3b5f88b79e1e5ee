"""The connections of a job, and its run log."""

from __future__ import annotations

import datetime as dt
import re
from contextlib import suppress
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, field_validator, model_validator

from kanal.core.errors import KanalError, masked, shortened
from kanal.core.windows import parse_time
from kanal.definition.base import Model
from kanal.definition.resources import Resource, SignIn
from kanal.definition.secrets import Secret, no_plain_secret


def _as_float(value: Any) -> Any:
    return float(value) if isinstance(value, int) and not isinstance(value, bool) else value


Seconds = Annotated[float | None, BeforeValidator(_as_float), Field(gt=0)]


def is_time(text: str) -> bool:
    """True for a length of time, such as `2 hours`."""
    with suppress(KanalError):
        parse_time(text)
        return True
    return False


class Connection(Model):
    """A named database, by SQLAlchemy URL; `${NAME}` and `${NAME:-default}` in it are environment variables.

    `connect_timeout` and `lock_timeout` are seconds; `max_parallel` is how many steps may use it at once.
    """

    url: str
    password: Annotated[Secret | None, BeforeValidator(no_plain_secret("a password"))] = None
    connect_timeout: Seconds = None
    lock_timeout: Seconds = None
    reached_from: str | None = None
    links: Literal["follow"] | None = None
    max_parallel: int | None = Field(default=None, ge=1)
    sign_in: SignIn | None = None
    resource: dict[str, Resource] = Field(default_factory=dict)
    openapi: str | None = None

    @property
    def openapi_file(self) -> str | None:
        """The path of the OpenAPI document, if it is a file."""
        return None if self.openapi is None or "://" in self.openapi else self.openapi

    @property
    def is_api(self) -> bool:
        """True for an HTTP API."""
        return bool(self.resource) or self.openapi is not None

    @model_validator(mode="after")
    def _an_api(self) -> Self:
        if self.sign_in is not None and not self.is_api:
            raise ValueError("sign_in is for an HTTP API: add a resource or openapi, or remove it")
        if self.is_api and not re.match(r"https?://|\$\{", self.url):
            raise ValueError("resources are those of an HTTP API: its url begins with https://")
        return self

    def __repr_args__(self) -> list[tuple[str, Any]]:
        return [("url", redacted(self.url)), ("password", self.password)]


def redacted(url: str) -> str:
    """A URL with *** in place of what may be secret in it."""
    return masked(url)


class RunLog(Model):
    """The database that keeps the run log; of each job this many runs, and of each step so many rejected rows."""

    url: str = "sqlite:///kanal-runs.db"
    password: Annotated[Secret | None, BeforeValidator(no_plain_secret("a password"))] = None
    keep_runs: int | str | None = None
    keep_rejects: int = Field(default=100_000, ge=0)

    @field_validator("keep_runs")
    @classmethod
    def _known_number(cls, value: int | str | None) -> int | str | None:
        if isinstance(value, str) and not is_time(value):
            raise ValueError(f'"{shortened(value, 40)}" is neither a number of runs nor a time: write 90, or "90 days"')
        if isinstance(value, int) and (isinstance(value, bool) or value < 1):
            raise ValueError(f"{value} is less than 1: write 1 or more")
        return value

    @property
    def kept(self) -> int | dt.timedelta | None:
        """How many runs of a job are kept, or for how long; None for all, for ever."""
        return parse_time(self.keep_runs) if isinstance(self.keep_runs, str) else self.keep_runs

    def __repr_args__(self) -> list[tuple[str, Any]]:
        return [("url", redacted(self.url))]
