"""Decides which rows of a load have their keys, and which have to stand back for another row with the same one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct

from kanal.core.arrays import Mask
from kanal.core.faults import Fault
from kanal.core.hashing import Hashes
from kanal.core.keys import SeenKeys, last_of_each
from kanal.core.reasons import Reason

#: A fault with the column that it is shown with.
Tagged = tuple[str | None, Fault]
KeyForm = Callable[[str, pa.Array], pa.Array]


class Claim:
    """Columns whose values only one row of a load may have; `check` names the check that says so, if it is one."""

    def __init__(self, columns: Sequence[str], check: str | None = None) -> None:
        self.columns = tuple(columns)
        self.check = check
        self.seen = SeenKeys()

    def fault(self, row: int, values: Sequence[str | None]) -> Tagged:
        """The fault of a row that comes too late."""
        named = ", ".join(f"{name} = {value}" for name, value in zip(self.columns, values, strict=True))
        shown = ", ".join(str(value) for value in values)
        if self.check is not None:
            said = f"check {self.check} fails: an earlier row of this load has {named} too"
            return self.columns[0], Fault(row, Reason.CHECK_FAILED, shown, said)
        said = (
            f"an earlier row of this load has {named} too: correct the source, "
            'or set duplicates = "first" or "last" to say which counts'
        )
        return self.columns[0], Fault(row, Reason.DUPLICATE_KEY, shown, said)


class Verdict(Struct):
    """What becomes of rows: those that have their keys, those that take the place of earlier ones, and which claim
    keeps back each of the others (-1 for none)."""

    accepted: Mask
    replacing: Mask
    kept_back_by: np.ndarray[tuple[int], np.dtype[np.int8]]


class Keyed(Struct):
    """The hashes of rows' keys, by claim, and which keys have no NULL: a key with one is never another's."""

    hashes: list[Hashes]
    valid: list[Mask]

    def take(self, rows: Any) -> Keyed:
        """Those of some rows, by a mask or by their places."""
        return Keyed([hashes[rows] for hashes in self.hashes], [valid[rows] for valid in self.valid])

    def turned(self) -> Keyed:
        """The same with the last row first."""
        return Keyed([hashes[::-1] for hashes in self.hashes], [valid[::-1] for valid in self.valid])


class Claims:
    """All claims of a load. A row has its keys once it is accepted, and loses them if it is not loaded after all."""

    def __init__(self, claims: Sequence[Claim], form: KeyForm, last_wins: bool = False) -> None:
        self.claims = list(claims)
        self.form = form
        self.last_wins = last_wins

    def keys_of(self, rows: pa.RecordBatch) -> Keyed:
        """The keys of rows, equal if the target holds them equal."""
        found = [
            claim.seen.hashes([self.form(name, rows.column(name)) for name in claim.columns]) for claim in self.claims
        ]
        return Keyed([hashes for hashes, _ in found], [valid for _, valid in found])

    def sort_out(self, keyed: Keyed) -> Verdict:
        """The verdict on a batch's rows; their keys are then theirs."""
        size = len(keyed.hashes[0])
        back = np.full(size, -1, dtype=np.int8)
        replacing = np.zeros(size, dtype=np.bool_)
        if self.last_wins:
            last = last_of_each(keyed.hashes[0], keyed.valid[0])
            known = self.claims[0].seen.known(keyed.hashes[0], keyed.valid[0])
            accepted, replacing = last & ~known, last & known
            back[~last] = 0
        else:
            late = [
                claim.seen.late(hashes, valid)
                for claim, hashes, valid in zip(self.claims, keyed.hashes, keyed.valid, strict=True)
            ]
            if len(self.claims) > 1 and any(one.any() for one in late):
                late = self._one_by_one(keyed)
            for place in reversed(range(len(late))):
                back[late[place]] = place
            accepted = back < 0
        self._remember(keyed, accepted)
        return Verdict(accepted, replacing, back)

    def _one_by_one(self, keyed: Keyed) -> list[Mask]:
        """Which rows come too late for which claim, if a row that fails one must not take the key of another."""
        known = [c.seen.known(h, v) for c, h, v in zip(self.claims, keyed.hashes, keyed.valid, strict=True)]
        late = [one.copy() for one in known]
        taken: list[set[int]] = [set() for _ in self.claims]
        hashes = [one.tolist() for one in keyed.hashes]
        for row in range(len(hashes[0])):
            given = [place for place in range(len(taken)) if keyed.valid[place][row]]
            for place in given:
                late[place][row] |= hashes[place][row] in taken[place]
            if not any(one[row] for one in late):
                for place in given:
                    taken[place].add(hashes[place][row])
        return late

    def second_chance(self, keyed: Keyed) -> Mask:
        """Which of rows that were kept back have their keys now that others lost them, the later ones first where
        the last counts; the keys are then theirs."""
        ordered = keyed.turned() if self.last_wins else keyed
        last_wins, self.last_wins = self.last_wins, False
        try:
            accepted = self.sort_out(ordered).accepted
        finally:
            self.last_wins = last_wins
        return accepted[::-1] if last_wins else accepted

    def _remember(self, keyed: Keyed, rows: Mask) -> None:
        for claim, hashes, valid in zip(self.claims, keyed.hashes, keyed.valid, strict=True):
            claim.seen.remember(hashes, valid & rows)

    def remember_again(self, keyed: Keyed) -> None:
        """Give keys back to rows that have them all the same, unless others have been given them meanwhile."""
        for claim, hashes, valid in zip(self.claims, keyed.hashes, keyed.valid, strict=True):
            missing = np.unique(hashes[valid & ~claim.seen.known(hashes, valid)])
            claim.seen.remember(missing, np.ones(len(missing), dtype=np.bool_))

    def release(self, keyed: Keyed) -> None:
        """Take the keys of rows away, which were not loaded after all."""
        for claim, hashes, valid in zip(self.claims, keyed.hashes, keyed.valid, strict=True):
            claim.seen.forget(hashes[valid])
