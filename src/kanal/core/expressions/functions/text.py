"""Functions on text. Lengths and positions count characters (code points) from 1."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from functools import lru_cache

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kanal.core.arrays import is_ascii, mask_of, null_where_not, patch, valid_mask
from kanal.core.expressions.patterns import group_count, linear
from kanal.core.expressions.registry import function, python_function
from kanal.core.faults import Refusal
from kanal.core.frame import Frame
from kanal.core.reasons import Reason

_GROUP = "Text"


@function("upper(text) -> text", ("upper('Sluis')", "SLUIS"), _GROUP)
def upper(_: Frame, text: pa.Array) -> pa.Array:
    """The text in upper case, character by character: ß, which has no single capital in use, stays."""
    if is_ascii(text):
        return pc.ascii_upper(text)
    upper_text = pc.utf8_upper(text)
    sharp = mask_of(pc.match_substring(text, "ß"))
    if not sharp.any():
        return upper_text
    rows = np.flatnonzero(sharp)
    return patch(upper_text, rows, ["".join(map(_capital, value)) for value in text.take(pa.array(rows)).to_pylist()])


def _capital(character: str) -> str:
    """A character's capital, if it is one character too."""
    capital = character.upper()
    return capital if len(capital) == 1 else character


@function("lower(text) -> text", ("lower('SLUIS')", "sluis"), _GROUP)
def lower(_: Frame, text: pa.Array) -> pa.Array:
    """The text in lower case."""
    return pc.ascii_lower(text) if is_ascii(text) else pc.utf8_lower(text)


@python_function("initcap(text) -> text", ("initcap('de kleine sluis')", "De Kleine Sluis"), _GROUP)
def initcap(text: str) -> str:
    """The text with the first letter of each word in upper case and the others in lower case."""
    return re.sub(r"[^\W_]+", lambda word: _capital(word[0][0]) + word[0][1:].lower(), text)


@function("char_length(text) -> integer", ("char_length('brug')", "4"), _GROUP)
@function("length(text) -> integer", ("length('brug')", "4"), _GROUP)
@function("character_length(text) -> integer", ("character_length('brug')", "4"), _GROUP)
def char_length(_: Frame, text: pa.Array) -> pa.Array:
    """The number of characters."""
    return pc.utf8_length(text)


@function("octet_length(text) -> integer", ("octet_length('één')", "5"), _GROUP)
@function("octet_length(binary) -> integer", ("octet_length(x'00ff')", "2"), _GROUP)
def octet_length(_: Frame, text: pa.Array) -> pa.Array:
    """The number of bytes, of a text in UTF-8."""
    return pc.binary_length(text)


def _trimmed(frame: Frame, text: pa.Array, characters: pa.Array | None, side: str) -> pa.Array:
    kernels = {"both": pc.utf8_trim, "left": pc.utf8_ltrim, "right": pc.utf8_rtrim}
    if characters is None:
        return kernels[side](text, characters=" ")
    distinct = characters.unique().to_pylist()
    if len(distinct) == 1 and distinct[0] is not None:
        return kernels[side](text, characters=distinct[0]) if distinct[0] else text
    strip = {"both": str.strip, "left": str.lstrip, "right": str.rstrip}[side]
    pairs = zip(text.to_pylist(), characters.to_pylist(), strict=True)
    return pa.array([None if a is None or b is None else strip(a, b) if b else a for a, b in pairs], pa.string())


@function("btrim(text, text?) -> text", ("btrim('  brug ')", "brug"), _GROUP)
@function("trim(text, text?) -> text", ("trim(BOTH 'x' FROM 'xxbrugx')", "brug"), _GROUP)
def btrim(frame: Frame, text: pa.Array, characters: pa.Array | None = None) -> pa.Array:
    """The text without blanks, or any of the characters given, at both ends."""
    return _trimmed(frame, text, characters, "both")


