"""Finds rejected rows, and records what becomes of them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from kanal.core.reasons import NOT_REPLAYED
from kanal.core.rejects import row_from_json
from kanal.runlog.database import RunLogDatabase, lasting
from kanal.runlog.tables import REJECT, RUN, STEP

if TYPE_CHECKING:
    import pyarrow as pa

#: The condition that the row of a reject can be loaded again by itself.
_REPLAYED = REJECT.c.reason.not_in([str(reason) for reason in NOT_REPLAYED])


class RejectEntries:
    """The rejects that a run log has."""

    def __init__(self, database: RunLogDatabase) -> None:
        self._database = database

    def table(self, run: int, step: str | None = None, **where: str | None) -> pa.Table:
        """The rejects of a run that are not resolved: step, column, reason, value, message, constraint (of the target),
        row (JSON), all text.

        Of one step, reason or column alone where these are given.
        """
        names = ("step", "column", "reason", "value", "message", "constraint", "row")
        chosen = _open(run, step=step, **where)
        statement = sa.select(*(REJECT.c[name] for name in names)).where(chosen).order_by(REJECT.c.reject)
        with self._database.begin() as connection:
            rows = connection.execute(statement).all()
        import pyarrow as pa

        columns = list(zip(*rows, strict=True)) if rows else [()] * len(names)
        return pa.table({name: pa.array(columns[place], pa.string()) for place, name in enumerate(names)})

    def page(self, run: int, limit: int, offset: int, **where: str | None) -> list[dict[str, Any]]:
        """So many rejects of a run that are not resolved, after others; of one step, reason or column if given."""
        names = ("step", "column", "reason", "value", "message", "constraint", "row")
        chosen = sa.select(*(REJECT.c[name] for name in names)).where(_open(run, **where)).order_by(REJECT.c.reject)
        with self._database.begin() as connection:
            return [dict(row._mapping) for row in connection.execute(chosen.limit(limit).offset(offset))]

    def rejected_rows(self, run: int, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The rejected source rows of a step that are not resolved, each with its number."""
        statement = sa.select(REJECT.c.reject, REJECT.c.row).where(_open(run), REJECT.c.step == step, _REPLAYED)
        with self._database.begin() as connection:
            rows = connection.execute(statement.order_by(REJECT.c.reject)).all()
        return [(row.reject, row_from_json(row.row)) for row in rows]

    def refused_in(self, run: int, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target refused in a step of a run."""
        chosen = sa.and_(REJECT.c.run == run, REJECT.c.step == step, REJECT.c.reason == "refused_by_target")
        with self._database.begin() as connection:
            return [row_from_json(row[0]) for row in connection.execute(sa.select(REJECT.c.row).where(chosen))]

    def refused_rows(self, job: str, step: str) -> list[tuple[int, dict[str, str | None]]]:
        """The source rows that the target refused when a step last ran, and that are not resolved."""
        last = sa.select(sa.func.max(STEP.c.run)).join(RUN, RUN.c.run == STEP.c.run)
        last = last.where(RUN.c.job == job, STEP.c.step == step, STEP.c.status == "succeeded")
        if not self._database.exists():
            return []
        with self._database.begin() as connection:
            run = connection.execute(last).scalar()
            chosen = sa.and_(_open(run, step=step, reason="refused_by_target")) if run is not None else sa.false()
            rows = connection.execute(sa.select(REJECT.c.reject, REJECT.c.row).where(chosen)).all()
        return [(row.reject, row_from_json(row.row)) for row in rows]

    def open_rejects(self, job: str, step: str, before: int) -> dict[str, list[int]]:
        """The rejects of a step in a job's runs before one, that are not resolved, by the keys of their source rows."""
        query = sa.select(REJECT.c.row_key, REJECT.c.reject).join(RUN, RUN.c.run == REJECT.c.run)
        query = query.where(
            RUN.c.job == job, REJECT.c.step == step, REJECT.c.run < before, REJECT.c.row_key.is_not(None), _REPLAYED
        )
        found: dict[str, list[int]] = {}
        with self._database.begin() as connection:
            for key, number in connection.execute(query.where(REJECT.c.resolved_by.is_(None))):
                found.setdefault(key, []).append(int(number))
        return found

    def unresolved_replays(self, job: str) -> list[tuple[int, str, str]]:
        """Runs of a job that died while they loaded rejects of earlier ones: the number, token and step of each."""
        query = sa.select(RUN.c.run, RUN.c.token, REJECT.c.step).where(
            RUN.c.job == job, REJECT.c.resolved_by == -RUN.c.run, RUN.c.status != "running"
        )
        with self._database.begin() as connection:
            return [(row.run, row.token, row.step) for row in connection.execute(query.distinct())]

    def resolved(self, run: int) -> int:
        """How many rejects of a run were resolved."""
        statement = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.resolved_by > 0)
        with self._database.begin() as connection:
            return int(connection.execute(statement).scalar() or 0)

    def gone(self, run: int) -> int:
        """How many rejects of a run are of rows that the source no longer had when they were to be loaded again."""
        statement = sa.select(sa.func.count()).where(REJECT.c.run == run, REJECT.c.ended == "gone")
        with self._database.begin() as connection:
            return int(connection.execute(statement).scalar() or 0)

    def groups(self, run: int, step: str | None = None, **where: str | None) -> list[dict[str, Any]]:
        """Rejects counted by step, column, reason and constraint, most first: with a message and value as example,
        and `longest`, the characters of the longest value. Of one step, reason or column alone where these are given.
        """
        keys = (REJECT.c.step, REJECT.c.column, REJECT.c.reason, REJECT.c.constraint)
        statement = (
            sa.select(
                *keys,
                sa.func.count().label("rows"),
                sa.func.max(sa.func.length(REJECT.c.value)).label("longest"),
                sa.func.min(REJECT.c.reject).label("example"),
            )
            .where(_open(run, step=step, **where))
            .group_by(*keys)
            .order_by(sa.desc("rows"), *keys)
        )
        with self._database.begin() as connection:
            groups = [dict(row._mapping) for row in connection.execute(statement)]
            for group in groups:
                example = connection.execute(
                    sa.select(REJECT.c.value, REJECT.c.message).where(REJECT.c.reject == group.pop("example"))
                ).one()
                group.update(example._mapping)
        return groups

    def examples(self, run: int, group: Mapping[str, Any], limit: int | None) -> list[dict[str, Any]]:
        """The first rejects of a group, as `reject_groups` gives it, or all of them: their messages and rows (JSON)."""
        keys = ("step", "column", "reason", "constraint")
        same = [REJECT.c[key].is_(None) if group[key] is None else REJECT.c[key] == group[key] for key in keys]
        query = sa.select(REJECT.c.message, REJECT.c.row).where(_open(run), *same).order_by(REJECT.c.reject)
        with self._database.begin() as connection:
            return [dict(row._mapping) for row in connection.execute(query.limit(limit))]

    def cascades(self, run: int, step: str | None = None) -> list[dict[str, Any]]:
        """Rejects for which another reject of the run is to blame, since they refer to the row that it would have been.

        Counted by step, constraint and the reject to blame, most first: `rows`, and of the reject to blame
        `parent_step`, `parent_column`, `parent_reason`, `parent` (a table and its key, JSON).
        """
        blamed = REJECT.alias("blamed")
        parts = (blamed.c[name].label(f"parent_{name}") for name in ("step", "column", "reason"))
        keys: list[Any] = [REJECT.c.step, REJECT.c.constraint, REJECT.c.parent, *parts]
        statement = (
            sa.select(*keys, sa.func.count().label("rows"))
            .join(blamed, sa.and_(blamed.c.run == REJECT.c.run, blamed.c.would_be == REJECT.c.parent))
            .where(_open(run, step=step))
            .group_by(*keys)
            .order_by(sa.desc("rows"), *keys)
        )
        with self._database.begin() as connection:
            return [dict(row._mapping) for row in connection.execute(statement)]

    @lasting
    def resolve(self, rejects: Collection[int], run: int, step: str, batch: int | None = None) -> None:
        """Record that rejected rows, by their numbers, will have been loaded by a run after all once it commits, or
        a batch of it. A row that was rejected again by other runs is the same row."""
        with self._database.begin(run) as connection:
            if batch is None:  # what an earlier try hoped for
                connection.execute(_resolving(run, step).values(resolved_by=None, resolved_in=None))
            numbers = sorted({*origins_of(connection, sorted(rejects)).values()})
            for start in range(0, len(numbers), 500):
                chosen = numbers[start : start + 500]
                same = sa.or_(REJECT.c.reject.in_(chosen), REJECT.c.origin.in_(chosen))
                open_ones = sa.or_(REJECT.c.resolved_by.is_(None), REJECT.c.resolved_by == -run)
                connection.execute(REJECT.update().where(same, open_ones).values(resolved_by=-run, resolved_in=batch))

    def end_gone(self, rejects: Collection[int]) -> None:
        """Record that the rows of rejects, by their numbers, are gone from the source."""
        with self._database.begin() as connection:
            numbers = sorted({*origins_of(connection, sorted(rejects)).values()})
            for start in range(0, len(numbers), 500):
                chosen = numbers[start : start + 500]
                same = sa.or_(REJECT.c.reject.in_(chosen), REJECT.c.origin.in_(chosen))
                connection.execute(REJECT.update().where(same).values(ended="gone"))

    @lasting
    def settle(self, run: int, step: str, committed: bool, batches: int = 0) -> None:
        """Record whether the rows that a run was about to resolve are committed, or rejected as before.

        Those of its first this many batches are committed."""
        with self._database.begin() as connection:
            done = (
                sa.true() if committed else sa.and_(REJECT.c.resolved_in.is_not(None), REJECT.c.resolved_in <= batches)
            )
            connection.execute(_resolving(run, step).where(done).values(resolved_by=run))
            connection.execute(_resolving(run, step).values(resolved_by=None, resolved_in=None))


def _open(run: int, **where: str | None) -> sa.ColumnElement[bool]:
    """The rejects of a run that are not resolved, of one step, reason or column alone where these are given."""
    given = (REJECT.c[name] == value for name, value in where.items() if value is not None)
    unresolved = sa.or_(REJECT.c.resolved_by.is_(None), REJECT.c.resolved_by < 0)
    return sa.and_(REJECT.c.run == run, unresolved, REJECT.c.ended.is_(None), *given)


def origins_of(connection: sa.Connection, numbers: Sequence[int]) -> dict[int | None, int]:
    """The first reject of the row of each of these."""
    found: dict[int | None, int] = {}
    for start in range(0, len(numbers), 500):
        chosen = REJECT.c.reject.in_(numbers[start : start + 500])
        for number, origin in connection.execute(sa.select(REJECT.c.reject, REJECT.c.origin).where(chosen)):
            found[number] = origin or number
    return found


def _resolving(run: int, step: str) -> sa.Update:
    return REJECT.update().where(REJECT.c.resolved_by == -run, REJECT.c.step == step)
