"""What is wrong with a job: each problem with its place, and the error that carries them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import force_setattr

from kanal.core.errors import KanalError, sentence, shortened, tellable

#: Where a key is in a job: for example ("pipeline", "passages", "columns", "toll").
KeyPath = tuple[str, ...]


class Problem(Struct, frozen=True):
    """One thing wrong: at which key of the job, what it is, what to do; with file and line where they are known."""

    path: KeyPath
    what: str
    remedy: str = ""
    file: Path | None = None
    line: int | None = None

    def __post_init__(self) -> None:
        force_setattr(self, "what", tellable(self.what))
        force_setattr(self, "remedy", tellable(self.remedy))

    @property
    def place(self) -> str:
        """The key for people: `pipeline passages, columns, toll`."""
        if not self.path:
            return ""
        path = [shortened(part) for part in self.path[:12]]
        return ", ".join([" ".join(path[:2]), *path[2:], *(["…"] if len(self.path) > 12 else [])])

    def __str__(self) -> str:
        where = ""
        if self.file is not None:
            where = f"{self.file.name}:{self.line}: " if self.line else f"{self.file.name}: "
        place = f"{self.place}: " if self.place else ""
        return f"{where}{place}{sentence(self.what, self.remedy)}"


class JobError(KanalError):
    """A job that cannot be run as it stands; `problems` lists all that is wrong with it.

    `passing` is True if they may have passed when the same is tried again.
    """

    def __init__(self, problems: Sequence[Problem], passing: bool = False) -> None:
        self.problems = list(problems)
        self.passing = passing
        super().__init__("\n".join(str(problem) for problem in self.problems))
