"""The stages of a step: each takes a batch of rows, does one thing with it, and gives it to the next.

A stage has one method, `take`, owns its state, and knows no other stage.
"""

from kanal.runner.stages.batch import Batch, Rows, Stage, Tagged, keys_in_target, refusals, taken, through, withdrawn
from kanal.runner.stages.check import Check
from kanal.runner.stages.convert import Convert
from kanal.runner.stages.fit import Fit
from kanal.runner.stages.hold_back import HoldBack
from kanal.runner.stages.look_up import LookUp
from kanal.runner.stages.only_new import OnlyNew
from kanal.runner.stages.open_references import OpenReferences
from kanal.runner.stages.where import Where

__all__ = [
    "Batch",
    "Check",
    "Convert",
    "Fit",
    "HoldBack",
    "LookUp",
    "OnlyNew",
    "OpenReferences",
    "Rows",
    "Stage",
    "Tagged",
    "Where",
    "keys_in_target",
    "refusals",
    "taken",
    "through",
    "withdrawn",
]
