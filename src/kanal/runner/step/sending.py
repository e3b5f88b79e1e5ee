"""Writes the batches of a load, sent ahead if the target can confirm several of them at once."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.errors import RowsRefused
from kanal.runner.stages import Batch, Compete, Stage, Write, through
from kanal.runner.stream import Ahead

#: The target is asked to confirm sent batches after this number of bytes, this many seconds after the first one, or
#: when no batch follows for this many seconds. They are kept until then: after a refusal, they are written one by one.
_UNCONFIRMED_BYTES, _UNCONFIRMED_SECONDS, _IDLE_SECONDS = 4 * 1024 * 1024, 0.25, 0.05


class _Sent(Struct, frozen=True):
    """A batch that was sent, its size in bytes, when sending began, and how many seconds it took."""

    batch: Batch
    size: int
    began: float
    seconds: float


class Sending:
    """Writes batches as they come.

    Before it is written, a batch goes through the stages `before`. `log` records a written batch, and `check` raises
    if the step is to stop.
    """

    def __init__(
        self, compete: Compete, before: Sequence[Stage], write: Write,
        log: Callable[[Batch], None], check: Callable[[], None],
    ) -> None:  # fmt: skip
        self._compete, self._write, self._log, self._check = compete, write, log, check
        self._writing = [*before, write]
        self._sent: list[_Sent] = []

    def write_all(self, ready: Ahead[Batch]) -> None:
        """Write all batches. If the target refuses a row of those sent ahead, each of them is written separately."""
        for prepared in ready:
            self._check()
            batch = through([self._compete], prepared)
            if not self._send(batch):
                self._confirm()
                if not self._send(batch):
                    self.write_one(batch)
            if self._sent and self._is_time(ready):
                self._confirm()
        self._confirm()

    def write_one(self, batch: Batch) -> None:
        """Write a batch that has competed for its keys, and log it."""
        self._log(through(self._writing, batch))

    def _is_time(self, ready: Ahead[Batch]) -> bool:
        """True if the target is to confirm the sent batches now."""
        return (
            sum(sent.size for sent in self._sent) >= _UNCONFIRMED_BYTES
            or time.perf_counter() - self._sent[0].began >= _UNCONFIRMED_SECONDS
            or not ready.follows(_IDLE_SECONDS)
        )

    def _send(self, batch: Batch) -> bool:
        """Send a batch, if the target takes it before it has confirmed the earlier ones."""
        if not self._write.may_send(batch):
            return False
        started = time.perf_counter()
        size = self._write.rule.send(batch.rows_to_write)
        if size is None:
            return False
        batch.encoded = replace(batch.rows_to_write, content=None)
        self._sent.append(_Sent(batch, size, started, time.perf_counter() - started))
        return True

    def _confirm(self) -> None:
        """Wait until the target has confirmed the sent batches, and log them. If it refused a row, it has rolled all of
        them back, so write them one by one."""
        if not self._sent:
            return
        started = time.perf_counter()
        try:
            self._write.rule.confirm()
        except RowsRefused:
            for sent in self._sent:
                self._check()
                self.write_one(sent.batch)
        else:
            waited = (time.perf_counter() - started) / len(self._sent)
            for sent in self._sent:
                batch = self._write.count(sent.batch, self._write.rule.sent(sent.batch.rows_to_write))
                batch.times["write"] = sent.seconds + waited
                self._log(batch)
        self._sent.clear()
