"""The competition of a load's rows for their keys: which row of a key is loaded, and which one follows if the target
refuses it. Only the thread that writes takes part in it."""

from __future__ import annotations

import bisect
from collections.abc import Iterator, Sequence
from typing import Protocol

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from kanal.core.arrays import Mask
from kanal.core.claims import Claims, Keyed, Verdict
from kanal.core.frame import SourceBatch
from kanal.core.hashing import Hashes
from kanal.runner.set_aside import Beaten, SetAside

Numbers = NDArray[np.int64]


class Next(Struct, frozen=True):
    """Rows whose turn it is, since the rows that had their keys were refused.

    `over` are those whose key a row of an earlier batch has in the target. `superseded` is true if the rows were
    counted as superseded, and not as rows that are still undecided.
    """

    batch: SourceBatch
    keyed: Keyed
    over: Mask
    superseded: bool


class RefusedKeys(Struct, frozen=True):
    """The keys of rows that the target has refused.

    `numbers` are those of rows that waited in the target, as they were offered and taken up again. `over` is true if
    the rows were to replace rows of earlier batches.
    """

    keyed: Keyed
    numbers: Sequence[int] = ()
    over: bool = False


class Contest(Protocol):
    """Rows are offered batch by batch, then rounds follow until none is refused, then the rest is settled."""

    def offer(self, batch: SourceBatch, keyed: Keyed) -> Verdict:
        """The verdict on a batch's rows; beaten rows are set aside."""

    def note(self, refused: RefusedKeys) -> None:
        """Note the rows that the target has refused."""

    def superseded(self) -> Numbers:
        """The numbers of offered rows that are not to be written; called once, after the last offer."""

    def next_round(self, kept: SetAside[SourceBatch] | None) -> Iterator[Next]:
        """The rows that follow the rows refused since the last round."""

    @property
    def undecided(self) -> bool:
        """True if rows were refused since the last round."""

    def settle(self) -> Iterator[Beaten]:
        """The rows that stay beaten."""

    def close(self) -> None:
        """Remove what was set aside."""


class ByTurns:
    """The first row of a key is loaded. If the last one counts, it is the last one of each batch, and replaces the row
    of an earlier batch: for loads whose batches are committed one by one."""

    def __init__(self, claims: Claims) -> None:
        self._claims = claims
        self._beaten = SetAside[Beaten]()
        self._lost: list[Keyed] = []
        #: Keys that rows of earlier batches have in the target, and that were to be replaced.
        self._held: list[Keyed] = []

    def offer(self, batch: SourceBatch, keyed: Keyed) -> Verdict:
        verdict = self._claims.sort_out(keyed)
        beaten = verdict.kept_back_by >= 0
        if beaten.any():
            places = np.flatnonzero(beaten)
            self._beaten.add(Beaten(batch.take(places), keyed.take(places), verdict.kept_back_by[places]))
        return verdict

    def note(self, refused: RefusedKeys) -> None:
        if len(refused.keyed.hashes[0]):
            self._lost.append(refused.keyed)
            if refused.over:
                self._held.append(refused.keyed)

    def superseded(self) -> Numbers:
        return np.zeros(0, dtype=np.int64)

    @property
    def undecided(self) -> bool:
        return bool(self._lost)

    def next_round(self, kept: SetAside[SourceBatch] | None) -> Iterator[Next]:
        del kept
        lost, self._lost = self._lost, []
        for keyed in lost:
            self._claims.release(keyed)
        held = np.concatenate([keyed.hashes[0] for keyed in self._held] or [np.zeros(0, dtype=np.uint64)])
        for beaten in self._beaten.taken():
            chosen = self._claims.second_chance(beaten.keyed)
            if chosen.any():
                following = beaten.take(chosen)
                over = np.isin(following.keyed.hashes[0], held)
                yield Next(following.batch, following.keyed, over, superseded=False)
            if not chosen.all():
                self._beaten.add(beaten.take(~chosen))

    def settle(self) -> Iterator[Beaten]:
        for keyed in self._held:  # the rows of earlier batches stay, and keep their keys
            self._claims.remember_again(keyed)
        self._held.clear()
        return self._beaten.taken()

    def close(self) -> None:
        self._beaten.close()


