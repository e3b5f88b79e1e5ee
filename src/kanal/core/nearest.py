"""Finds the known name nearest to one that is not known, for the hints in error messages."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """A hint such as `did you mean "voided"?`, else the names there are, else an empty text."""
    names = sorted(set(known))
    folded = {candidate.casefold(): candidate for candidate in names}
    close = difflib.get_close_matches(name.casefold()[:100], folded, n=1, cutoff=0.7)
    close = close or [candidate for candidate in folded if _one_slip(name.casefold(), candidate)]
    if close:
        return f'did you mean "{folded[close[0]]}"?'
    if not names:
        return ""
    shown = ", ".join(names[:12])
    return f"there are: {shown}" + (f" and {len(names) - 12} more" if len(names) > 12 else "")


def _one_slip(one: str, other: str) -> bool:
    """Whether a letter was left out or doubled, or two changed places."""
    short, long = sorted((one, other), key=len)
    if len(short) == len(long):
        return sorted(short) == sorted(long)
    return len(long) == len(short) + 1 and any(long[:n] + long[n + 1 :] == short for n in range(len(long)))
