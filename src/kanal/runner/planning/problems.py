"""The problems and notes of a job that is planned, each at its key and line."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager

from kanal.core.errors import ExpressionError, KanalError, UnresolvedLookupError, passes
from kanal.definition import JobDefinition, JobError, Problem
from kanal.definition.problems import KeyPath


class Problems:
    """Collects everything that is wrong with a job."""

    def __init__(self, job: JobDefinition) -> None:
        self._job = job
        self.found: list[Problem] = []
        self.notes: list[Problem] = []
        self._temporary: set[Problem] = set()

    def add(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Add a problem of a key."""
        self.found.append(self._located(path, what, remedy))

    def note(self, path: KeyPath, what: str, remedy: str = "") -> None:
        """Note something about a key."""
        self.notes.append(self._located(path, what, remedy))

    def add_error(self, path: KeyPath, error: KanalError) -> None:
        """Add an error as a problem of a key."""
        self.add(path, error.what, error.remedy)
        if passes(error):
            self._temporary.add(self.found[-1])

    @contextmanager
    def at(self, path: KeyPath) -> Iterator[None]:
        """While this lasts, errors become problems of that key."""
        try:
            yield
        except UnresolvedLookupError:
            pass  # the look-up's own problem is enough
        except ExpressionError as error:
            what = error.what
            if error.text and error.text != what:
                place = f"at character {error.position + 1} of " if error.position is not None else "in "
                what = f"{what}, {place}{_around(error.text, error.position)}"
            self.add(path, what, error.remedy)
        except JobError as error:
            self.found.extend(error.problems)
        except KanalError as error:
            self.add_error(path, error)

    @property
    def error(self) -> JobError:
        """All problems as an error, which is temporary if each of them is."""
        return JobError(list(dict.fromkeys(self.found)), self._temporary.issuperset(self.found))

    def _located(self, path: KeyPath, what: str, remedy: str) -> Problem:
        file, line = self._job.located(path)
        if path[:1] == ("connection",):  # whose name the path shows already
            what = re.sub(rf"^connection {re.escape(path[1])}(?:: | \((.*?)\)(?=: ))", r"\1", what)
        return Problem(path, what, remedy, file, line)


def _around(text: str, position: int | None) -> str:
    """An expression for a message; of a long one, the part around a position."""
    if len(text) <= 200:
        return text
    start = max(0, (position or 0) - 60)
    return f"{'…' if start else ''}{text[start : start + 140]}{'…' if start + 140 < len(text) else ''}"
