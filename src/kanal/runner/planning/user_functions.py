"""Loads the functions that a job names, from a Python file or an importable module."""

from __future__ import annotations

import importlib
import importlib.util
import sys
from collections.abc import Mapping
from pathlib import Path

from kanal.core.errors import KanalError
from kanal.core.expressions.registry import Function, is_function
from kanal.core.expressions.user import (
    FunctionError,
    UserFunction,
    compile_function,
    declared_functions,
    put_back,
    take_declared,
)
from kanal.definition import JobDefinition

#: What the file or module of a name declared; a module is loaded once in a process.
_loaded: dict[str, dict[str, UserFunction]] = {}


def load_functions(job: JobDefinition) -> Mapping[str, Function | KanalError]:
    """The functions that a job names, and others declared in this process, by name in lower case.

    Of those declared in this process, for whatever job, one that cannot be used harms none that does not use it: it is
    what is wrong with it. Raises KanalError if a file or module of the job cannot be loaded, declares nothing, or
    declares what cannot be used.
    """
    found: dict[str, Function | KanalError] = {}
    for name, declared in declared_functions().items():
        try:
            found[name] = compile_function(declared)
        except KanalError as error:
            if not is_function(name):
                found[name] = error
    for name in job.functions:
        if not isinstance(name, str):
            own: UserFunction = name.kanal_function
            found[own.name.lower()] = compile_function(own)
            continue
        of_job = _load(name, job.texts)
        if not of_job:
            raise FunctionError(f"{name} declares no functions", "put @kanal.function before those meant for the job")
        found |= {name: compile_function(declared) for name, declared in of_job.items()}
    return found


def _load(name: str, folder: Path) -> dict[str, UserFunction]:
    path = folder / name
    key = str(path.resolve()) if name.endswith(".py") else name
    if not name.endswith(".py") and key in _loaded:
        return _loaded[key]
    before = take_declared()
    try:
        if name.endswith(".py"):
            _run_file(path)
        else:
            importlib.import_module(name)
        _loaded[key] = take_declared()
    except KanalError:
        raise
    except ModuleNotFoundError as error:
        raise FunctionError(
            f"{name}: there is no module {error.name}", "name a file such as cleaning.py, or install the module"
        ) from None
    except SyntaxError as error:
        raise FunctionError(f"{name}, line {error.lineno}: {error.msg}", "correct the Python file") from None
    except (KeyboardInterrupt, GeneratorExit):
        raise
    except BaseException as error:  # SystemExit too, by which a file would end the run before it began
        raise FunctionError(
            f"{name} cannot be loaded: {type(error).__name__}: {error}", "correct the Python file"
        ) from None
    finally:
        put_back(before)
    return _loaded[key]


def _run_file(path: Path) -> None:
    if not path.exists():
        raise FunctionError(f"there is no file {path}", "correct its path, which starts from the job file's folder")
    spec = importlib.util.spec_from_file_location(f"kanal_functions_{path.stem}", path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
