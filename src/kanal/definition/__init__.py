"""The job file: its models, reading, writing and problems."""

from kanal.definition.models import (
    Check,
    Column,
    Command,
    Connection,
    Conversion,
    Format,
    JobDefinition,
    Lookup,
    Pipeline,
    RunLog,
    Secret,
    Settings,
    Since,
    Source,
    Split,
    Table,
)
from kanal.definition.problems import JobError, Problem
from kanal.definition.reading import read_job
from kanal.definition.writing import write_job

__all__ = [
    "Check",
    "Column",
    "Command",
    "Connection",
    "Conversion",
    "Format",
    "JobDefinition",
    "JobError",
    "Lookup",
    "Pipeline",
    "Problem",
    "RunLog",
    "Secret",
    "Settings",
    "Since",
    "Source",
    "Split",
    "Table",
    "read_job",
    "write_job",
]
