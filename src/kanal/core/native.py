"""Values in the form of the database that sent them, for columns of the same type in a database of the same kind."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pyarrow as pa

from kanal.core.arrays import patch
from kanal.core.frame import Strays

#: Makes the values of a column, and by row those that its type cannot hold, an array in the database's own form.
OwnForm = Callable[[pa.Array, Strays], pa.Array]


class NativeType(pa.ExtensionType):  # type: ignore[misc]
    """The Arrow type of values that only a column of the type from which they come can take.

    So that no other code mistakes them for texts, they are no text to Arrow. `storage` has what the database takes.
    """

    def __init__(self, storage: pa.DataType) -> None:
        super().__init__(storage, "kanal.native")

    def __arrow_ext_serialize__(self) -> bytes:
        return b""

    @classmethod
    def __arrow_ext_deserialize__(cls, storage: pa.DataType, serialized: bytes) -> NativeType:
        del serialized
        return cls(storage)

    def __reduce__(self) -> tuple[Any, ...]:
        return NativeType, (self.storage_type,)


def native(values: pa.Array) -> pa.Array:
    """Values that are in a database's own form, marked as such."""
    return pa.ExtensionArray.from_storage(NativeType(values.type), values)


def is_native(values: pa.Array) -> bool:
    """True for values in a database's own form."""
    return isinstance(values.type, NativeType)


def taken_as(values: pa.Array) -> pa.Array:
    """Values as the database takes them: without the mark, if they are in its own form."""
    return values.storage if is_native(values) else values


def native_texts(texts: pa.Array, strays: Strays) -> pa.Array:
    """A column in the form of texts, with those of the values that its type cannot hold put in."""
    rows = sorted(strays)
    return native(patch(texts, rows, [strays[row] for row in rows]))


_READ: dict[str, Callable[[str], Any]] = {"integer": int, "real": float, "blob": bytes.fromhex}


class ExactText(str):
    """The text of a value that is of another storage class than its column's type, with the value itself."""

    __slots__ = ("value",)

    value: int | float | bytes

    def __new__(cls, text: str, value: int | float | bytes) -> ExactText:
        """The text as other databases would take it."""
        made = super().__new__(cls, text)
        made.value = value
        return made

    @property
    def storage_class(self) -> str:
        """The class of the value."""
        return {int: "integer", float: "real", bytes: "blob"}[type(self.value)]

    @property
    def described(self) -> str:
        """The value, and of which class it is."""
        return f"{self.value!r} ({self.storage_class})"

    @property
    def as_object(self) -> dict[str, str]:
        """It as JSON can represent it: the text, and the class with the value."""
        exact = self.value.hex() if isinstance(self.value, bytes) else repr(self.value)
        return {"text": str(self), self.storage_class: exact}

    @classmethod
    def of_object(cls, found: dict[str, str]) -> ExactText:
        """The text that `as_object` represents."""
        text, (storage_class, exact) = found["text"], list(found.items())[1]
        return cls(text, _READ[storage_class](exact))

    def __reduce__(self) -> tuple[Any, ...]:
        return ExactText, (str(self), self.value)