class LastRow:
    """The last row of a key that the target accepts is loaded, of all rows of a load. So all wait in the target, and
    the superseded ones are taken out before any is written."""

    def __init__(self) -> None:
        self._hashes: list[Hashes] = []
        self._valid: list[Mask] = []
        self._rows = 0
        #: The number of the first row of each of `_hashes` and `_again`.
        self._starts: list[int] = []
        #: Rows that could not even wait in the target.
        self._out: set[int] = set()
        self._lost: list[int] = []
        #: The keys of offered rows in order, and for each the number of its row; how far each key's rows were tried.
        self._ordered: tuple[Hashes, Numbers] | None = None
        self._tried: dict[int, int] = {}
        self._competes: Mask = np.zeros(0, dtype=np.bool_)
        self._again: list[Hashes] = []

    def offer(self, batch: SourceBatch, keyed: Keyed) -> Verdict:
        del batch
        count = len(keyed.hashes[0])
        self._starts.append(self._rows)
        self._hashes.append(keyed.hashes[0])
        self._valid.append(keyed.valid[0])
        self._rows += count
        none = np.zeros(count, dtype=np.bool_)
        return Verdict(~none, none, np.full(count, -1, dtype=np.int8))

    def note(self, refused: RefusedKeys) -> None:
        if self._ordered is None:
            self._out.update(refused.numbers)
        else:
            self._lost += refused.numbers

    def superseded(self) -> Numbers:
        hashes = np.concatenate(self._hashes or [np.zeros(0, dtype=np.uint64)])
        competes = np.concatenate(self._valid or [np.zeros(0, dtype=np.bool_)])
        competes[list(self._out)] = False
        self._competes = competes
        numbers = np.flatnonzero(competes)
        numbers = numbers[np.argsort(hashes[numbers], kind="stable")]
        ordered = hashes[numbers]
        self._ordered = ordered, numbers
        return np.sort(numbers[:-1][ordered[1:] == ordered[:-1]])

    @property
    def undecided(self) -> bool:
        return bool(self._lost)

    def next_round(self, kept: SetAside[SourceBatch] | None) -> Iterator[Next]:
        assert self._ordered is not None and kept is not None
        lost, self._lost = self._lost, []
        hashes, numbers = self._ordered
        wanted: list[int] = []
        for number in lost:
            if number < self._rows and not self._competes[number]:
                continue  # a key with a NULL is never another's
            key = self._key_of(number)
            first, end = np.searchsorted(hashes, key, "left"), np.searchsorted(hashes, key, "right")
            place = self._tried.get(int(key), int(end) - 1) - 1
            if first <= place:
                self._tried[int(key)] = place
                wanted.append(int(numbers[place]))
        wanted.sort()
        for batch, places in list(kept.find(wanted)):
            rows = batch.take(np.array(places, dtype=np.intp))
            keys = np.array([self._key_of(number) for number in wanted[: len(places)]], dtype=np.uint64)
            wanted = wanted[len(places) :]
            self._starts.append(self._rows + sum(map(len, self._again)))
            self._again.append(keys)
            everything = np.ones(rows.rows, dtype=np.bool_)
            yield Next(rows, Keyed([keys], [everything]), ~everything, superseded=True)

    def _key_of(self, number: int) -> np.uint64:
        part = bisect.bisect_right(self._starts, number) - 1
        of_offers = len(self._hashes)
        hashes = self._hashes[part] if part < of_offers else self._again[part - of_offers]
        found: np.uint64 = hashes[number - self._starts[part]]
        return found

    def settle(self) -> Iterator[Beaten]:
        return iter(())

    def close(self) -> None:
        """Nothing was set aside."""
