"""Kanal: table-to-table load pipelines between databases, with every row accounted for.

The public names are those listed here; they are imported when first used, so that importing kanal is quick.
"""

from typing import TYPE_CHECKING

from kanal.lazy import names_of
from kanal.version import VERSION

if TYPE_CHECKING:
    from kanal.connections.arrow import Memory as Memory
    from kanal.core.errors import KanalError as KanalError
    from kanal.core.expressions.user import function as function
    from kanal.core.tally import Tally as Tally
    from kanal.definition import Check as Check
    from kanal.definition import Column as Column
    from kanal.definition import Command as Command
    from kanal.definition import Connection as Connection
    from kanal.definition import Conversion as Conversion
    from kanal.definition import Format as Format
    from kanal.definition import JobError as JobError
    from kanal.definition import Lookup as Lookup
    from kanal.definition import Pipeline as Pipeline
    from kanal.definition import RunLog as RunLog
    from kanal.definition import Secret as Secret
    from kanal.definition import Settings as Settings
    from kanal.definition import Since as Since
    from kanal.definition import Source as Source
    from kanal.definition import Split as Split
    from kanal.definition import Table as Table
    from kanal.drafting import Evaluated as Evaluated
    from kanal.drafting import draft as draft
    from kanal.drafting import evaluate as evaluate
    from kanal.job import Job as Job
    from kanal.opened import OpenConnection as OpenConnection
    from kanal.opened import OpenTable as OpenTable
    from kanal.opened import connect as connect
    from kanal.runner import Run as Run
    from kanal.runner import StepResult as StepResult

__version__ = VERSION

_HOMES = {
    "KanalError": "kanal.core.errors",
    "Tally": "kanal.core.tally",
    "function": "kanal.core.expressions.user",
    "Job": "kanal.job",
    "Memory": "kanal.connections.arrow",
    "Run": "kanal.runner",
    "StepResult": "kanal.runner",
    **dict.fromkeys(["OpenConnection", "OpenTable", "connect"], "kanal.opened"),
    **dict.fromkeys(["Evaluated", "draft", "evaluate"], "kanal.drafting"),
    **dict.fromkeys(
        [
            "Check",
            "Column",
            "Command",
            "Connection",
            "Conversion",
            "Format",
            "JobError",
            "Lookup",
            "Pipeline",
            "RunLog",
            "Secret",
            "Settings",
            "Since",
            "Source",
            "Split",
            "Table",
        ],
        "kanal.definition",
    ),
}

__all__ = ["__version__", *sorted(_HOMES)]  # noqa: PLE0604

__getattr__ = names_of(__name__, _HOMES)


def __dir__() -> list[str]:
    return __all__
