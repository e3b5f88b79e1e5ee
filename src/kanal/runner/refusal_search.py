"""Finds the rows of a range that a target refuses, and writes the others."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from kanal.connections.errors import RowsRefused
from kanal.connections.loading import RefusedRow, Written
from kanal.core.errors import KanalError

#: After this many rows in a row of which the target takes none, the load gives up.
HOPELESS = 200


#: Into this many parts a range is split in which a row is refused. With two, most rows would be written thrice.
PARTS = 16


class NothingTaken(KanalError):
    """The target refuses whatever it is given."""


class RefusalSearch:
    """Writes ranges of rows; if the target refuses one, goes on around the offending rows.

    `sift` says which rows of a range are bad, as far as it is known of all at once, and takes them out. Beyond
    that, the database often says which row it refuses; else the range is parted until the row stands alone.
    """

    def __init__(
        self, write: Callable[[int, int], Written], sift: Callable[[int, int], list[RefusedRow]] | None = None
    ) -> None:
        self._write = write
        self._sift = sift
        self._anything_taken = False

    def __call__(self, start: int, stop: int, known: Sequence[RefusedRow] = ()) -> Written:
        """Write the rows from start to before stop, without those that are known to be refused and were taken out;
        raises NothingTaken if the target takes none of many."""
        total = Written(refused=list(known))
        if known and len(known) >= stop - start:
            self._give_up_if_hopeless(total)
        ranges = [(start, stop)]
        while ranges:
            first, end = ranges.pop()
            if first >= end:
                continue
            try:
                done = self._write(first, end)
            except RowsRefused as refusal:
                if self._sift is not None:
                    found, self._sift = self._sift(first, end), None
                    if found:
                        total.refused += found
                        if len(found) < end - first:
                            ranges.append((first, end))
                        else:
                            self._give_up_if_hopeless(total)
                        continue
                if end - first == 1:
                    total.refused.append(RefusedRow(first, refusal.what, refusal.constraint))
                    self._give_up_if_hopeless(total)
                    continue
                told = refusal.row is not None and 0 <= refusal.row < end - first
                if told:
                    bad = first + (refusal.row or 0)
                    total.refused.append(RefusedRow(bad, refusal.what, refusal.constraint))
                    self._give_up_if_hopeless(total)
                    # Not all are known to be good before it: the target may look at rows in another order.
                    ranges += [(bad + 1, end), (first, bad)]
                else:
                    step = -(-(end - first) // PARTS)
                    ranges += [(part, min(part + step, end)) for part in reversed(range(first, end, step))]
                continue
            self._anything_taken = self._anything_taken or done.taken > 0
            total.add(done)
        total.refused.sort(key=lambda row: row.place)
        return total

    def _give_up_if_hopeless(self, total: Written) -> None:
        if not self._anything_taken and len(total.refused) >= HOPELESS:
            raise NothingTaken(
                f"the target refused each of the first {len(total.refused):,} rows, the last of them with: "
                f"{total.refused[-1].words}",
                "correct the mapping or the target; the load was given up",
            )
