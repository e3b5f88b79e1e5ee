"""Pictures for the page, as SVG: the order of steps, where the time went, and how runs went."""

from __future__ import annotations

import statistics
import textwrap
from collections.abc import Mapping, Sequence
from typing import Any

from markupsafe import Markup, escape

from kanal.explore.layout import needed, places_of

#: The sign of each state, so that colour never tells alone.
SIGNS = {
    "good": "✓", "succeeded": "✓", "rejects": "!", "failed": "✗", "stopped": "■", "running": "▸", "waiting": "·",
    "blocked": "◦", "starting": "…", "stopping": "…",
}  # fmt: skip
_WIDE, _HIGH, _ACROSS, _DOWN = 210, 46, 285, 64


def order_picture(outline: Mapping[str, Any], states: Mapping[str, str]) -> Markup:
    """The steps of a plan from left to right, each with its state, and arrows to those that wait for it."""
    steps = [step["name"] for step in outline.get("steps", [])]
    if not steps:
        return Markup()
    kinds = {step["name"]: step for step in outline["steps"]}
    whys = {(step, before): why for step, before, why in outline["waits"] if step in kinds and before in kinds}
    waits = needed(list(whys))
    places = places_of(steps, waits)
    wide = (max(column for column, _ in places.values())) * _ACROSS + _WIDE + 4
    high = round(max(row for _, row in places.values()) * _DOWN) + _HIGH + 4
    parts = [
        f'<svg class="order" role="img" aria-label="The order of the steps" width="{wide}" height="{high}" '
        f'viewBox="0 0 {wide} {high}"><defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="7" '
        'markerHeight="7" orient="auto"><path d="M0,0 L8,4 L0,8 z" class="tip"/></marker></defs>'
    ]
    taken = set(places.values())
    for step, before in waits:
        (from_column, from_row), (column, row) = places[before], places[step]
        x1, y1 = from_column * _ACROSS + _WIDE + 2, from_row * _DOWN + _HIGH / 2 + 2
        x2, y2 = column * _ACROSS + 2, row * _DOWN + _HIGH / 2 + 2
        # Along its own row as far as no step stands there, else first to the other's row.
        free = all((between, from_row) not in taken for between in range(from_column + 1, column))
        turn = x2 - (_ACROSS - _WIDE) if free else x1
        half, end = (_ACROSS - _WIDE) / 2, min(turn + _ACROSS - _WIDE, x2 - 1)
        rest = f" H{x2 - 1:.0f}" if end < x2 - 1 else ""
        parts.append(
            f'<path class="wait" marker-end="url(#tip)" d="M{x1:.0f},{y1:.0f} H{turn:.0f} C{turn + half:.0f},{y1:.0f} '
            f'{turn + half:.0f},{y2:.0f} {end:.0f},{y2:.0f}{rest}"><title>'
            f"{escape(step)} waits for {escape(before)}: {escape(whys[step, before])}</title></path>"
        )
    for name, (column, row) in places.items():
        state = states.get(name, "waiting")
        x, y = column * _ACROSS + 2, row * _DOWN + 2
        about = kinds[name]
        said = f"{about['write']} → {about['target']}" if about.get("write") else f"SQL on {about.get('target', '')}"
        parts.append(
            f'<g class="step {escape(state)}"><title>{escape(name)}: {escape(state)}; {escape(said)}</title>'
            f'<rect x="{x}" y="{y:.0f}" width="{_WIDE}" height="{_HIGH}" rx="6"/>'
            f'<text x="{x + 12}" y="{y + 20:.0f}" class="name"><tspan class="sign">{SIGNS.get(state, "?")}</tspan> '
            f"{escape(textwrap.shorten(name, 26, placeholder='…') or name[:25] + '…')}</text>"
            f'<text x="{x + 12}" y="{y + 37:.0f}" class="said">'
            f"{escape(said if len(said) < 36 else said[:34] + '…')}</text></g>"
        )
    return Markup("".join([*parts, "</svg>"]))


def time_bar(parts: Sequence[float], longest: float) -> Markup:
    """Seconds of reading, computing and writing, as one bar next to others whose longest is given."""
    whole = max(longest, 1e-9)
    x, drawn = 0.0, []
    for name, seconds in zip(("reading", "computing", "writing"), parts, strict=True):
        width = 160 * seconds / whole
        drawn.append(
            f'<rect class="{name}" x="{x:.2f}" y="2" width="{width:.2f}" height="10">'
            f"<title>{name} {seconds:.2f} s</title></rect>"
        )
        x += width
    label = ", ".join(f"{n} {s:.2f} s" for n, s in zip(("reading", "computing", "writing"), parts, strict=True))
    return Markup(f'<svg class="bar" role="img" aria-label="{label}" width="160" height="14">{"".join(drawn)}</svg>')


def trend(label: str, values: Sequence[tuple[str, float, str]], unit: str) -> Markup:
    """A value over runs as bars: of each its name, the value, and how the run went. What is unusual has a mark.

    Unusual is what is less than half or more than twice the median of the runs shown, if there are at least four.
    """
    if not values:
        return Markup()
    numbers = [value for _, value, _ in values]
    most = max([*numbers, 1e-9])
    middle = statistics.median(numbers)
    wide, high, gap = 640, 120, 2
    each = min(28.0, wide / len(values))
    parts = [
        f'<svg class="trend" role="img" aria-label="{escape(label)} of the last {len(values)} runs, '
        f'median {short(middle)} {escape(unit)}" viewBox="0 0 {wide} {high + 22}">'
    ]
    for place, (name, value, mark) in enumerate(values):
        tall = max(1.0, high * value / most) if value else 0.0
        x = place * each
        odd = len(values) >= 4 and middle > 0 and (value < middle / 2 or value > 2 * middle) and mark != "failed"
        parts.append(
            f"<g><title>{escape(name)}: {short(value)} {escape(unit)}{', unusual' if odd else ''}</title>"
            f'<rect class="{escape(mark)}" x="{x:.1f}" y="{high + 14 - tall:.1f}" width="{each - gap:.1f}" '
            f'height="{tall:.1f}"/>'
        )
        if odd:
            parts.append(f'<text class="odd" x="{x + each / 2 - 1:.1f}" y="{max(11, high + 9 - tall):.1f}">▾</text>')
        parts.append("</g>")
    if middle:
        y = high + 14 - high * middle / most
        parts.append(f'<line class="median" x1="0" x2="{len(values) * each:.1f}" y1="{y:.1f}" y2="{y:.1f}"/>')
    return Markup("".join([*parts, "</svg>"]))


def short(value: float) -> str:
    """A number for people."""
    return f"{value:,.0f}" if value >= 10 or value == int(value) else f"{value:.2f}"
