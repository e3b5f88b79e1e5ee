"""Compares two sets of rows by the hashes of their keys and of the whole rows."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from kanal.core.hashing import Hashes


class Compared(Struct, frozen=True):
    """How many rows are the same, and the hashed keys of those that are missing on the right, extra on it, or differ.

    A key stands as often as it has such rows.
    """

    same: int
    missing: Hashes
    extra: Hashes
    differing: Hashes


def compare_hashes(left_keys: Hashes, left_rows: Hashes, right_keys: Hashes, right_rows: Hashes) -> Compared:
    """Compare rows as bags: a key may stand several times, and then as many of its rows must be the same."""
    keys = np.concatenate([left_keys, right_keys])
    rows = np.concatenate([left_rows, right_rows])
    side = np.concatenate([np.ones(len(left_keys), np.int64), np.zeros(len(right_keys), np.int64)])
    if not len(keys):
        nothing = np.zeros(0, np.uint64)
        return Compared(0, nothing, nothing, nothing)
    order = np.lexsort((rows, keys))
    keys, rows, side = keys[order], rows[order], side[order]
    new_key = np.concatenate([[True], keys[1:] != keys[:-1]])
    new_pair = new_key | np.concatenate([[True], rows[1:] != rows[:-1]])
    pairs = np.flatnonzero(new_pair)
    lefts = np.add.reduceat(side, pairs)
    rights = np.diff(np.append(pairs, len(keys))) - lefts
    both = np.minimum(lefts, rights)
    of_key = np.flatnonzero(new_key[pairs])
    only_left, only_right = (np.add.reduceat(counts - both, of_key) for counts in (lefts, rights))
    differing = np.minimum(only_left, only_right)
    named = keys[pairs][of_key]
    return Compared(
        int(both.sum()),
        np.repeat(named, only_left - differing),
        np.repeat(named, only_right - differing),
        np.repeat(named, differing),
    )


#: Stands in place of the hash of a row that says that rows of its key are to go.
WITHDRAWN = np.uint64(0)


def not_withdrawn(keys: Hashes, rows: Hashes) -> tuple[Hashes, Hashes]:
    """The rows that stay, if a WITHDRAWN one takes those of its key away that come before it."""
    (gone,) = np.nonzero(rows == WITHDRAWN)
    if not len(gone):
        return keys, rows
    withdrawn, place = np.unique(keys[gone][::-1], return_index=True)
    last = gone[len(gone) - 1 - place]
    found = np.minimum(np.searchsorted(withdrawn, keys), len(withdrawn) - 1)
    stays = (withdrawn[found] != keys) | (np.arange(len(keys)) > last[found])
    return keys[stays], rows[stays]


def last_of_key(keys: Hashes, rows: Hashes) -> tuple[Hashes, Hashes]:
    """Of each key the last row alone."""
    _, place = np.unique(keys[::-1], return_index=True)
    chosen = len(keys) - 1 - place
    return keys[chosen], rows[chosen]
