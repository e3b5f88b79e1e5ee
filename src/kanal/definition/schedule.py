"""When a job runs by itself, and who hears of it: the models of [schedule] and [notify]."""

from __future__ import annotations

import datetime as dt
import zoneinfo
from typing import Annotated, Literal, Self

from pydantic import BeforeValidator, Field, field_validator, model_validator

from kanal.core.errors import KanalError
from kanal.core.windows import Step, parse_step, parse_time
from kanal.definition.base import Model, known
from kanal.definition.secrets import Secret, is_share, list_of, no_plain_secret, share_or_count

_known_step, _known_time = known(parse_step), known(parse_time)


class Resumption(Model):
    """How often a failed run is resumed by itself, and after how long each time."""

    times: int = Field(default=2, ge=0, le=100)
    after: str = "10 minutes"

    _after_is_known = field_validator("after")(_known_time)

    @property
    def pause(self) -> dt.timedelta:
        """The time between the end of a failed run and its resumption."""
        return parse_time(self.after)


class Schedule(Model):
    """When a job runs by itself: at the times of a cron expression, every so often, or after other jobs."""

    cron: str | None = None
    every: str | None = None
    after_job: Annotated[list[str], BeforeValidator(list_of)] = Field(default_factory=list)
    time_zone: str = "UTC"
    missed: Literal["once", "each", "skip"] = "once"
    resume: Resumption = Field(default_factory=Resumption)
    window: str | None = None
    first_window: dt.datetime | dt.date | None = None
    finish_by: dt.time | None = None
    enabled: bool = True

    _windows_are_known = field_validator("window")(_known_step)

    @field_validator("every")
    @classmethod
    def _known_every(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                parse_time(value)
            except KanalError as error:
                remedy = 'write one such as "15 minutes", or a cron expression for days and months'
                raise ValueError(f"{error.what}: {remedy}") from None
            _known_step(value)  # which is not zero
        return value

    @field_validator("time_zone")
    @classmethod
    def _known_zone(cls, value: str) -> str:
        try:
            zoneinfo.ZoneInfo(value)
        except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
            raise ValueError(f'"{value}" is not a time zone: write one such as "Europe/Amsterdam" or "UTC"') from None
        return value

    @field_validator("cron")
    @classmethod
    def _known_cron(cls, value: str | None) -> str | None:
        if value is None:
            return value
        if len(value.split()) != 5:
            raise ValueError(
                f'"{value}" is not a cron expression: write minute, hour, day, month and weekday, such as "15 2 * * *"'
            )
        try:
            import cronsim
        except ImportError:  # then no service runs it
            return value
        try:
            next(cronsim.CronSim(value, dt.datetime(2000, 1, 1)))
        except (cronsim.CronSimError, StopIteration) as error:
            why = f" ({error})" if str(error) else ""
            raise ValueError(
                f'"{value}" is not a cron expression{why}: write minute, hour, day, month and weekday, such as '
                '"15 2 * * *"'
            ) from None
        return value

    @model_validator(mode="after")
    def _one(self) -> Self:
        given = [name for name in ("cron", "every", "after_job") if getattr(self, name)]
        if len(given) != 1:
            said = f"{' and '.join(given)} are given" if given else "neither cron, every nor after_job is given"
            raise ValueError(f"{said}: give one of them")
        if self.first_window is not None and self.window is None:
            raise ValueError('first_window is given without window: add a window such as "1 day", or remove it')
        if isinstance(self.first_window, dt.datetime) and self.first_window.tzinfo is not None:
            raise ValueError("first_window has a zone: write it in the time of time_zone, without one")
        return self

    @property
    def zone(self) -> zoneinfo.ZoneInfo:
        """The time zone in which the expression is meant."""
        return zoneinfo.ZoneInfo(self.time_zone)

    @property
    def step(self) -> Step | None:
        """The length of a window."""
        return parse_step(self.window) if self.window is not None else None

    @property
    def identity(self) -> str:
        """What tells a schedule from one that has other times."""
        return repr((self.cron, self.every, self.after_job, self.time_zone, self.window, self.first_window))


#: What a message can be about.
When = Literal[
    "failed", "recovered", "rejected", "fewer_rows", "more_rows", "late", "nothing_ran", "succeeded", "broken"
]


def _a_list(value: object) -> object:
    return [value] if not isinstance(value, list) else value


class Notify(Model):
    """Who is told what of a job: `to` are addresses, kept as secrets; `when` what is told."""

    to: Annotated[list[Annotated[Secret, BeforeValidator(no_plain_secret("an address"))]], BeforeValidator(_a_list),
                  Field(min_length=1)]  # fmt: skip
    when: Annotated[list[When], BeforeValidator(list_of), Field(min_length=1)] = ["failed", "recovered"]  # noqa: RUF012
    rejects_over: Annotated[int | str, BeforeValidator(share_or_count)] = 0
    fewer_than: str = "50%"
    more_than: str = "200%"
    silent_for: str = "1 day"

    @field_validator("fewer_than", "more_than")
    @classmethod
    def _a_share(cls, value: str) -> str:
        if not is_share(value):
            raise ValueError(f'"{value}" is no share of the usual rows: write one such as "50%"')
        return value

    _silent_for_is_known = field_validator("silent_for")(_known_time)
