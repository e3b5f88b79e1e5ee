"""Where steps are in a picture of what waits for what."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

#: A step, and one that it waits for.
Pair = tuple[str, str]


def needed(waits: Sequence[Pair]) -> list[Pair]:
    """The waits without those that follow from others."""
    direct: dict[str, set[str]] = {}
    for step, before in waits:
        direct.setdefault(step, set()).add(before)

    def all_before(step: str) -> set[str]:
        found: set[str] = set()
        left = [step]
        while left:
            for before in direct.get(left.pop(), set()) - found:
                found.add(before)
                left.append(before)
        return found

    return [
        (step, before)
        for step, before in waits
        if not any(before in all_before(other) for other in direct[step] - {before})
    ]


def places_of(steps: Sequence[str], waits: Sequence[Pair]) -> Mapping[str, tuple[int, float]]:
    """The column and row of each step: right of all that it waits for, and near to those."""
    befores: dict[str, list[str]] = {step: [before for one, before in waits if one == step] for step in steps}
    column: dict[str, int] = {}
    for step in steps:  # which come in an order in which each comes after what it waits for
        column[step] = max((column[before] + 1 for before in befores[step]), default=0)
    rows: dict[str, float] = {}
    for number in range(max(column.values()) + 1):
        members = [step for step in steps if column[step] == number]

        def wish(step: str) -> float:
            there = [rows[before] for before in befores[step]]
            return sum(there) / len(there) if there else float(list(steps).index(step))

        ordered = sorted(members, key=wish)
        for place, step in enumerate(ordered):
            rows[step] = float(place)
    most = max(sum(1 for step in steps if column[step] == number) for number in range(max(column.values()) + 1))
    found = {}
    for step in steps:
        same = sum(1 for other in steps if column[other] == column[step])
        found[step] = (column[step], rows[step] + (most - same) / 2)
    return found
