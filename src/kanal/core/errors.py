"""The root of Kanal's errors, and those that the core raises."""

from __future__ import annotations

import re
from collections.abc import Sequence
from urllib.parse import unquote

from kanal.core.hidden import without_hidden


class KanalError(Exception):
    """Anything Kanal tells its user: one sentence of what is wrong and where, one of what to do.

    `what` says what happened and where; `remedy` says what to do about it and may be empty.
    """

    def __init__(self, what: str, remedy: str = "") -> None:
        self.what = tellable(what)
        self.remedy = tellable(remedy)
        super().__init__(sentence(self.what, self.remedy))


def passes(error: object) -> bool:
    """True for a trouble that may have passed when the same is tried again."""
    return bool(getattr(error, "passing", False))


#: Settings of URLs that are never secret. All others may be, and are not shown.
HARMLESS = frozenset({
    "access_mode", "application_name", "charset", "client_encoding", "connect_timeout", "database", "dbq", "driver",
    "dsn", "encrypt", "endpoint_url", "fetch", "filedsn", "gssencmode", "keepalives", "keepalives_count",
    "keepalives_idle", "keepalives_interval", "local_infile", "mode", "port", "read_timeout", "region", "server",
    "servername", "service", "sql_mode", "ssl", "ssl_ca", "ssl_capath", "ssl_cert", "ssl_check_hostname",
    "ssl_disabled", "ssl_key", "ssl_mode", "ssl_verify_cert", "ssl_verify_identity", "sslcert", "sslcompression",
    "sslcrl", "sslkey", "sslmode", "sslrootcert", "target_session_attrs", "timeout", "unix_socket", "uri",
    "write_timeout",
})  # fmt: skip

#: A password behind a user's name: in a URL, in a fragment of one, or in one without its scheme.
_PASSWORD = re.compile(
    r"(?<=/)([^\s/?#:@]*):(?!\*\*\*@)\S*@|(?<=//)([^\s/?#:@]*):(?!\*\*\*@)[^\n@]*@"
    r"|(?<![\w./:])([\w.-]+(?:/[\w.-]+)?):(?!\*\*\*@)[^\s/@'\"]+@(?=[\w.-]+[:/])"
)
#: A port that is not a number, and may be a part of a password.
_PORT = re.compile(r"(?<=@)([^\s/?#:@'\"]*):(?!\*\*\*)(?![0-9]*(?:[\s/?#'\"\])},.;:]|$))[^\s/?#]*")
_SETTINGS = re.compile(r"(/[^\s?]*\?)([^\s'\"\])},]*=[^\s'\"\])},]*)")
#: A password among the settings of a driver.
_PAIR = re.compile(r"(\b(?:pwd|passw(?:or)?d)=)(?!None\b|Secret\(|\*\*\*)(?:\{[^}]*\}|[^\s;&,'\"{}]+)", re.IGNORECASE)
#: A password in SQL.
_SQL_PASSWORD = re.compile(r"(\b(?:identified\s+by|password)\s*[=:]?\s*)'(?:[^']|'')*'", re.IGNORECASE)
#: A word, and not a key of a job with or without its value, or the name of a file.
_WORD = re.compile(r"[a-z]+(?![\w.:]|\s*=)")
_ENDLESS = re.compile(r"\S{300,}")


def masked(text: str) -> str:
    """A text with *** in place of secrets, and of passwords and settings of URLs, whoever wrote them there."""
    text = _SQL_PASSWORD.sub(r"\1'***'", without_hidden(text))
    if "=" in text:
        text = _PAIR.sub(r"\1***", text)
    if "@" not in text and "?" not in text:
        return text

    def settings(found: re.Match[str]) -> str:
        pairs = (part.partition("=") for part in found[2].split("&"))
        return found[1] + "&".join(f"{name}={_shown(name, value)}" for name, _, value in pairs)

    def password(found: re.Match[str]) -> str:
        return f"{found[1] or found[2] or found[3] or ''}:***@"

    return _SETTINGS.sub(settings, _PORT.sub(r"\1:***", _PASSWORD.sub(password, text)))


def _shown(setting: str, value: str) -> str:
    """The value of a setting of a URL; *** for one that may be secret, or an address with a password."""
    return value if setting.lower() in HARMLESS and "@" not in unquote(value) else "***"


def tellable(text: str) -> str:
    """A text as it may be shown: without passwords, and with each word of hundreds of letters cut."""
    return _ENDLESS.sub(lambda found: shortened(found[0], 200), masked(text))


def shortened(text: str, longest: int = 60) -> str:
    """A text for a message, cut after this many characters if it has more."""
    return text if len(text) <= longest else text[:longest] + "…"


def sentence(what: str, remedy: str = "") -> str:
    """What happened and what to do about it, as one or two sentences."""
    return f"{_ended(what)} {capital(_ended(remedy))}" if remedy else _ended(what)


def _ended(text: str) -> str:
    return text if text.endswith((".", "?", "!")) else f"{text}."


def capital(text: str) -> str:
    """A text with its first letter in upper case, for the start of a sentence; a key's name stays as it is."""
    return text[:1].upper() + text[1:] if _WORD.match(text) else text


def listed(names: Sequence[str]) -> str:
    """Names in a sentence: `a`, `a and b`, `a, b and c`."""
    return " and ".join(filter(None, [", ".join(names[:-1]), *names[-1:]]))


def duration(seconds: float) -> str:
    """Seconds for people: in minutes from a minute on, in hours from an hour on."""
    if seconds < 60:
        return f"{seconds:.2f} s" if seconds < 10 else f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes // 60} h {minutes % 60:02d} min" if minutes >= 60 else f"{minutes} min {rest:02d} s"


def rough_duration(seconds: float) -> str:
    """Seconds that are only estimated, for people: `40 s`, `12 min`, `3 h`."""
    if seconds < 90:
        return f"{max(1, round(seconds))} s"
    return f"{round(seconds / 60)} min" if seconds < 5400 else f"{round(seconds / 3600)} h"


def counted(count: int, noun: str) -> str:
    """A number of things: `1 row`, `1,200 rows`."""
    return f"{count:,} {noun}" if count == 1 else f"{count:,} {noun}s"


class ExpressionError(KanalError):
    """An expression that cannot be understood or has no meaning over the given columns.

    `position` is the offset, in characters from 0, at which the trouble is in `text`, or None.
    """

    def __init__(self, what: str, remedy: str = "", text: str = "", position: int | None = None) -> None:
        self.text = text
        self.position = position
        super().__init__(what, remedy)


class UnresolvedLookupError(ExpressionError):
    """An expression that uses a look-up which has a problem of its own, reported at the look-up."""


class ConversionError(KanalError):
    """A conversion that does not exist, or an option that has no effect on it."""


class TypeNameError(KanalError):
    """A type's name that is not one of Kanal's SQL types."""


class LookupTableError(KanalError):
    """A looked-up table that cannot serve as one, for example because a key is in it twice."""


class BooksError(KanalError):
    """A tally that does not balance."""
