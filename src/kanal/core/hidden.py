"""The secrets that this process has resolved, so that no message shows one, whoever wrote the message."""

from __future__ import annotations

import re
import threading
from urllib.parse import quote, quote_plus

#: A secret with fewer characters is not hidden: it would make other texts unreadable.
SHORTEST = 4
#: A secret of so many letters and nothing else is hidden only as a whole word, since it may be a part of others.
_WORDLIKE = 8
_lock = threading.Lock()
_secrets: set[str] = set()
_pattern: re.Pattern[str] | None = None


def hide(secret: str) -> None:
    """From now on, show *** in place of a secret of at least four characters, also as it is written in a URL."""
    global _pattern  # noqa: PLW0603 - what is secret is secret in the whole process
    forms = {secret, quote(secret, safe=""), quote_plus(secret), quote(secret)}
    with _lock:
        if len(secret.strip()) < SHORTEST or forms <= _secrets:
            return
        _secrets.update(forms)
        _pattern = re.compile("|".join(_as_pattern(text) for text in sorted(_secrets, key=len, reverse=True)))


def _as_pattern(text: str) -> str:
    found = re.escape(text)
    return rf"\b{found}\b" if text.isalpha() and len(text) <= _WORDLIKE else found


def without_hidden(text: str) -> str:
    """A text with *** in place of each secret in it."""
    return text if _pattern is None else _pattern.sub("***", text)
