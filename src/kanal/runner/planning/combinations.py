"""The settings of a pipeline that cannot be combined, in one table."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from kanal.definition import Pipeline
from kanal.runner.write_rule import WriteRule


class Facts(Struct, frozen=True, kw_only=True):
    """What decides which settings of a pipeline can be combined.

    `given` are the keys that the pipeline itself sets. `unique_checks` are its checks that values are unique, and
    `own_lookups` its look-ups in the table that it fills. `exchange_deletes` is true if it is one way of an exchange,
    and either way deletes missing rows.
    """

    settings: Pipeline
    rule: type[WriteRule]
    given: frozenset[str] = frozenset()
    unique_checks: tuple[str, ...] = ()
    own_lookups: tuple[str, ...] = ()
    exchange_deletes: bool = False


class Setting(Struct, frozen=True):
    """A setting as the job file writes it; `applies` is true if a pipeline has it, and `names` gives what has it."""

    text: str
    applies: Callable[[Facts], bool]
    names: Callable[[Facts], Sequence[str]] = lambda facts: ()


class Combination(Struct, frozen=True):
    """Two settings that cannot be combined, and the key at which that is reported."""

    key: str
    setting: Setting
    other: Setting
    why: str
    remedy: str = "remove one of the two"

    def message(self, facts: Facts) -> str:
        """The problem of a pipeline."""
        names = ", ".join(self.other.names(facts))
        return f"{self.setting.text} cannot be combined with {self.other.text}{names and f' ({names})'}: {self.why}"


def impossible(facts: Facts) -> Iterator[Combination]:
    """The combinations of a pipeline's settings that are not possible."""
    return (pair for pair in COMBINATIONS if pair.setting.applies(facts) and pair.other.applies(facts))


ALL_OR_NOTHING = Setting('reject = "all"', lambda facts: facts.settings.reject == "all")
BATCH = Setting('commit = "batch"', lambda facts: facts.settings.commits.by_batch)
DELETE_WHEN = Setting("delete_when", lambda facts: facts.settings.delete_when is not None)
DUPLICATES = Setting('duplicates = "first" or "last"', lambda facts: facts.settings.duplicates != "reject")
EXCHANGE = Setting('missing = "delete" in an exchange', lambda facts: facts.exchange_deletes)
FILES_ONCE = Setting("files_once", lambda facts: facts.settings.loads_each_once)
HISTORY = Setting('write = "history"', lambda facts: facts.rule.keeps_versions)
INSERT_ONLY = Setting('not_matched = "ignore"', lambda facts: facts.settings.not_matched != "insert")
KEEP_MATCHED = Setting('matched = "keep"', lambda facts: facts.settings.matched != "update")
LAST = Setting('duplicates = "last"', lambda facts: facts.settings.duplicates == "last")
LIMIT = Setting("limit", lambda facts: facts.settings.limit is not None)
MERGE_KEEPING = Setting(
    'matched = "keep" or newer_by',
    lambda facts: facts.rule.needs_key and (facts.settings.matched == "keep" or facts.settings.newer_by is not None),
)
MIN_ROWS = Setting("min_rows", lambda facts: bool(facts.settings.min_rows))
MISSING = Setting('missing = "delete"', lambda facts: facts.settings.missing == "delete")
NEWER_BY = Setting("newer_by", lambda facts: facts.settings.newer_by is not None)
NO_MERGE = Setting("a write rule that does not merge", lambda facts: not facts.rule.needs_key)
NO_TRUNCATE = Setting('a write rule other than "truncate"', lambda facts: not facts.rule.empties)
NOTHING_DELETED = Setting(
    'missing = "keep" without delete_when',
    lambda facts: facts.settings.missing != "delete" and facts.settings.delete_when is None,
)
ORDER_BY = Setting("order_by", lambda facts: bool(facts.settings.order_by))
OWN_LOOKUP = Setting(
    "a look-up in the table that is filled",
    lambda facts: bool(facts.own_lookups) and not facts.settings.commits.by_batch,
    lambda facts: facts.own_lookups,
)
OWN_MAX_DELETES = Setting("max_deletes", lambda facts: "max_deletes" in facts.given)
OWN_REBUILD = Setting(
    "rebuild_indexes", lambda facts: facts.settings.rebuild_indexes and "rebuild_indexes" in facts.given
)
QUERY = Setting("a query as the source", lambda facts: facts.settings.source.query is not None)
SINCE = Setting("since", lambda facts: facts.settings.since is not None)
SPLIT = Setting("split", lambda facts: facts.settings.split is not None)
TRUNCATE = Setting('write = "truncate"', lambda facts: facts.rule.empties)
UNIQUE_CHECK = Setting(
    "a check that values are unique", lambda facts: bool(facts.unique_checks), lambda facts: facts.unique_checks
)
WHERE = Setting("where", lambda facts: facts.settings.where is not None)

