"""What the errors of MariaDB's driver mean."""

from __future__ import annotations

import re

#: Numbers of errors by which rows are refused, apart from those that the driver knows as errors of data or integrity.
REFUSALS = {1048, 1062, 1216, 1217, 1263, 1264, 1265, 1292, 1364, 1365, 1366, 1367, 1406, 1451, 1452, 1644, 1690, 3819,
             4025, 4078}  # fmt: skip
#: Those of troubles that pass: too many connections, a server that stops, lost and killed connections, locks, deadlocks
#: (the servers' manuals, "Error Codes"; 0 is the driver's for a connection that is closed).
PASSING = {0, 1040, 1053, 1158, 1159, 1160, 1161, 1184, 1203, 1205, 1213, 1927, 2002, 2003, 2006, 2013, 2055, 4031}


def driver_errors() -> tuple[type[Exception], ...]:
    """What PyMySQL raises, and the sockets below it."""
    import pymysql

    return pymysql.Error, EOFError, OSError


def error_number(error: BaseException) -> int | None:
    """The number of an error, the driver's or SQLAlchemy's of it; None if it has none."""
    arguments = (getattr(error, "orig", None) or error).args
    return arguments[0] if arguments and isinstance(arguments[0], int) else None


#: Errors 1452, 1062 and 4025 (MariaDB's manual, "MariaDB Error Codes") name the constraint that a row breaks.
_CONSTRAINT = re.compile(r"CONSTRAINT `([^`]+)` (?:FOREIGN KEY|failed)|for key '(?:[^'.]+\.)?([^']+)'")


def constraint_in(words: str) -> str | None:
    """The constraint that the server's words name."""
    found = _CONSTRAINT.search(words)
    return (found[1] or found[2]) if found else None
