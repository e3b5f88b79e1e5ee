"""A batch whose rows may be written, once they have competed for their keys."""

from __future__ import annotations

import pyarrow as pa
from msgspec import Struct

from kanal.core.claims import Keyed
from kanal.core.frame import SourceBatch
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.runner.staged_rows import EncodedRows, Mask
from kanal.runner.stages import Rows


class Prepared(Struct):
    """A batch ready to be written: its rows, which of them, which over earlier rows of the load, and which not.

    `made` are the rows as the mapping makes them, `rows` the same as the target stores them. `offered` are the rows
    that may be written, with their keys in `keyed`. After the contest for the keys, `good` are the winners.
    """

    batch: SourceBatch
    made: pa.RecordBatch
    rows: pa.RecordBatch
    encoded: EncodedRows
    offered: Rows
    good: Rows
    replacing: Rows
    bad: Rows
    tally: Tally
    rejects: list[Reject]
    seconds: float
    keyed: Keyed | None = None
    #: How many rows are undecided, since others have their keys.
    undecided: int = 0
    #: The rows whose keys are to be deleted in the target.
    gone: Mask | None = None
    #: Rows of the batch that wait for others of this load, and are counted once it is known what becomes of them.
    held: SourceBatch | None = None
