"""Messages between runs and workers: data comes back as it was sent, and nothing else can be sent or read."""

from __future__ import annotations

import copy
import datetime as dt
import os
import pickle
from decimal import Decimal
from pathlib import Path
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

import pytest
import sqlalchemy as sa
from hypothesis import example, given
from hypothesis import strategies as st

from kanal.connections.description import ColumnInfo
from kanal.core.reasons import Reason
from kanal.core.tally import Tally
from kanal.core.types import parse_type
from kanal.runner.elsewhere.message_bytes import Sealed, decode, encode
from kanal.runner.messages import Ending, Failure, Goodbye, Said, Speaker

ZONES = st.sampled_from([None, dt.UTC, ZoneInfo("Europe/Amsterdam"), dt.timezone(dt.timedelta(hours=-3, minutes=30))])
PLAIN = st.one_of(
    st.none(), st.booleans(), st.integers(), st.floats(allow_nan=False), st.text(max_size=20), st.binary(max_size=20),
    st.decimals(allow_nan=False), st.dates(), st.times(), st.datetimes(timezones=ZONES), st.timedeltas(), st.uuids(),
    st.sampled_from([*Ending, *Reason]), st.just(Path("a/b")), st.builds(Tally, read=st.integers(0, 2**70)),
    st.builds(Failure, ending=st.just(Ending.FAILED), what=st.text(max_size=5), remedy=st.text(), said=st.text(max_size=5)),
)  # fmt: skip
VALUES = st.recursive(
    PLAIN,
    lambda inner: st.one_of(
        st.lists(inner, max_size=4),
        st.lists(inner, max_size=4).map(tuple),
        st.dictionaries(st.one_of(st.text(), st.integers(), st.tuples(st.text(), st.text())), inner, max_size=4),
        st.frozensets(st.integers()),
        st.sets(st.text()),
    ),
    max_leaves=12,
)


@given(VALUES)
@example(["record", "Tally"])
@example({"a": ("enum", "Ending", "FAILED")})
@example(dt.datetime(2025, 10, 26, 2, 30, tzinfo=ZoneInfo("Europe/Amsterdam"), fold=1))
def test_a_message_comes_back_as_it_was_sent(value: Any) -> None:
    said = Said(3, Goodbye(value), Speaker("hub", 7))
    found = decode(encode(said))
    assert found == said and type(found.message.outcome) is type(value)
    if isinstance(value, dt.datetime):
        assert found.message.outcome.tzinfo == value.tzinfo and found.message.outcome.fold == value.fold


class Planted:
    def __reduce__(self) -> tuple[Any, ...]:
        return os.getcwd, ()


@pytest.mark.parametrize("value", [Planted(), [print], {"a": Planted()}, type, (Tally, 1), 1j])
def test_what_is_no_data_cannot_be_sent(value: Any) -> None:
    with pytest.raises(TypeError, match="cannot be sent"):
        encode(value)


@given(st.binary(max_size=60))
@example(pickle.dumps(Planted()))
@example(encode(["x"])[:-1])
@example(b"\x93\xa6record\xa5Tally\x01\x02")
@example(b"\x92\xa6record\xa2os")
@example(b"\x91" * 5000)
@example(b"\x92\xa3int\xa3abc")
def test_bytes_that_are_no_message_are_refused_or_are_plain(content: bytes) -> None:
    try:
        found = decode(content)
    except ValueError:
        return
    kinds = (
        type(None),
        bool,
        int,
        float,
        str,
        bytes,
        list,
        tuple,
        set,
        frozenset,
        dict,
        dt.date,
        dt.time,
        dt.timedelta,
    )
    assert isinstance(found, (*kinds, Decimal, Path, UUID, Sealed, Tally)) or type(found).__module__.startswith(
        "kanal."
    )


def test_the_type_of_a_column_stays_sealed_until_a_worker_opens_it() -> None:
    column = ColumnInfo("mark", "varchar(8)", parse_type("varchar(8)"), parse_type("text"), dialect_type=sa.VARCHAR(8))
    found = decode(encode(column))
    assert found == column and isinstance(found.dialect_type, Sealed)
    assert copy.copy(found.dialect_type) is copy.deepcopy(found.dialect_type) is found.dialect_type
    again = decode(encode(found))  # which a run may send on
    opened = pickle.loads(pickle.dumps(again))
    assert isinstance(opened.dialect_type, sa.VARCHAR) and opened.dialect_type.length == 8
