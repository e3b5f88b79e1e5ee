"""The text of a job file for people to see."""

from __future__ import annotations

import re
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from kanal.core.errors import masked

_SECRET = r"(?:api[_-]?key|access[_-]?key|auth\w*|bearer|credentials?|passw(?:or)?d|pwd|secret|signature|token)"
_KEY = re.compile(rf"""(["']?\b[\w-]*{_SECRET}\w*["']?\s*[=:]\s*)("(?:[^"\\]|\\.)*"|'[^']*')""", re.IGNORECASE)
_SETTING = re.compile(rf"(\b\w*(?:{_SECRET})\w*\s*=\s*)(\{{[^}}]*\}}|[^\s;&\"'{{}}]+)", re.IGNORECASE)


def shown_job(text: str) -> str:
    """A job file with *** in place of secrets: passwords, and settings of the requests to services."""
    try:
        document = tomlkit.parse(text)
        _hide_requests(document)
        text = tomlkit.dumps(document)
    except (TOMLKitError, ValueError, RecursionError):
        pass  # a file that is wrong is shown as it is, as far as the rest goes
    text = _KEY.sub(r'\1"***"', masked(text))
    return "\n".join(_line(line) for line in text.split("\n"))


def _line(line: str) -> str:
    """A line without the passwords in the settings of its connection."""
    return _SETTING.sub(r"\1***", line) if re.match(r"""\s*["'\w.-]*url["']?\s*=""", line) else line


def _hide_requests(table: Any) -> None:
    """Hide the values that are sent to services with each request."""
    for name, value in list(table.items()):
        if not isinstance(value, dict):
            continue
        if name in ("query", "headers") and "connection" not in value:
            for key, content in list(value.items()):
                if isinstance(content, str):
                    value[key] = "***"
        else:
            _hide_requests(value)
