"""Holds back rows that look up others of the same load, until those are written."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kanal.runner.own_lookups import Lookups, OwnLookups
from kanal.runner.stages.batch import Batch


class HoldBack:
    """Held rows are counted when it is their turn. `lookups` gives the looked-up tables as they are now."""

    def __init__(self, own: OwnLookups, lookups: Callable[[], Lookups]) -> None:
        self._own, self._lookups = own, lookups

    def take(self, batch: Batch) -> Batch:
        waits = self._own.holds_back(batch.source, self._lookups())
        if waits.any():
            batch.held = batch.source.take(np.flatnonzero(waits))
            batch.tally.read -= batch.held.rows
            batch.keep(np.flatnonzero(~waits))
        return batch
