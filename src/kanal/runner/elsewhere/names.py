"""How portions are named, so that what a run has left is found again."""

from __future__ import annotations

import hashlib

_PREFIX = "kanal_portion"


def prefix_of(job: str, token: str | None = None, step: str | None = None) -> str:
    """How the names of a job's portions begin, by its name in the run log, or those of a run, or one of its steps."""
    parts = [job, *([token] if token is not None else []), *([step] if step is not None else [])]
    return "_".join([_PREFIX, *(hashlib.sha256(part.encode()).hexdigest()[:8] for part in parts), ""])
