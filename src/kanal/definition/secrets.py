"""Where secrets are kept, and validators that several models share."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, Self

from pydantic import model_validator

from kanal.definition.base import Model


class Secret(Model):
    """Where a password is kept: an environment variable, a file, or a service and user of the system's keyring."""

    env: str | None = None
    file: str | None = None
    keyring: str | None = None
    user: str | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        given = [name for name in ("env", "file", "keyring") if getattr(self, name) is not None]
        if len(given) != 1:
            said = f"{' and '.join(given)} are given" if given else "no place is given"
            raise ValueError(said + ': name one, { env = "NAME" }, { file = "PATH" } or { keyring = "SERVICE" }')
        if self.user is not None and self.keyring is None:
            raise ValueError("user is given without keyring: name the service by keyring = …, or remove user")
        return self


def no_plain_secret(what: str) -> Callable[[Any], Any]:
    """A validator that refuses a secret that is in the job itself."""

    def refused(value: Any) -> Any:
        if isinstance(value, str):
            raise ValueError(
                f'{what} does not belong in the job: write {{ env = "NAME" }}, {{ file = "PATH" }} or '
                '{ keyring = "SERVICE" }'
            )
        return value

    return refused


def list_of(value: Any) -> Any:
    """A text as a list of one, for a validator."""
    return [value] if isinstance(value, str) else value


def is_share(text: str) -> bool:
    """True for a share such as "1%"."""
    return re.fullmatch(r"[0-9]+(\.[0-9]+)?\s*%", text.strip(), re.ASCII) is not None


def share_of(text: str) -> float:
    """The number that a share such as "50%" means: 0.5."""
    return float(text.rstrip("% ")) / 100


def share_or_count(value: Any) -> Any:
    """A number of rows or a share of them, for a validator."""
    if isinstance(value, bool) or not isinstance(value, int | str):
        raise ValueError('it is no number of rows: write a whole number, or a share such as "1%"')
    if isinstance(value, str) and not is_share(value):
        raise ValueError(f'"{value}" is neither a number of rows nor a share such as "1%"')
    if isinstance(value, int) and value < 0:
        raise ValueError("it is less than 0: write 0 or more")
    return value


_LEAST = re.compile(r"[0-9]+(?:\.[0-9]+)? ?%(?: of (?:usual|last run))?")


def least_rows(value: Any) -> Any:
    """Validate a number of rows, or a share of the target's rows, of the last run's rows or of the usual number."""
    if isinstance(value, str) and not _LEAST.fullmatch(value):
        raise ValueError(
            f'"{value}" is neither a number of rows nor a share: write "80%" (of the rows that the target has), '
            '"80% of last run" or "50% of usual"'
        )
    return value if isinstance(value, str) else share_or_count(value)


def within(limit: int | str | None, rows: int, whole: int) -> bool:
    """True if this many rows of a whole are no more than a number or a share of it, such as "1%"."""
    if limit is None:
        return True
    return rows <= (share_of(limit) * whole if isinstance(limit, str) else limit)
