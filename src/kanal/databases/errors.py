"""What databases raise, in Kanal's own words."""

from __future__ import annotations

import re

from kanal.core.errors import KanalError

#: What databases say of troubles that pass.
_PASSING = re.compile(
    r"connection (?:refused|reset|was killed|timed out)|broken pipe|server closed|closed the connection|"
    r"lost connection|gone away|starting up|shutting down|shutdown in progress|terminating connection|"
    r"too many (?:clients|connections)|"
    r"deadlock|could not serialize|lock wait timeout|lock timeout|timeout expired|timed out|is locked|database is busy|"
    r"consuming input failed|connection is (?:lost|closed)|"
    r"temporary failure in name resolution|no route to host|network is unreachable",
    re.IGNORECASE,
)


class DatabaseError(KanalError):
    """A database that cannot be reached, or that refuses what it was asked. `passing` troubles are worth a new try."""

    def __init__(self, what: str, remedy: str = "") -> None:
        super().__init__(what, remedy)
        self.passing = _PASSING.search(what) is not None


class RowsRefused(KanalError):
    """The target refused rows of a batch; nothing of that batch was written. `what` is in the database's words.

    `row` is the place in the batch of the first row that it refused, where the database says so.
    """

    def __init__(self, what: str, row: int | None = None) -> None:
        self.row = row
        super().__init__(what)
