"""What an environment changes of a job, such as its connections and parameters in test and in production."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field

from kanal.definition.base import Model

#: Keys of a secret, which is replaced as a whole.
_SECRET = frozenset({"env", "file", "keyring", "user"})
#: Keys of a schedule of which one excludes the others.
_TIMES = frozenset({"cron", "every", "after_job"})


class Environment(Model):
    """What is different in one environment: of these tables of the job, the keys that are given."""

    connection: dict[str, dict[str, Any]] = Field(default_factory=dict)
    parameters: dict[str, Any] = Field(default_factory=dict)
    defaults: dict[str, Any] = Field(default_factory=dict)
    run_log: dict[str, Any] = Field(default_factory=dict)
    schedule: dict[str, Any] = Field(default_factory=dict)
    notify: dict[str, dict[str, Any]] = Field(default_factory=dict)
    workers: Any = None


#: What an environment can change.
CHANGED = tuple(Environment.model_fields)


def merged(under: Mapping[str, Any], over: Mapping[str, Any]) -> dict[str, Any]:
    """Two tables together; if both say something, the second wins."""
    result = dict(under)
    if _TIMES & set(over):
        result = {key: value for key, value in result.items() if key not in _TIMES}
    for key, value in over.items():
        before = result.get(key)
        result[key] = value
        if isinstance(value, dict) and isinstance(before, dict):
            whole = value and set(value) <= _SECRET and set(before) <= _SECRET
            result[key] = value if whole else merged(before, value)
    return result
