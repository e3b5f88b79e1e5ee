"""A transaction on a server to which rows are streamed: a statement stays open for batches of one form, since to end
it takes the server as long as hundreds of rows do."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from typing import Any

from kanal.connections.loading import RefusedRow
from kanal.connections.sql.load import SqlLoad
from kanal.connections.sql.writer import TableWriter
from kanal.core.errors import KanalError


class StreamWriter(TableWriter):
    """Writes rows as parts of a statement that stays open."""

    transaction: StreamingLoad

    def insert(self, encoded: Any) -> Sequence[RefusedRow]:
        if self.send(encoded) is None:
            return super().insert(encoded)
        self.transaction.confirm()
        return ()

    def send(self, encoded: Any) -> int | None:
        return self.transaction.send(encoded)


class StreamingLoad(SqlLoad):
    """What is the same for all servers. Encoded batches say by `sql` what statement takes them."""

    #: The statement that takes more rows: its SQL, what is known of it, and what is to be left in the end.
    _open: tuple[str, Any, contextlib.ExitStack] | None = None

    def streams(self, encoded: Any) -> bool:
        """True for a batch that can be streamed."""
        del encoded
        return True

    def begin_stream(self, encoded: Any, stack: contextlib.ExitStack) -> Any:
        """Begin the statement of a batch; what is to be known of it. The stack is left when it ends, well or not."""
        raise NotImplementedError

    def stream(self, known: Any, encoded: Any) -> int:
        """Send a batch; its size in bytes."""
        raise NotImplementedError

    def end_stream(self, known: Any) -> None:
        """End the statement, and hear what became of the rows; raises RowsRefused, or an error of the driver's."""
        raise NotImplementedError

    def break_stream(self, known: Any) -> None:
        """End the statement where what it took is to be undone; raises any error."""
        self.end_stream(known)

    def refusals(self) -> contextlib.AbstractContextManager[None]:
        """Raises RowsRefused for an error of the driver's by which rows are refused, else DatabaseError."""
        raise NotImplementedError

    def send(self, encoded: Any) -> int | None:
        """Send an encoded batch, and leave the statement open for more; None if it was not sent."""
        if not self.streams(encoded) or (self._open is not None and self._open[0] != encoded.sql):
            return None
        size = None
        with self.refusals(), contextlib.ExitStack() as stack:
            if self._open is not None:
                _, known, before = self._open
                stack.enter_context(before)
            else:
                stack.enter_context(self.connection.begin_nested())
                known = self.begin_stream(encoded, stack)
            self._open = None
            size = self.stream(known, encoded)
            self._open = encoded.sql, known, stack.pop_all()
        return size

    def confirm(self) -> None:
        self._end(self.end_stream)

    def give_up(self) -> None:
        """Break the statement off, if one is open."""
        with contextlib.suppress(KanalError):
            self._end(self.break_stream)

    def close(self) -> None:
        self.give_up()
        super().close()

    def _end(self, how: Callable[[Any], None]) -> None:
        if self._open is not None:
            _, known, stack = self._open
            self._open = None
            with self.refusals(), stack:
                how(known)
