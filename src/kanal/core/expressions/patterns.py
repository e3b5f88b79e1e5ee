"""Regular expressions for an engine whose time grows with the length of the text alone (RE2, by way of Arrow).

What needs an engine that tries again and again, references back to a group and looking ahead or behind, it does not
have: such a pattern is refused, since on a long text it could run for ever.
"""

from __future__ import annotations

import re
from functools import lru_cache

import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.errors import shortened
from kanal.core.faults import Refusal
from kanal.core.reasons import Reason

_FLAGS = {"i": "i", "n": "", "m": "m", "s": "", "c": "", "g": ""}
#: Classes that represent ASCII in the engine, and for letters and digits of all languages here.
_CLASSES = {
    "w": r"\p{L}\p{M}\p{N}_",
    "d": r"\p{Nd}",
    "s": r"\s\v\p{Z}\x{85}",
}


@lru_cache(maxsize=512)
def linear(pattern: str, flags: str = "") -> str:
    """The pattern as the engine takes it, with flags; raises Refusal for one that is none, or that it cannot do."""
    letters = ""
    for flag in flags:
        if flag not in _FLAGS:
            raise Refusal(Reason.BAD_TEXT, f'"{flag}" is no flag of a regular expression: use i, m, n, s or g')
        letters += _FLAGS[flag]
    made = f"(?s{''.join(dict.fromkeys(letters))}:{_translated(pattern)})"
    try:
        pc.match_substring_regex(pa.array([""], pa.string()), made)
    except pa.ArrowInvalid as error:
        why = re.sub(r"^Invalid regular expression: ", "", " ".join(str(error).split()))
        raise Refusal(
            Reason.BAD_TEXT, f'"{shortened(pattern)}" cannot be used as a regular expression: {why}'
        ) from None
    return made


def _translated(pattern: str) -> str:
    """A pattern with classes that know all languages; raises Refusal for what the engine does not have."""
    result, place, inside = "", 0, False
    while place < len(pattern):
        character = pattern[place]
        following = pattern[place + 1 : place + 2]
        if character == "\\" and following:
            if following.isdigit() and following != "0" and not inside:
                raise Refusal(Reason.BAD_TEXT, _cannot(pattern, f"a reference back to a group, \\{following}"))
            result += _escape(following, inside)
            place += 2
            continue
        if inside:
            inside = character != "]" or pattern[place - 1 : place] == "[" or pattern[place - 2 : place] == "[^"
            if pattern[place : place + 2] in ("[:", "[.", "[="):
                end = pattern.find("]", place + 2)
                end = len(pattern) - 1 if end < 0 else end
                result += pattern[place : end + 1]
                place, inside = end + 1, True
                continue
        elif character == "[":
            inside = True
        elif (character == "(" and pattern[place + 1 : place + 3] in ("?=", "?!")) or pattern[place : place + 4] in (
            "(?<=",
            "(?<!",
        ):
            raise Refusal(Reason.BAD_TEXT, _cannot(pattern, "looking ahead or behind, (?= and the like"))
        elif character == "(" and pattern[place + 1 : place + 3] == "?P" and pattern[place + 3 : place + 4] == "=":
            raise Refusal(Reason.BAD_TEXT, _cannot(pattern, "a reference back to a group"))
        result += character
        place += 1
    return result


def _escape(letter: str, inside: bool) -> str:
    """What a backslash and a letter mean, within brackets or not."""
    if letter.lower() not in _CLASSES:
        return {"y": r"\b", "Z": r"\z"}.get(letter, f"\\{letter}")
    if not inside:
        return f"[{'^' if letter.isupper() else ''}{_CLASSES[letter.lower()]}]"
    # Of ASCII if it is negated: a class within a class cannot be turned round.
    return f"\\{letter}" if letter.isupper() else _CLASSES[letter.lower()]


def _cannot(pattern: str, what: str) -> str:
    return (
        f'"{shortened(pattern)}" has {what}, which could run for ever on a long text: '
        "write it without, or use a function of your own"
    )


@lru_cache(maxsize=512)
def group_count(pattern: str) -> int:
    """How many groups a pattern has, in the engine's form."""
    count, place, inside = 0, 0, False
    while place < len(pattern):
        if pattern[place] == "\\":
            place += 2
            continue
        if inside:
            inside = pattern[place] != "]"
        elif pattern[place] == "[":
            inside = True
            place += 1 if pattern[place + 1 : place + 2] == "]" else 0
        elif pattern[place] == "(":
            named = pattern[place + 1 : place + 4] == "?P<" or (
                pattern[place + 1 : place + 3] == "?<" and pattern[place + 3 : place + 4] not in ("=", "!")
            )
            count += pattern[place + 1 : place + 2] != "?" or named
        place += 1
    return count