@function("ltrim(text, text?) -> text", ("ltrim('007', '0')", "7"), _GROUP)
def ltrim(frame: Frame, text: pa.Array, characters: pa.Array | None = None) -> pa.Array:
    """The text without blanks, or any of the characters given, at its start."""
    return _trimmed(frame, text, characters, "left")


@function("rtrim(text, text?) -> text", ("rtrim('brug   ')", "brug"), _GROUP)
def rtrim(frame: Frame, text: pa.Array, characters: pa.Array | None = None) -> pa.Array:
    """The text without blanks, or any of the characters given, at its end."""
    return _trimmed(frame, text, characters, "right")


def _one(values: pa.Array) -> object:
    """The value that all rows share, or None if they differ or it is NULL."""
    if not len(values):
        return None
    first = values[0]
    return first.as_py() if len(values.unique()) == 1 else None


@function("substring(text, integer, integer?) -> text", ("substring('NL-4711' FROM 4 FOR 2)", "47"), _GROUP)
@function("substr(text, integer, integer?) -> text", ("substr('NL-4711', 4)", "4711"), _GROUP)
def substring(frame: Frame, text: pa.Array, start: pa.Array, length: pa.Array | None = None) -> pa.Array:
    """The part of the text from a position on, of a length or to the end; positions before 1 count for the length."""
    if length is not None:
        negative = mask_of(pc.less(length, 0)) & valid_mask(text) & valid_mask(start)
        frame.refuse(negative, Reason.OUT_OF_RANGE, "the length of a substring is negative", length)
        length = null_where_not(length, ~negative)
    first, count = _one(start), None if length is None else _one(length)
    if isinstance(first, int) and (length is None or isinstance(count, int)):
        stop = None if not isinstance(count, int) else max(0, min(first + count - 1, 2**31 - 1))
        begin = max(0, min(first - 1, 2**31 - 1))
        if stop is not None and stop <= begin:
            return pc.if_else(pc.is_valid(text), pa.scalar(""), text)
        return pc.utf8_slice_codeunits(text, begin, stop)
    lengths = [None] * len(text) if length is None else length.to_pylist()
    result: list[str | None] = []
    for value, begin, size in zip(text.to_pylist(), start.to_pylist(), lengths, strict=True):
        if value is None or begin is None or (length is not None and size is None):
            result.append(None)
        else:
            result.append(value[max(0, begin - 1) : None if size is None else max(0, begin - 1 + size)])
    return pa.array(result, pa.string())


@function("left(text, integer) -> text", ("left('Sluis', 3)", "Slu"), _GROUP)
def left(_: Frame, text: pa.Array, count: pa.Array) -> pa.Array:
    """The first characters; with a negative count, all but that number of last ones."""
    same = _one(count)
    if isinstance(same, int) and 0 <= same < 2**31:
        return pc.utf8_slice_codeunits(text, 0, same)
    pairs = zip(text.to_pylist(), count.to_pylist(), strict=True)
    return pa.array([None if a is None or n is None else a[:n] for a, n in pairs], pa.string())


@python_function("right(text, integer) -> text", ("right('Sluis', 3)", "uis"), _GROUP)
def right(text: str, count: int) -> str:
    """The last characters; with a negative count, all but that number of first ones."""
    return (text[-count:] if count else "") if count >= 0 else text[-count:]


@function("strpos(text, text) -> integer", ("position('l' IN 'Sluis')", "2"), _GROUP)
def strpos(_: Frame, text: pa.Array, part: pa.Array) -> pa.Array:
    """The first place of the part in the text, 0 if it does not occur; also written POSITION(part IN text)."""
    same = _one(part)
    if isinstance(same, str) and same.isascii() and mask_of(pc.string_is_ascii(text)).all():
        return pc.add(pc.find_substring(text, pattern=same), 1)
    pairs = zip(text.to_pylist(), part.to_pylist(), strict=True)
    return pa.array([None if a is None or b is None else a.find(b) + 1 for a, b in pairs], pa.int32())


