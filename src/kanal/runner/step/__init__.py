"""A step, the execution of one pipeline.

`StepContext` is what a run asks for, `StepParts` has what reads and changes the rows, and a `Way` loads them: in one
transaction, or batch by batch. `Books` counts.
"""

from kanal.runner.step.books import Books
from kanal.runner.step.by_batches import ByBatches
from kanal.runner.step.context import OnBatch, StepContext
from kanal.runner.step.one_transaction import OneTransaction
from kanal.runner.step.parts import StepParts
from kanal.runner.step.shared_load import OpenEnds, SharedLoad
from kanal.runner.step.signal import StopSignal
from kanal.runner.step.step import PipelineStep, Way
from kanal.runner.step.trial import Trial

__all__ = [
    "Books",
    "ByBatches",
    "OnBatch",
    "OneTransaction",
    "OpenEnds",
    "PipelineStep",
    "SharedLoad",
    "StepContext",
    "StepParts",
    "StopSignal",
    "Trial",
    "Way",
]
