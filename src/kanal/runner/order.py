"""Puts steps in an order in which each comes after what it waits for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kanal.core.errors import KanalError


@dataclass(frozen=True)
class Wait:
    """A step waits for another, and why."""

    step: str
    before: str
    why: str


class CircleError(KanalError):
    """Steps that wait for each other in a circle."""

    def __init__(self, circle: Sequence[Wait]) -> None:
        self.circle = list(circle)
        ring = " → ".join([*(wait.step for wait in circle), circle[0].step])
        reasons = "; ".join(f"{wait.step} waits for {wait.before}: {wait.why}" for wait in circle)
        super().__init__(
            f"These steps wait for each other in a circle: {ring} ({reasons})", "take one of these waits away"
        )


def in_order(steps: Sequence[str], waits: Sequence[Wait]) -> list[str]:
    """The steps, each after all that it waits for, else in the order given; raises CircleError."""
    pending: Mapping[str, set[str]] = {
        step: {wait.before for wait in waits if wait.step == step and wait.before in steps} for step in steps
    }
    ordered: list[str] = []
    done: set[str] = set()
    while len(ordered) < len(steps):
        ready = next((step for step in steps if step not in done and pending[step] <= done), None)
        if ready is None:
            raise CircleError(_circle([step for step in steps if step not in done], waits))
        ordered.append(ready)
        done.add(ready)
    return ordered


def _circle(stuck: Sequence[str], waits: Sequence[Wait]) -> list[Wait]:
    """One circle among steps that all wait for one of each other."""
    following = {step: next(wait for wait in waits if wait.step == step and wait.before in stuck) for step in stuck}
    path: list[str] = [stuck[0]]
    while following[path[-1]].before not in path:
        path.append(following[path[-1]].before)
    start = path.index(following[path[-1]].before)
    return [following[step] for step in path[start:]]
