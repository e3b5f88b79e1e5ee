"""Says what is wrong with a line that is not TOML, and what to write instead."""

from __future__ import annotations

import re
from collections.abc import Sequence

#: By a pattern of the line: what is wrong with it, and what to do. The first that matches counts.
_MISTAKES = [
    (r"[=\[,{]\s*[“”„‟‘’‚«»]", "the quotation marks are curly", 'write straight ones, as in "text"'),
    (r"=\s*(True|False|TRUE|FALSE|Yes|No|yes|no|on|off)\b", "true and false are written in small letters",
     "write true or false"),
    (r"=\s*(None|null|NULL|nil)\b", "TOML has no null", "leave the key out"),
    (r"^\s*[\w.\"-]+\s*:\s", "a key and its value have a colon between them", 'write key = "text"'),
    (r"=\s*\"[^\"]*\\[^\"btnfruUe\\]", "a backslash in a text begins a special character",
     r"write it twice, or the text in single quotes, as in 'C:\harbour'"),
    (r"=\s*$", "the key has no value", 'write one behind the equals sign, as in key = "text"'),
    (r"=\s*[A-Za-z_][\w ./:@+-]*\s*(#.*)?$", "a text stands without quotation marks", 'write key = "text"'),
    (r"^\s*\[\[?[^\]]*$", "a table's name has no closing bracket", "write it as in [pipeline.passages]"),
]  # fmt: skip


def mistake_in(line: str, message: str, before: Sequence[str]) -> tuple[str, str] | None:
    """What is wrong with a line, and what to do, by the parser's message and the lines before it; None if unknown."""
    if "overwrite a value" in message or "Duplicate inline table key" in message:
        return "a key stands there twice", "remove one of them; two values belong in a list, as in [1, 2]"
    if "Cannot declare" in message:
        header = _without_comment(line)
        first = next((number for number, text in enumerate(before, 1) if _without_comment(text) == header), None)
        where = f", first in line {first}" if first else ""
        return f"the table {header.strip('[]')} stands there twice{where}", "put the keys of both under one of them"
    return next(((what, remedy) for pattern, what, remedy in _MISTAKES if re.search(pattern, line)), None)


def _without_comment(line: str) -> str:
    return line.partition("#")[0].strip()
