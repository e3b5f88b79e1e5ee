"""The base of all models of a job."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from pydantic import BaseModel, ConfigDict, ValidationError

from kanal.core.errors import KanalError, masked
from kanal.core.types import parse_type
from kanal.definition.problems import JobError

if TYPE_CHECKING:
    _Checked = BaseModel
else:

    class _Made(type(BaseModel)):
        """Makes a model of keyword arguments; what is wrong with them is a JobError, as it is in a file."""

        def __call__(cls, *arguments, **named):
            try:
                return super().__call__(*arguments, **named)
            except ValidationError as error:
                from kanal.definition.mistakes import problems_of

                raise JobError(problems_of(error, cls)) from None

    class _Checked(BaseModel, metaclass=_Made):
        pass


def known(parse: Callable[[str], object]) -> Callable[[str | None], str | None]:
    """A validator of texts that a function can read; what it says of others is a ValueError."""

    def validated(value: str | None) -> str | None:
        if value is not None:
            try:
                parse(value)
            except KanalError as error:
                raise ValueError(f"{error.what}: {error.remedy}") from None
        return value

    return validated


known_type = known(parse_type)


class Model(_Checked):
    """Base of all models: unknown keys are errors, and a thing once made does not change."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, strict=True)

    def __repr__(self) -> str:
        return masked(super().__repr__())

    __str__ = __repr__

    def given(self) -> dict[str, Any]:
        """The keys that were set, with their values."""
        return {name: getattr(self, name) for name in type(self).model_fields if name in self.model_fields_set}
