"""Names the standard SQL for what several databases call otherwise."""

from __future__ import annotations

_CONDITION = "write CASE WHEN condition THEN value ELSE other END"
_NOT_NULL = "write coalesce(value, other)"
_NOW = "write CURRENT_TIMESTAMP"
_TODAY = "write CURRENT_DATE"
_PART = "write substr(text, position, length)"
_PLACE = "write position(part IN text)"
_AS_TEXT = "write CAST(value AS text), or give the column a format in a conversion"
_DOUBLE_QUOTES = 'write a column\'s name in double quotes, as in "mark"'

#: By a function's name in lower case, what to write.
_FUNCTIONS = {
    "if": _CONDITION, "iif": _CONDITION, "iff": _CONDITION, "decode": _CONDITION, "choose": _CONDITION,
    "nvl": _NOT_NULL, "nvl2": _CONDITION, "isnull": _NOT_NULL, "ifnull": _NOT_NULL, "zeroifnull": _NOT_NULL,
    "getdate": _NOW, "sysdate": _NOW, "sysdatetime": _NOW, "now": _NOW, "getutcdate": _NOW,
    "curdate": _TODAY, "today": _TODAY,
    "len": "write length(text)", "mid": _PART, "instr": _PLACE, "charindex": _PLACE, "locate": _PLACE,
    "to_char": _AS_TEXT, "strftime": _AS_TEXT, "date_format": _AS_TEXT,
    "to_number": "write CAST(value AS decimal(18,2))", "to_date": "write CAST(value AS date)",
    "to_timestamp": "write CAST(value AS timestamp)", "ucase": "write upper(text)", "lcase": "write lower(text)",
}  # fmt: skip


def standard_form(function: str) -> str:
    """What to write in the place of a function of other databases; "" if it is not one of those."""
    return _FUNCTIONS.get(function.lower(), "")


def quoting_hint(unread: str) -> str:
    """What to write if an expression cannot be read from a bracket or a backtick on; "" if it is another sign."""
    return _DOUBLE_QUOTES if unread.strip()[:1] in ("`", "[") else ""


def hint_for(shown: str, text: str) -> str:
    """What to write in the place of a part of an expression that Kanal does not have, by how the parser shows it."""
    if shown.startswith("ARRAY[") and "ARRAY" not in text.upper():
        return _DOUBLE_QUOTES
    return _CONDITION if shown.startswith("CASE ") and "CASE" not in text.upper() else ""
