"""The run log in one database."""

from __future__ import annotations

import datetime as dt

from kanal.connections.sql.opening import SqlOpening
from kanal.runlog.database import RunLogDatabase
from kanal.runlog.keeping import KeptRuns
from kanal.runlog.past_runs import PastRuns
from kanal.runlog.rejects import RejectEntries
from kanal.runlog.runs import RunEntries
from kanal.runlog.seen import SeenTables
from kanal.runlog.service_log import ServiceLog
from kanal.runlog.steps import StepEntries


class RunLogStore:
    """The parts of a run log, each with its own tables; these are created by `prepare`.

    `keep_rejects` is how many rejected rows of each step are kept, and `keep_runs` how many runs of each job, or for
    how long; None for all.
    """

    def __init__(
        self, database: SqlOpening, keep_rejects: int = 100_000, keep_runs: int | dt.timedelta | None = None
    ) -> None:
        self._database = RunLogDatabase(database)
        self.past = PastRuns(self._database)
        self.rejects = RejectEntries(self._database)
        self.runs = RunEntries(self._database, self.past, self.rejects)
        self.steps = StepEntries(self._database, keep_rejects)
        self.kept = KeptRuns(self._database, keep_runs)
        self.seen = SeenTables(self._database)
        self.service = ServiceLog(self._database)

    @property
    def database(self) -> SqlOpening:
        """Where it is."""
        return self._database.place

    @property
    def owner(self) -> str:
        """What identifies this process among others that may resume the same run."""
        return self._database.owner

    def exists(self) -> bool:
        """True if there is a run log to read; raises KanalError if it is damaged, or cannot be reached."""
        return self._database.exists()

    def prepare(self) -> None:
        """Create what is missing; raises KanalError for a run log of a newer Kanal."""
        self._database.prepare()