_ONLY_A_PART = "only a part of the source is read, and all other rows of the target would be deleted"
_TAKEN_FOR_LOADED = "rows beyond the limit would be taken for loaded"
_NO_ORDER = "this needs an order, and the parts of a split have none"
_EACH_A_VERSION = "each change is a version"
_NEVER_ARRIVES = "rows that do not arrive here would be deleted where they came from"

COMBINATIONS: tuple[Combination, ...] = (
    Combination("write", TRUNCATE, SINCE, "the target would have only what is new"),
    Combination("limit", LIMIT, SINCE, _TAKEN_FOR_LOADED),
    Combination("write", TRUNCATE, FILES_ONCE, "the target would have only the rows of the new files"),
    Combination("limit", LIMIT, FILES_ONCE, _TAKEN_FOR_LOADED),
    Combination("missing", MISSING, FILES_ONCE, "the new files do not show which rows are missing"),
    Combination("missing", MISSING, WHERE, _ONLY_A_PART,
                'put the condition into a query as the source, or remove where, or set missing = "keep"'),
    Combination("missing", MISSING, LIMIT, _ONLY_A_PART, 'remove limit, or set missing = "keep"'),
    Combination("missing", MISSING, BATCH, "no batch knows which rows the others have", 'set commit = "step"'),
    Combination("missing", MISSING, NO_MERGE, "only a merge knows which rows are missing", 'set write = "merge"'),
    Combination("delete_when", DELETE_WHEN, NO_MERGE, "only a merge knows which row to delete", 'set write = "merge"'),
    Combination("max_deletes", OWN_MAX_DELETES, NOTHING_DELETED, "nothing is deleted",
                'set missing = "delete", or delete_when'),
    Combination("reject", ALL_OR_NOTHING, BATCH, "earlier batches are committed when a bad row is found",
                'set commit = "step"'),
    Combination("limit", LIMIT, BATCH, "a resumed run would count the rows anew", 'set commit = "step"'),
    Combination("min_rows", MIN_ROWS, BATCH, "rows are committed before all of them are counted",
                'set commit = "step", or remove min_rows'),
    Combination("split", SPLIT, QUERY, "the rows of a query cannot be read in parts",
                "create a view of it, or remove split"),
    Combination("order_by", ORDER_BY, SPLIT, _NO_ORDER),
    Combination("limit", LIMIT, SPLIT, _NO_ORDER),
    Combination("duplicates", DUPLICATES, SPLIT, _NO_ORDER),
    Combination("commit", BATCH, SPLIT, _NO_ORDER),
    Combination("duplicates", DUPLICATES, OWN_LOOKUP,
                "rows that look up others of this load are not written in the order of the source",
                'set duplicates = "reject"'),
    Combination("duplicates", Setting('duplicates = "last" with commit = "batch"',
                                      lambda facts: LAST.applies(facts) and BATCH.applies(facts)),
                MERGE_KEEPING, "a row of an earlier batch would be kept",
                'set commit = "step", or duplicates = "first"'),
    Combination("duplicates", LAST, UNIQUE_CHECK, "for such a check, the first row of a value counts",
                'set duplicates = "first" or "reject", or remove the check'),
    Combination("matched", KEEP_MATCHED, HISTORY, _EACH_A_VERSION, "remove matched"),
    Combination("not_matched", INSERT_ONLY, HISTORY, _EACH_A_VERSION, "remove not_matched"),
    Combination("newer_by", NEWER_BY, HISTORY, _EACH_A_VERSION, "remove newer_by"),
    Combination("delete_when", DELETE_WHEN, HISTORY, _EACH_A_VERSION, "remove delete_when"),
    Combination("rebuild_indexes", OWN_REBUILD, NO_TRUNCATE, "indexes are rebuilt for a table that is emptied first",
                'set write = "truncate", or remove rebuild_indexes'),
    Combination("rebuild_indexes", OWN_REBUILD, BATCH, "a table without indexes would be committed",
                'set commit = "step", or remove rebuild_indexes'),
    Combination("where", WHERE, Setting(EXCHANGE.text, lambda facts: EXCHANGE.applies(facts)
                                        and not MISSING.applies(facts)), _NEVER_ARRIVES),
    Combination("limit", LIMIT, Setting(EXCHANGE.text, lambda facts: EXCHANGE.applies(facts)
                                        and not MISSING.applies(facts)), _NEVER_ARRIVES),
    Combination("delete_when", DELETE_WHEN, EXCHANGE, _NEVER_ARRIVES),
    Combination("not_matched", INSERT_ONLY, EXCHANGE, _NEVER_ARRIVES),
)  # fmt: skip
