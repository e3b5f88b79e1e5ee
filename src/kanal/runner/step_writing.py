"""How the batches of a step are written, once they are prepared."""

from __future__ import annotations

import time

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from kanal.connections.errors import RowsRefused
from kanal.connections.loading import Written
from kanal.core.rejects import Reject
from kanal.core.tally import Tally, add_writes
from kanal.core.transformation import rejects_of
from kanal.runner.limits import limit_rejects
from kanal.runner.messages import Stopped
from kanal.runner.prepared import Prepared
from kanal.runner.stages import keys_in_target, refusals, taken
from kanal.runner.step_ending import StepEnding
from kanal.runner.stream import Ahead
from kanal.runner.write_rules import WriteRule

#: The target is asked to confirm sent batches after this number of bytes, this many seconds after the first one, or
#: when no batch follows for this many seconds. They are kept until then: after a refusal, they are written one by one.
_BYTES_UNHEARD, _SECONDS_UNHEARD, _SECONDS_IDLE = 4 * 1024 * 1024, 0.25, 0.05


class _Sent(Struct, frozen=True):
    """A batch that was sent, how many bytes it was, when it was begun and how many seconds it took."""

    prepared: Prepared
    size: int
    began: float
    seconds: float


class StepWriting(StepEnding):
    """The part of a step that writes rows."""

    def _go_on(self) -> None:
        if self._stop.is_set():
            raise Stopped

    def _write_all(self, ready: Ahead[Prepared], rule: WriteRule) -> None:
        """Write batches as they come. If the target can confirm several batches at once, they are sent ahead, because
        each answer takes time; if it refuses a row, each of these batches is written separately."""
        unheard: list[_Sent] = []
        for prepared in ready:
            self._go_on()
            self._competition.compete(prepared, rule)
            if not self._send(prepared, unheard, rule):
                self._hear(unheard, rule)
                if not self._send(prepared, unheard, rule):
                    self._write_one(prepared, rule)
            if unheard and (
                sum(sent.size for sent in unheard) >= _BYTES_UNHEARD
                or time.perf_counter() - unheard[0].began >= _SECONDS_UNHEARD
                or not ready.follows(_SECONDS_IDLE)
            ):
                self._hear(unheard, rule)
        self._hear(unheard, rule)

    def _send(self, prepared: Prepared, unheard: list[_Sent], rule: WriteRule) -> bool:
        """Send a batch, if that can be done before it is heard what becomes of others."""
        if prepared.undecided or prepared.held is not None or len(prepared.replacing) or not rule.may_send:
            return False
        started = time.perf_counter()
        size = rule.send(prepared.encoded)
        if size is None:
            return False
        prepared.encoded = replace(prepared.encoded, content=None)
        unheard.append(_Sent(prepared, size, started, time.perf_counter() - started))
        return True

    def _hear(self, unheard: list[_Sent], rule: WriteRule) -> None:
        """Wait until the target has confirmed the sent batches, and log them. If it refused a row, it has rolled all of
        them back, so write them one by one."""
        if not unheard:
            return
        started = time.perf_counter()
        try:
            rule.confirm()
        except RowsRefused:
            for sent in unheard:
                self._go_on()
                self._write_one(sent.prepared, rule)
        else:
            waited = (time.perf_counter() - started) / len(unheard)
            for sent in unheard:
                counted = self._counted(sent.prepared, rule.sent(sent.prepared.encoded), rule)
                self._written(sent.prepared, counted, sent.seconds + waited)
        unheard.clear()

    def _write_one(self, prepared: Prepared, rule: WriteRule) -> None:
        """Write a batch and log it."""
        started = time.perf_counter()
        counted = self._write(prepared, rule)
        self._written(prepared, counted, time.perf_counter() - started)

    def _written(self, prepared: Prepared, counted: tuple[Tally, list[Reject]], seconds: float) -> None:
        """Log a batch that was written, with its counts and rejects, unless these are too many."""
        self._log(prepared, *counted, seconds)
        limit_rejects(self.plan, self.tally, final=False)

    def _write(self, prepared: Prepared, rule: WriteRule) -> tuple[Tally, list[Reject]]:
        """The rest of a batch's way: write it, and count; its counts and all its rejects."""
        if prepared.held is not None and self._own is not None:
            self._own.waiting.add(prepared.held)
            rule.keep(self._competition.keys_of(prepared.held))
        return self._counted(prepared, rule.write(prepared.encoded), rule)

    def _counted(self, prepared: Prepared, written: Written, rule: WriteRule) -> tuple[Tally, list[Reject]]:
        """Write the rows of a batch that replace others, after its other rows; the counts and rejects."""
        batch, tally = prepared.batch, prepared.tally
        refused = refusals(written.refused, prepared.rows, prepared.good)
        places, over = [row.place for row in written.refused], list[int]()
        if len(prepared.replacing):
            gone = None if prepared.gone is None else prepared.gone[prepared.replacing]
            replaced = rule.replace(rule.encode_replacing(taken(prepared.rows, prepared.replacing), gone))
            refused += refusals(replaced.refused, prepared.rows, prepared.replacing)
            over = [row.place for row in replaced.refused]
            # What they replace was counted when it was written, and they take its place; a row that was not there after
            # all is counted as it comes.
            tally.inserted += replaced.inserted
            tally.superseded += len(prepared.replacing) - len(over) - replaced.inserted
        rejects = prepared.rejects + rejects_of(batch, refused, would_be=keys_in_target(self.plan, prepared.rows))[0]
        if len(prepared.bad):
            rule.keep(prepared.rows.take(pa.array(prepared.bad)))
        if self._competition.kept is not None:
            offered = prepared.offered
            self._competition.kept.add(batch if len(offered) == batch.rows else batch.take(offered))
        add_writes(tally, written)
        tally.rejected = len(rejects)
        self._resolve(batch, np.delete(prepared.good, places))
        self._resolve(batch, np.delete(prepared.replacing, over))
        self._competition.note_refusals(prepared, places, over)
        return tally, rejects
