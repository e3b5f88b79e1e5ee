"""Holds back rows that look up others of the same load, until those are written."""

from __future__ import annotations

import numpy as np

from kanal.runner.own_lookups import OwnLookups
from kanal.runner.stages.batch import Batch
from kanal.runner.stages.look_up import LookUp


class HoldBack:
    """Held rows are counted when it is their turn."""

    def __init__(self, own: OwnLookups, look_up: LookUp) -> None:
        self._own, self._look_up = own, look_up

    def take(self, batch: Batch) -> Batch:
        waits = self._own.holds_back(batch.source, self._look_up.tables)
        if waits.any():
            batch.held = batch.source.take(np.flatnonzero(waits))
            batch.tally.read -= batch.held.rows
            batch.keep(np.flatnonzero(~waits))
        return batch