@function("replace(text, text, text) -> text", ("replace('4.711', '.', '')", "4711"), _GROUP)
def replace(_: Frame, text: pa.Array, part: pa.Array, by: pa.Array) -> pa.Array:
    """The text with every occurrence of a part replaced."""
    old, new = _one(part), _one(by)
    if isinstance(old, str) and isinstance(new, str):
        return pc.replace_substring(text, old, new) if old else text
    rows = zip(text.to_pylist(), part.to_pylist(), by.to_pylist(), strict=True)
    return pa.array(
        [None if None in row else row[0].replace(row[1], row[2]) if row[1] else row[0] for row in rows],
        pa.string(),
    )


@python_function("translate(text, text, text) -> text", ("translate('a-b.c', '-.', '_')", "a_bc"), _GROUP)
def translate(text: str, characters: str, by: str) -> str:
    """The text with each of the characters replaced by the one at its place, or removed if there is none."""
    table: dict[int, str | None] = {}
    for place, character in enumerate(characters):
        table.setdefault(ord(character), by[place] if place < len(by) else None)
    return text.translate(table)


@python_function("overlay(text, text, integer) -> text", ("overlay('Sxxxs' PLACING 'lui' FROM 2)", "Sluis"), _GROUP)
def overlay(text: str, by: str, start: int) -> str:
    """The text with a part replaced from a position on: as long as the new text, or as FOR gives."""
    return overlay_for(text, by, start, len(by))


@python_function(
    "overlay(text, text, integer, integer) -> text",
    ("overlay('S-s' PLACING 'lui' FROM 2 FOR 1)", "Sluis"),
    _GROUP,
)
def overlay_for(text: str, by: str, start: int, length: int) -> str:
    """The text with this number of characters replaced from a position on."""
    if start <= 0:
        raise Refusal(Reason.OUT_OF_RANGE, "OVERLAY starts at position 1 or later")
    return text[: start - 1] + by + text[max(0, start - 1 + length) :]


