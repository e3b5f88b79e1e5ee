"""What connections raise, in Kanal's own words."""

from __future__ import annotations

import errno
import socket

from kanal.core.errors import KanalError


class DatabaseError(KanalError):
    """A place that cannot be reached, or that refuses what it was asked. `passing` troubles are worth a new try."""

    def __init__(self, what: str, remedy: str = "", passing: bool = False) -> None:
        super().__init__(what, remedy)
        self.passing = passing


class RowsRefused(KanalError):
    """The target refused rows of a batch; nothing of that batch was written. `what` is in the target's words.

    `row` is the place in the batch of the first row that it refused, and `constraint` the name of the constraint that
    the row breaks, if the target says so.
    """

    def __init__(self, what: str, row: int | None = None, constraint: str | None = None) -> None:
        self.row = row
        self.constraint = constraint
        super().__init__(what)


_PASSING = {
    errno.ECONNREFUSED, errno.ECONNRESET, errno.ECONNABORTED, errno.EPIPE, errno.ETIMEDOUT, errno.EHOSTUNREACH,
    errno.ENETUNREACH, errno.ENETDOWN, errno.EHOSTDOWN, errno.ENOTCONN, errno.EBADF, errno.EAGAIN,
}  # fmt: skip


def os_error_passes(error: OSError) -> bool:
    """True for an error of the network that may have passed when the same is tried again."""
    if isinstance(error, socket.gaierror):
        return error.errno == socket.EAI_AGAIN
    return isinstance(error, ConnectionError | TimeoutError) or error.errno in _PASSING


def unreached(host: str, error: Exception) -> tuple[str, str, bool]:
    """Why an HTTP server cannot be reached, what to do, and whether that may pass; of the library's error."""
    if "certificate" in str(error).lower():
        remedy = "name the certificate of those who signed it by the environment variable SSL_CERT_FILE"
        return f"the certificate of {host} is not trusted", remedy, False
    return f"nothing answers at {host}", "correct the url, or start it", True


def state_passes(sqlstate: str) -> bool:
    """True for a SQLSTATE of a trouble that may pass: ISO SQL's classes 08 and 40, and PostgreSQL's for a server that
    is too busy, starts, stops, or holds a lock (its manual, "PostgreSQL Error Codes")."""
    return sqlstate[:2] in ("08", "40") or sqlstate in ("53300", "55P03", "57P01", "57P02", "57P03", "57P05")
