"""Puts steps in an order in which each comes after what it waits for."""

from __future__ import annotations

import heapq
from collections.abc import Sequence

from msgspec import Struct

from kanal.connections.description import ForeignKey
from kanal.core.errors import KanalError


class Wait(Struct, frozen=True):
    """A step waits for another, and why; `keys` if it is only because of these foreign keys."""

    step: str
    before: str
    why: str
    keys: tuple[ForeignKey, ...] = ()

    @property
    def needs_rows(self) -> bool:
        """True if the step looks at rows that the other loads, and does not just come after it."""
        return self.why.startswith(("reads ", "looks up ", "checks against "))


class CircleError(KanalError):
    """Steps that wait for each other in a circle."""

    def __init__(self, circle: Sequence[Wait], remedy: str = "take one of these waits away, by not_after") -> None:
        self.circle = list(circle)
        ring = " → ".join([*(wait.step for wait in circle), circle[0].step])
        reasons = "; ".join(f"{wait.step} waits for {wait.before}: {wait.why}" for wait in circle)
        super().__init__(f"These steps wait for each other in a circle: {ring} ({reasons})", remedy)


def in_order(steps: Sequence[str], waits: Sequence[Wait]) -> list[str]:
    """The steps, each after all that it waits for, else in the order given; raises CircleError."""
    places = {step: place for place, step in enumerate(steps)}
    pending: dict[str, set[str]] = {step: set() for step in steps}
    following: dict[str, list[str]] = {step: [] for step in steps}
    for wait in waits:
        if wait.step in places and wait.before in places and wait.before not in pending[wait.step]:
            pending[wait.step].add(wait.before)
            following[wait.before].append(wait.step)
    ready = [places[step] for step in steps if not pending[step]]
    ordered: list[str] = []
    while ready:
        step = steps[heapq.heappop(ready)]
        ordered.append(step)
        for other in following[step]:
            pending[other].discard(step)
            if not pending[other]:
                heapq.heappush(ready, places[other])
    if len(ordered) < len(steps):
        done = set(ordered)
        raise CircleError(_circle([step for step in steps if step not in done], waits))
    return ordered


def _circle(stuck: Sequence[str], waits: Sequence[Wait]) -> list[Wait]:
    """One circle among steps that all wait for one of each other."""
    among, following = set(stuck), dict[str, Wait]()
    for wait in waits:
        if wait.step in among and wait.before in among:
            following.setdefault(wait.step, wait)
    path: list[str] = [stuck[0]]
    while following[path[-1]].before not in path:
        path.append(following[path[-1]].before)
    start = path.index(following[path[-1]].before)
    return [following[step] for step in path[start:]]
