"""A user's own functions in expressions: declared by a decorator, their SQL types by annotations."""

from __future__ import annotations

import contextlib
import inspect
import os
from collections.abc import Callable, Sequence
from typing import Any, Literal, TypeVar, get_args, overload

import pyarrow as pa
from msgspec import Struct

from kanal.core.errors import KanalError
from kanal.core.expressions.registry import Function, elementwise, is_function
from kanal.core.faults import Fault, Refusal, value_text
from kanal.core.frame import Frame
from kanal.core.reasons import Reason
from kanal.core.types import SqlType, parse_type

Takes = Literal["arrow", "value", "numpy", "pandas"]
Plain = TypeVar("Plain", bound=Callable[..., Any])

#: Python's types as annotations, and the SQL types that they represent. Any other annotation is a SQL type as text.
_PYTHON_TYPES = {
    "str": "text",
    "int": "bigint",
    "float": "double precision",
    "bool": "boolean",
    "bytes": "binary",
    "Decimal": "decimal",
    "date": "date",
    "time": "time",
    "datetime": "timestamp",
}


class FunctionError(KanalError):
    """A function of the user's that cannot serve in expressions, or that gave something other than it declares."""


class UserFunction(Struct, frozen=True):
    """A function as its decorator found it."""

    name: str
    body: Callable[..., Any]
    takes: Takes


#: What was declared in this process and not yet taken by a job.
_declared: dict[str, UserFunction] = {}


@overload
def function(body: Plain, /) -> Plain: ...
@overload
def function(*, takes: Takes = "arrow", name: str | None = None) -> Callable[[Plain], Plain]: ...
def function(
    body: Plain | None = None, /, *, takes: Takes = "arrow", name: str | None = None
) -> Plain | Callable[[Plain], Plain]:
    """Declare a function that expressions may call by its name.

    Its parameters and its result are annotated with SQL types as text (`"decimal(9,2)"`) or with str, int, float, bool,
    bytes, Decimal, date, time or datetime. `takes` says what it is called with, and returns: Arrow arrays; one
    Python value at a time (rows with a NULL are not asked about, and give NULL); NumPy arrays or pandas Series. An
    exception rejects the rows for which it is raised, with its message.
    """

    def declare(plain: Plain) -> Plain:
        declared = UserFunction(name or plain.__name__, plain, takes)
        _declared[declared.name.lower()] = declared
        with contextlib.suppress(AttributeError):  # so that a job can name the function itself
            plain.kanal_function = declared  # type: ignore[attr-defined]
        return plain

    return declare if body is None else declare(body)


def declared_functions() -> dict[str, UserFunction]:
    """What has been declared in this process."""
    return dict(_declared)


def take_declared() -> dict[str, UserFunction]:
    """What has been declared in this process, which forgets it."""
    found = dict(_declared)
    _declared.clear()
    return found


def put_back(functions: dict[str, UserFunction]) -> None:
    """Declare again what was taken."""
    _declared.update(functions)


def compile_function(declared: UserFunction) -> Function:
    """A declared function as one that expressions can call.

    Raises FunctionError for a name that Kanal has itself, a parameter or result without a type, or an unknown type.
    """
    if is_function(declared.name):
        raise FunctionError(f'Kanal has a function "{declared.name}" of its own', "give yours another name")
    parameters = list(inspect.signature(declared.body).parameters.values())
    types = [_type_of(declared.name, parameter.name, parameter.annotation) for parameter in parameters]
    result = _type_of(declared.name, "its result", inspect.signature(declared.body).return_annotation)
    optional = sum(parameter.default is not inspect.Parameter.empty for parameter in parameters)
    signature = f"{declared.name}({', '.join(map(str, types))}) -> {result}"
    if declared.takes not in get_args(Takes):
        raise FunctionError(
            f'function {declared.name}: takes = "{declared.takes}" is not known', "write arrow, value, numpy or pandas"
        )
    bodies: dict[str, Callable[..., Any]] = {
        "arrow": lambda: _over_arrays(declared, result, lambda arrays: _called(declared.body, arrays)),
        "numpy": lambda: _over_arrays(
            declared, result, lambda arrays: _called(declared.body, [*map(_as_numpy, arrays)])
        ),
        "pandas": lambda: _over_arrays(
            declared, result, lambda arrays: _called(declared.body, [*map(_as_pandas, arrays)])
        ),
        "value": lambda: elementwise(_one_value(declared, result), result),
    }
    return Function(
        name=declared.name.lower(),
        signature=signature,
        parameters=tuple(str(sql_type) for sql_type in types),
        optional=optional,
        variadic=False,
        returns=lambda _: result,
        body=bodies[declared.takes](),
        group="Your own",
        meaning=inspect.getdoc(declared.body) or "",
        example=("", None),
        exact=True,
    )


