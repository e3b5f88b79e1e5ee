"""Gives rows the form that the load takes."""

from __future__ import annotations

from kanal.runner.stages.batch import Batch, taken
from kanal.runner.write_rule import WriteRule


class Encode:
    """Encodes the rows that may be written, while earlier batches are written."""

    name = "encode"

    def __init__(self, rule: WriteRule) -> None:
        self._rule = rule

    def take(self, batch: Batch) -> Batch:
        offered = batch.good if batch.offered is None else batch.offered
        withdrawn = None if batch.gone is None else batch.gone[offered]
        batch.encoded = self._rule.encode(taken(batch.stored, offered), withdrawn)
        batch.source.forget()
        return batch
