"""Computes the keys and unique values for which rows compete."""

from __future__ import annotations

from kanal.core.claims import Claims
from kanal.runner.stages.batch import Batch, taken


class OfferKeys:
    """Computes the keys of the good rows; `claims` is None if the rows have none."""

    name = "keys"

    def __init__(self, claims: Claims | None) -> None:
        self._claims = claims

    def take(self, batch: Batch) -> Batch:
        batch.offered = batch.good
        batch.frame = None  # no more expressions follow, and it holds all converted columns
        if self._claims is not None and len(batch.good):
            batch.keyed = self._claims.keys_of(taken(batch.stored, batch.good))
        return batch