def _type_of(function_name: str, what: str, annotation: Any) -> SqlType:
    if annotation is inspect.Parameter.empty:
        raise FunctionError(
            f"function {function_name}: {what} has no type", 'annotate it with one, such as str or "decimal(9,2)"'
        )
    text = annotation if isinstance(annotation, str) else getattr(annotation, "__name__", str(annotation))
    text = text.strip("'\"").rpartition(".")[2] if text.strip("'\"").rpartition(".")[2] in _PYTHON_TYPES else text
    text = text.strip("'\"")
    try:
        return parse_type(_PYTHON_TYPES.get(text, text))
    except KanalError as error:
        raise FunctionError(f"function {function_name}: {what}: {error.what}", error.remedy) from None


def _called(body: Callable[..., Any], arguments: Sequence[Any]) -> Any:
    """What a user's function gives; a process that it has split off ends here, and does not go on as a second run."""
    process = os.getpid()
    try:
        return body(*arguments)
    finally:
        if os.getpid() != process:
            os._exit(0)


def _said(error: BaseException) -> str:
    return f"{type(error).__name__}: {error}" if str(error) else type(error).__name__


def _one_value(declared: UserFunction, result: SqlType) -> Callable[..., Any]:
    def call(*values: Any) -> Any:
        try:
            value = _called(declared.body, values)
        except BaseException as error:  # SystemExit too: it is the row that has no value
            raise Refusal(Reason.FUNCTION_FAILED, f"{declared.name}: {_said(error)}") from None
        try:
            return pa.scalar(value, result.arrow).as_py()
        except (pa.ArrowException, OverflowError, TypeError, ValueError):
            raise Refusal(
                Reason.FUNCTION_FAILED, f"{declared.name} gave {value!r}, which is not {result} as it declares"
            ) from None

    return call


def _as_numpy(values: pa.Array) -> Any:
    return values.to_numpy(zero_copy_only=False)


def _as_pandas(values: pa.Array) -> Any:
    try:
        return values.to_pandas()
    except ImportError:
        raise FunctionError("pandas is not installed", "install it, or let the function take arrow or numpy") from None


def _over_arrays(
    declared: UserFunction, result: SqlType, call: Callable[[list[pa.Array]], Any]
) -> Callable[..., pa.Array]:
    """The function called with whole columns; if it raises, with halves, until the rows stand alone."""

    def given(arrays: list[pa.Array]) -> pa.Array:
        returned = call(arrays)
        if isinstance(returned, pa.ChunkedArray):
            returned = returned.combine_chunks()
        try:
            values = returned if isinstance(returned, pa.Array) else pa.Array.from_pandas(returned, type=result.arrow)
            values = values if values.type == result.arrow else values.cast(result.arrow)
        except (pa.ArrowException, TypeError, ValueError) as error:
            raise FunctionError(
                f"function {declared.name} returned what is not {result}: {' '.join(str(error).split())[:200]}",
                "return values of the type that it declares",
            ) from None
        if len(values) != len(arrays[0]):
            raise FunctionError(
                f"function {declared.name} was given {len(arrays[0]):,} rows and returned {len(values):,}",
                "return a value, or NULL, for each row",
            )
        return values

    def pieces(arrays: list[pa.Array], first: int, faults: list[Fault]) -> pa.Array:
        try:
            return given(arrays)
        except FunctionError:
            raise
        except BaseException as error:
            size = len(arrays[0])
            if size == 1:
                message = f"{declared.name}: {_said(error)}"
                faults.append(Fault(first, Reason.FUNCTION_FAILED, value_text(arrays[0][0].as_py()), message))
                return pa.nulls(1, result.arrow)
        middle = size // 2
        left = pieces([array.slice(0, middle) for array in arrays], first, faults)
        right = pieces([array.slice(middle) for array in arrays], first + middle, faults)
        return pa.concat_arrays([left, right])

    def evaluate(frame: Frame, *arrays: pa.Array) -> pa.Array:
        if not frame.rows:
            return pa.nulls(0, result.arrow)
        faults: list[Fault] = []
        values = pieces(list(arrays), 0, faults)
        frame.report(faults)
        return values

    return evaluate
