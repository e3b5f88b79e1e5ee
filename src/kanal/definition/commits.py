"""When a pipeline's rows become visible: the ways of `commit`, and what each means."""

from __future__ import annotations

from msgspec import Struct


class CommitMode(Struct, frozen=True):
    """A way to commit: each batch by itself, or together with other steps of the job, or else the step at its end."""

    name: str
    by_batch: bool = False
    shared: bool = False


COMMIT_MODES = {
    mode.name: mode for mode in (CommitMode("step"), CommitMode("batch", by_batch=True), CommitMode("job", shared=True))
}
