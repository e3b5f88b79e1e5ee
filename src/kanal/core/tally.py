"""The counts of a step, and the rule by which they must balance."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct

from kanal.core.errors import BooksError

#: The counts of what became of rows in the target, which a rollback undoes.
WRITES = ("withdrawn", "inserted", "updated", "unchanged", "deleted", "closed", "conflicts")


def add_writes(counts: Any, more: Any) -> None:
    """Add such counts of one object to another's."""
    for name in WRITES:
        setattr(counts, name, getattr(counts, name) + getattr(more, name))


class Tally(Struct):
    """Counts of rows; each row read ends in exactly one of the others, `deleted`, `closed` and `conflicts` apart.

    `filtered` were not wanted, `rejected` would not fit, `superseded` gave way to another row with the same
    key, `withdrawn` say that the target's row of their key is to go, `inserted`, `updated` and `unchanged` reached the
    target. `deleted` counts rows removed from the target, `closed` versions that a history has
    ended, `conflicts` rows that were changed on both sides of an exchange.
    """

    read: int = 0
    filtered: int = 0
    rejected: int = 0
    superseded: int = 0
    withdrawn: int = 0
    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    deleted: int = 0
    closed: int = 0
    conflicts: int = 0

    @property
    def written(self) -> int:
        """Rows that changed the target: inserted and updated."""
        return self.inserted + self.updated

    @property
    def accounted(self) -> int:
        """Rows read whose end is known."""
        left_out = self.filtered + self.rejected + self.superseded + self.withdrawn
        return left_out + self.inserted + self.updated + self.unchanged

    def add(self, other: Tally) -> None:
        """Add another tally's counts to this one."""
        for name in COUNTS:
            setattr(self, name, getattr(self, name) + getattr(other, name))

    @classmethod
    def sum(cls, tallies: Iterable[Tally]) -> Tally:
        """The counts of several together."""
        total = cls()
        for tally in tallies:
            total.add(tally)
        return total

    def require_balance(self) -> None:
        """Raise BooksError unless every row read is accounted for, once."""
        if self.read != self.accounted:
            raise BooksError(
                f"The books do not balance: {self.read:,} rows read, {self.accounted:,} accounted for ({self})",
                "The step was rolled back; please report this with the job file",
            )


#: The names of all counts, in their order.
COUNTS = Tally.__struct_fields__
