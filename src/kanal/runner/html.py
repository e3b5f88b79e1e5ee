"""Small tables in HTML, by which results show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape


def html_table(caption: str, names: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table; numbers are set to the right, with separators of thousands."""
    head = "".join(f"<th>{escape(name)}</th>" for name in names)
    body = "".join(f"<tr>{''.join(map(_cell, row))}</tr>" for row in rows)
    return f"<table><caption>{escape(caption)}</caption><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def _cell(value: object) -> str:
    if isinstance(value, int | float) and not isinstance(value, bool):
        shown = f"{value:,}" if isinstance(value, int) else f"{value:,.2f}"
        return f'<td style="text-align: right">{shown}</td>'
    return f"<td>{'' if value is None else escape(str(value))}</td>"
