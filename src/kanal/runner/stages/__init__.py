"""The stages that a batch of rows goes through.

A stage has one method, `take`, owns its state, and does not use other stages. `ORDER` lists them.
"""

from kanal.runner.stages.batch import Batch, Rows, Stage, Tagged, keys_in_target, refusals, taken, through, withdrawn
from kanal.runner.stages.check import Check
from kanal.runner.stages.compete import Compete
from kanal.runner.stages.convert import Convert
from kanal.runner.stages.encode import Encode
from kanal.runner.stages.fit import Fit
from kanal.runner.stages.hold_back import HoldBack, KeepHeld
from kanal.runner.stages.keys import OfferKeys
from kanal.runner.stages.look_up import LookUp
from kanal.runner.stages.only_new import OnlyNew
from kanal.runner.stages.open_references import OpenReferences
from kanal.runner.stages.where import Where
from kanal.runner.stages.write import Write

#: The stages that the batch of a step may go through, in this order.
ORDER: tuple[type[Stage], ...] = (
    OnlyNew, Where, HoldBack, LookUp, Convert, Check, Fit, OpenReferences, OfferKeys, Encode, Compete, Write,
)  # fmt: skip

__all__ = [
    "ORDER",
    "Batch",
    "Check",
    "Compete",
    "Convert",
    "Encode",
    "Fit",
    "HoldBack",
    "KeepHeld",
    "LookUp",
    "OfferKeys",
    "OnlyNew",
    "OpenReferences",
    "Rows",
    "Stage",
    "Tagged",
    "Where",
    "Write",
    "keys_in_target",
    "refusals",
    "taken",
    "through",
    "withdrawn",
]
