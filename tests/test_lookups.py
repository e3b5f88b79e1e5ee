"""Look-ups and doubled keys in the core: found exactly, by any kind of key, across batches."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kanal.core.errors import LookupTableError
from kanal.core.keys import SeenKeys, last_of_each
from kanal.core.lookups import LookupTable

keys = st.one_of(
    st.lists(st.tuples(st.none() | st.integers(-5, 30)), max_size=30),
    st.lists(st.tuples(st.none() | st.integers(-(2**63), 2**63 - 1)), max_size=30),
    st.lists(st.tuples(st.none() | st.text(max_size=3)), max_size=30),
    st.lists(st.tuples(st.none() | st.text("ab\x00", max_size=3), st.none() | st.integers(0, 3)), max_size=30),
    st.lists(st.tuples(st.none() | st.booleans(), st.none() | st.dates()), max_size=30),
)


def arrays(rows: list[tuple[Any, ...]], like: list[tuple[Any, ...]]) -> list[pa.Array]:
    width = len(like[0])
    kinds = [next((row[place] for row in like if row[place] is not None), 0) for place in range(width)]
    types = [pa.int64() if type(kind) is int else pa.array([kind]).type for kind in kinds]
    return [pa.array([row[place] for row in rows], types[place]) for place in range(width)]


@settings(max_examples=200, deadline=None)
@given(rows=keys.filter(bool), data=st.data())
def test_look_ups_and_doubled_keys_are_those_of_a_dictionary(rows: list[tuple[Any, ...]], data: st.DataObject) -> None:
    whole = [row for row in dict.fromkeys(rows) if None not in row]
    columns = arrays(whole, rows)
    names = [f"k{place}" for place in range(len(columns))]
    values = dict(zip(names, columns, strict=True)) | {"v": pa.array(range(len(whole)), pa.int64())}
    table = LookupTable("t", values, names)
    expected = {row: place for place, row in enumerate(whole)}
    found_rows, found = table.find(arrays(rows, rows))
    taken = table.take("v", found_rows, found)[0].to_pylist()
    assert taken == [expected.get(row) for row in rows]

    if len(set(whole)) < len([row for row in rows if None not in row]):
        with pytest.raises(LookupTableError, match="stands in the table more than once"):
            LookupTable("t", dict(zip(names, arrays(rows, rows), strict=True)), names)

    seen, batches, place = SeenKeys(), [], 0
    while place < len(rows):
        size = data.draw(st.integers(1, 7))
        batches.append(rows[place : place + size])
        place += size
    before: set[Any] = set()
    for batch in batches:
        expected_again = []
        for row in batch:
            expected_again.append(row in before)
            if None not in row:
                before.add(row)
        assert seen.repeated(arrays(batch, rows)).tolist() == expected_again
    last = [None in row or row not in rows[place + 1 :] for place, row in enumerate(rows)]
    assert last_of_each(*seen.hashes(arrays(rows, rows))).tolist() == last