def _padding(text: str, length: int, fill: str) -> str:
    if length > 10_000_000:
        raise Refusal(Reason.OUT_OF_RANGE, "a text is padded to at most 10,000,000 characters")
    missing = length - len(text)
    if not fill or missing <= 0:
        return ""
    return (fill * (missing // len(fill) + 1))[:missing]


@python_function("lpad(text, integer, text) -> text", ("lpad('42', 5, '0')", "00042"), _GROUP)
def lpad(text: str, length: int, fill: str) -> str:
    """The text filled up at its start to a length; a longer text is cut."""
    return (
        (_padding(text, length, fill) + text)[: max(0, length)]
        if length < len(text)
        else (_padding(text, length, fill) + text)
    )


@python_function("lpad(text, integer) -> text", ("lpad('42', 4)", "  42"), _GROUP)
def lpad_blank(text: str, length: int) -> str:
    """The text filled up with blanks at its start."""
    return lpad(text, length, " ")


@python_function("rpad(text, integer, text) -> text", ("rpad('42', 5, '-')", "42---"), _GROUP)
def rpad(text: str, length: int, fill: str) -> str:
    """The text filled up at its end to a length; a longer text is cut."""
    return text[: max(0, length)] + _padding(text, length, fill)


@python_function("rpad(text, integer) -> text", ("rpad('42', 4)", "42  "), _GROUP)
def rpad_blank(text: str, length: int) -> str:
    """The text filled up with blanks at its end."""
    return rpad(text, length, " ")


@function("reverse(text) -> text", ("reverse('Sluis')", "siulS"), _GROUP)
def reverse(_: Frame, text: pa.Array) -> pa.Array:
    """The characters in reverse order."""
    return pc.utf8_reverse(text)


@python_function("repeat(text, integer) -> text", ("repeat('ab', 3)", "ababab"), _GROUP)
def repeat(text: str, count: int) -> str:
    """The text, repeated this number of times."""
    if len(text) * count > 10_000_000:
        raise Refusal(Reason.OUT_OF_RANGE, "a repeated text has at most 10,000,000 characters")
    return text * max(0, count)


@python_function("split_part(text, text, integer) -> text", ("split_part('AB/12/x', '/', 2)", "12"), _GROUP)
def split_part(text: str, separator: str, place: int) -> str:
    """The part at a place, counted from 1, or from the end if negative; an empty text if there is no such part."""
    if place == 0:
        raise Refusal(Reason.OUT_OF_RANGE, "parts are counted from 1")
    parts = text.split(separator) if separator else [text]
    index = place - 1 if place > 0 else len(parts) + place
    return parts[index] if 0 <= index < len(parts) else ""


@function("concatenate(text, text) -> text", ("'Ship ' || 7", "Ship 7"), _GROUP)
def concatenate(_: Frame, a: pa.Array, b: pa.Array) -> pa.Array:
    """The texts joined, NULL if one is NULL; written `a || b`."""
    return pc.binary_join_element_wise(a, b, "")


@function("binary_concat(binary, binary) -> binary", ("octet_length(x'00' || x'ff')", "2"), _GROUP)
def binary_concat(_: Frame, a: pa.Array, b: pa.Array) -> pa.Array:
    """The bytes one after the other; written `a || b`."""
    return pc.binary_join_element_wise(a, b, b"")


@function("concat(value, value...) -> text", ("concat('a', NULL, 'b')", "ab"), _GROUP)
def concat(_: Frame, *texts: pa.Array) -> pa.Array:
    """The texts one after the other, NULLs left out; booleans as t and f."""
    return pc.binary_join_element_wise(*texts, "", null_handling="replace", null_replacement="")


@function("concat_ws(text, value...) -> text", ("concat_ws('-', 'a', NULL, 'b')", "a-b"), _GROUP)
def concat_ws(_: Frame, separator: pa.Array, *texts: pa.Array) -> pa.Array:
    """The texts with a separator between, without NULLs, booleans as t and f; an empty text if all are NULL."""
    nothing = np.ones(len(separator), dtype=np.bool_)
    for values in texts:
        nothing &= ~valid_mask(values)
    # Arrow leaves out rows in which all are NULL, so that those after them would move up.
    first = pc.if_else(pa.array(nothing), pa.scalar(""), texts[0])
    joined = pc.binary_join_element_wise(first, *texts[1:], separator.fill_null(""), null_handling="skip")
    return null_where_not(joined, valid_mask(separator))


def like_pattern(pattern: str, escape: str) -> str:
    """The regular expression of a LIKE pattern; raises Refusal if it ends in its escape character."""
    if len(escape) > 1:
        raise Refusal(Reason.OUT_OF_RANGE, "the escape of LIKE is one character")
    result, place = "", 0
    while place < len(pattern):
        character = pattern[place]
        if escape and character == escape:
            place += 1
            if place == len(pattern):
                raise Refusal(Reason.OUT_OF_RANGE, "a LIKE pattern must not end in its escape character")
            result += re.escape(pattern[place])
        else:
            result += {"%": ".*", "_": "."}.get(character) or re.escape(character)
        place += 1
    return result


def similar_pattern(pattern: str, escape: str) -> str:
    """The regular expression of a SIMILAR TO pattern (ISO SQL: % _ | * + ? {} () [])."""
    result, place, inside = "", 0, False
    while place < len(pattern):
        character = pattern[place]
        if escape and character == escape:
            place += 1
            if place == len(pattern):
                raise Refusal(Reason.OUT_OF_RANGE, "a SIMILAR TO pattern must not end in its escape character")
            result += re.escape(pattern[place])
        elif inside:
            inside = character != "]"
            result += "\\" + character if character == "\\" else character
        elif character == "[":
            inside = True
            result += character
        elif character in "|*+?{}()":
            result += "(?:" if character == "(" else character
        else:
            result += {"%": ".*", "_": "."}.get(character) or re.escape(character)
        place += 1
    return f"(?:{result})"


@lru_cache(maxsize=512)
def _pattern_of(kind: str, pattern: str, escape: str) -> str:
    """The regular expression of a LIKE, ILIKE or SIMILAR TO pattern, over the whole text; raises Refusal."""
    text = similar_pattern(pattern, escape) if kind == "similar_to" else like_pattern(pattern, escape)
    return linear(rf"\A(?:{text})\z", "i" if kind == "ilike" else "")


def _by_patterns(
    frame: Frame,
    text: pa.Array,
    patterns: list[pa.Array],
    compiled: Callable[..., str],
    kernel: Callable[..., pa.Array],
) -> pa.Array:
    """What a kernel gives for texts and their patterns, for all rows with the same pattern at once."""
    rows = list(zip(*(values.to_pylist() for values in patterns), strict=True))
    groups: dict[tuple[str, ...], list[int]] = {}
    if rows and all(_one(values) is not None for values in patterns):
        groups[rows[0]] = list(range(len(rows)))
    else:
        for row, parts in enumerate(rows):
            if None not in parts:
                groups.setdefault(parts, []).append(row)
    pieces: list[pa.Array] = []
    places: list[int] = []
    for parts, members in groups.items():
        try:
            pattern = compiled(*parts)
        except Refusal as refusal:
            bad = np.zeros(len(text), dtype=np.bool_)
            bad[members] = True
            frame.refuse(bad & valid_mask(text), refusal.reason, refusal.message, patterns[0])
            continue
        if len(members) == len(text):
            return kernel(text, pattern, parts)
        pieces.append(kernel(text.take(pa.array(members)), pattern, parts))
        places += members
    found = kernel(pa.nulls(len(text), pa.string()), "", ("", "", ""))
    if places:
        order = np.argsort(np.array(places), kind="stable")
        mask = np.zeros(len(text), dtype=np.bool_)
        mask[places] = True
        found = pc.replace_with_mask(found, pa.array(mask), pa.concat_arrays(pieces).take(pa.array(order)))
    return found


def _matches(values: pa.Array, pattern: str, _: object = None) -> pa.Array:
    return pc.match_substring_regex(values, pattern)


@function("like(text, text, text) -> boolean", ("'Sluis' LIKE 'Sl%'", "true"), "Patterns")
def like(frame: Frame, text: pa.Array, pattern: pa.Array, escape: pa.Array) -> pa.Array:
    """`text LIKE pattern [ESCAPE c]`: % matches any characters, _ matches one; the escape is a backslash by default."""
    same, sign = _one(pattern), _one(escape)
    if isinstance(same, str) and sign == "\\" and not same.endswith("\\"):
        return pc.match_like(text, same)
    return _matched(frame, "like", text, pattern, escape)


def _matched(frame: Frame, kind: str, text: pa.Array, pattern: pa.Array, escape: pa.Array) -> pa.Array:
    return _by_patterns(frame, text, [pattern, escape], lambda *parts: _pattern_of(kind, *parts), _matches)


@function("ilike(text, text, text) -> boolean", ("'Sluis' ILIKE 'sl%'", "true"), "Patterns")
def ilike(frame: Frame, text: pa.Array, pattern: pa.Array, escape: pa.Array) -> pa.Array:
    """As LIKE, regardless of case."""
    return _matched(frame, "ilike", text, pattern, escape)


@function(
    "similar_to(text, text, text) -> boolean",
    ("'NL-47' SIMILAR TO '[A-Z]+-[0-9]{2}'", "true"),
    "Patterns",
    check=lambda pattern=None, escape="\\", *_: None if pattern is None else _pattern_of("similar_to", pattern, escape),
)
def similar_to(frame: Frame, text: pa.Array, pattern: pa.Array, escape: pa.Array) -> pa.Array:
    """`text SIMILAR TO pattern`: ISO SQL's regular expressions, over the whole text."""
    return _matched(frame, "similar_to", text, pattern, escape)


def _check_regular(pattern: str | None = None, *others: str | None) -> None:
    if pattern is not None:
        linear(pattern, (others[-1] if others else "") or "")


@function(
    "regexp_like(text, text, text?) -> boolean",
    ("regexp_like('NL-47', '^[A-Z]+-')", "true"),
    "Patterns",
    check=_check_regular,
)
def regexp_like(frame: Frame, text: pa.Array, pattern: pa.Array, flags: pa.Array | None = None) -> pa.Array:
    """True if the regular expression matches somewhere; flags: i regardless of case, m ^ and $ at every line."""
    return _by_patterns(frame, text, [pattern] if flags is None else [pattern, flags], linear, _matches)


@function(
    "regexp_replace(text, text, text, text?) -> text",
    ("regexp_replace('a1b22', '[0-9]', '#', 'g')", "a#b##"),
    "Patterns",
    check=lambda pattern=None, by=None, flags=None, *_: _check_regular(pattern, flags),
)
def regexp_replace(
    frame: Frame, text: pa.Array, pattern: pa.Array, by: pa.Array, flags: pa.Array | None = None
) -> pa.Array:
    r"""The text with the first match replaced, with the flag g all; \1 to \9 stand for groups, \& for the match."""
    return _by_patterns(
        frame,
        text,
        [pattern, by] if flags is None else [pattern, by, flags],
        lambda pattern, by, flags="": linear(pattern, flags),
        lambda values, compiled, parts: _replaced(values, compiled, parts[1], "g" in (parts[2:] or ("",))[0]),
    )


#: Parts of a pattern that match a position, and no characters.
_ASSERTS = re.compile(r"[$^]|\\[bBAz]")


def _replaced(values: pa.Array, pattern: str, by: str, everywhere: bool) -> pa.Array:
    """The first match replaced, or all of them."""
    if everywhere:
        return pc.replace_substring_regex(values, pattern, _replacement(by, pattern))
    groups = group_count(pattern)
    beyond = any(7 < int(mark) <= groups for mark in re.findall(r"\\([1-9])", by))  # the engine counts no more than 9
    if beyond or not _ASSERTS.search(pattern):
        return pc.replace_substring_regex(values, pattern, _replacement(by, pattern), max_replacements=1)
    # To replace one match, Arrow matches the found text again by itself, where ^, $ and \y mean something else. So the
    # text before the match is matched too, and put back.
    whole = rf"\A((?s:.*?))({pattern})"
    found = pc.fill_null(pc.match_substring_regex(values, pattern), False)  # much faster, and most often few rows match
    changed = pc.replace_substring_regex(values.filter(found), whole, rf"\1{_replacement(by, pattern, 2)}")
    return pc.replace_with_mask(values, found, changed)


def _replacement(by: str, pattern: str, before: int = 0) -> str:
    r"""A replacement in the engine's form: \0 for all of the match, references to groups that there are.

    `before` is the number of groups in front of the pattern's own; the last of them is the whole match.
    """
    groups = group_count(pattern)

    def reference(match: re.Match[str]) -> str:
        mark = match[1]
        if mark == "&":
            return rf"\{before}"
        if mark.isdigit() and mark != "0":
            return rf"\{int(mark) + before}" if int(mark) <= groups else ""
        return r"\\" + ("" if mark == "\\" else mark)  # before anything else, it represents itself

    return re.sub(r"\\(.?)", reference, by, flags=re.DOTALL)


@python_function("md5(text) -> text", ("md5('brug')", hashlib.md5(b"brug").hexdigest()), "Hashes")
def md5(text: str) -> str:
    """The MD5 hash of the text in UTF-8, as 32 hexadecimal digits: for telling changes, not for secrets."""
    return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()


@python_function("sha256(text) -> text", ("sha256('brug')", hashlib.sha256(b"brug").hexdigest()), "Hashes")
def sha256(text: str) -> str:
    """The SHA-256 hash of the text in UTF-8, as 64 hexadecimal digits."""
    return hashlib.sha256(text.encode()).hexdigest()
