"""Holds back rows that look up other rows of the same load."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kanal.core.frame import SourceBatch
from kanal.runner.own_lookups import Lookups, OwnLookups
from kanal.runner.stages.batch import Batch


class HoldBack:
    """Held rows are counted when it is their turn. `lookups` gives the looked-up tables as they are now."""

    name = "hold back"

    def __init__(self, own: OwnLookups, lookups: Callable[[], Lookups]) -> None:
        self._own, self._lookups = own, lookups

    def take(self, batch: Batch) -> Batch:
        waits = self._own.holds_back(batch.source, self._lookups())
        if waits.any():
            batch.held = batch.source.take(np.flatnonzero(waits))
            batch.tally.read -= batch.held.rows
            batch.keep(np.flatnonzero(~waits))
        return batch


class KeepHeld:
    """Keeps the held rows until it is their turn; their keys are not missing in the source."""

    name = "hold back"

    def __init__(self, own: OwnLookups, keep: Callable[[SourceBatch], None]) -> None:
        self._own, self._keep = own, keep

    def take(self, batch: Batch) -> Batch:
        if batch.held is not None:
            self._own.waiting.add(batch.held)
            self._keep(batch.held)
        return batch
