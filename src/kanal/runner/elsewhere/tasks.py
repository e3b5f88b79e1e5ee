"""Where a task runs: it is unpacked, speaks with its run, and is carried out to its end."""

from __future__ import annotations

import atexit
import hashlib
import os
import pickle
import platform
import shutil
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import singledispatch
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections import TableInfo, open_connection
from kanal.connections.base import Connection
from kanal.connections.kept import try_each_time
from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.core.tally import Tally
from kanal.definition import Connection as ConnectionSettings
from kanal.definition import JobDefinition
from kanal.runlog import BatchRecord
from kanal.runner.attempt import Attempt
from kanal.runner.elsewhere.portions import (
    FromPortions,
    IntoPortion,
    NotPublished,
    PortionOutcome,
    PortionTask,
    PublishTask,
    Unpublished,
)
from kanal.runner.elsewhere.talk import Call, Pace, Talk
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan, TablePlace
from kanal.runner.messages import (
    BatchEnds,
    Ending,
    Failure,
    RefusedRows,
    Speaker,
    StepBegins,
    StepOutcome,
    StepTask,
    Stopped,
    StopRequest,
    TimedOut,
    TryFailed,
    WillResolve,
)
from kanal.runner.planning.job_planner import Known
from kanal.runner.replay import plan_of_replay
from kanal.runner.run_context import Mark, RunIdentity, StepRejects
from kanal.runner.run_options import planned
from kanal.version import VERSION

#: Of Kanal and Python; both have to be the same where a task is made and where it runs.
VERSIONS = VERSION, ".".join(platform.python_version_tuple()[:2])
#: Begins what a worker says of itself if it has other versions.
MISMATCH = "kanal: other versions: "


class Packed(Struct, frozen=True):
    """A task on its way: how it reaches its run, the task itself, and the texts that its job is made of besides its
    file, by their path in the job's folder."""

    call: Call
    task: Any
    texts: Mapping[str, bytes]
    pace: Pace


def pack(call: Call, task: Any, texts: Mapping[str, bytes], pace: Pace) -> bytes:
    """A task as bytes; raises whatever pickle does for what cannot be sent."""
    return pickle.dumps(Packed(call, task, texts, pace), protocol=pickle.HIGHEST_PROTOCOL)


def run_packed(packed: bytes, versions: tuple[str, str]) -> None:
    """Carry out a task and say to its run what it gave; raises RuntimeError if Kanal or Python is another here."""
    if versions != VERSIONS:
        raise RuntimeError(f"{MISMATCH}Kanal {VERSIONS[0]} with Python {VERSIONS[1]} on {_worker() or _process()}")
    _without_profile()
    content: Packed = pickle.loads(packed)
    talk = Talk(content.call.connect(), Speaker(socket.gethostname(), os.getpid(), _worker()), content.pace)
    try:
        outcome = carry_out(content.task, content.texts, talk)
    except BaseException as error:
        outcome = Failure.of(error)
    talk.end(outcome)


def _without_profile() -> None:
    """Stop the profile that distributed takes all the time if it may hold up this Python for ever (its issue
    gh-106883)."""
    if (3, 11, 8) <= sys.version_info < (3, 12) or sys.version_info >= (3, 12, 1):
        return
    with suppress(Exception):
        from distributed import get_worker

        worker = get_worker()
        for name in ("profile", "profile-cycle"):
            worker.loop.add_callback(worker.periodic_callbacks[name].stop)


def _process() -> str:
    return f"{socket.gethostname()}, process {os.getpid()}"


def _worker() -> str:
    """What the cluster calls the worker that this runs on; nothing if there is no cluster."""
    with suppress(Exception):
        if "distributed" in sys.modules:
            from distributed import get_worker

            return str(get_worker().name)
    return ""


@singledispatch
def carry_out(task: Any, texts: Mapping[str, bytes], talk: Talk) -> Any:
    """Do what a task asks for; what it gives."""
    del texts, talk
    raise TypeError(f"{type(task).__name__} is no task")


@contextmanager
def _planned(task: StepTask, texts: Mapping[str, bytes]) -> Iterator[tuple[JobPlan, StepPlan]]:
    """The plan of a task's job and that of its step."""
    try_each_time()
    with at_hand(task.token, task.tables) as known, planned(placed(task.job, texts), task.options, known) as plan:
        yield plan, next(step for step in plan.steps if step.name == task.step)


def _outcome(attempt: Attempt, plan: JobPlan, talk: Talk) -> StepOutcome:
    """How a step has ended, which ends early where its run asks for that."""
    talk.stops_by(lambda asked: attempt.stop(reason_of(asked)))
    settings = attempt.step.settings if isinstance(attempt.step, PipelinePlan) else plan.job.defaults
    return attempt.run(settings.retries, settings.retry_wait)


@carry_out.register
def _(task: StepTask, texts: Mapping[str, bytes], talk: Talk) -> StepOutcome:
    with _planned(task, texts) as (plan, step):
        replays = task.replayed is not None and isinstance(step, PipelinePlan)
        chosen = plan_of_replay(step) if replays and isinstance(step, PipelinePlan) else step
        return _outcome(Attempt(RunThere(task, plan, talk), chosen), plan, talk)


@carry_out.register
def _(task: PortionTask, texts: Mapping[str, bytes], talk: Talk) -> PortionOutcome:
    ways: list[IntoPortion] = []

    def way() -> IntoPortion:
        # A table of its own for each try, since a try that was lost may still commit.
        ways.append(IntoPortion(replace(task, place=f"{task.place}{talk.owner[:8]}{len(ways)}")))
        return ways[-1]

    with _planned(task.step, texts) as (plan, step):
        context = PortionThere(task.step, plan, talk)
        outcome = _outcome(Attempt(context, step, way=way), plan, talk)
        if not ways or outcome.failure is not None:
            return PortionOutcome(outcome)
        context.tell()
        return replace(ways[-1].outcome_of(outcome), resolved=frozenset(context.resolved))


@carry_out.register
def _(task: PublishTask, texts: Mapping[str, bytes], talk: Talk) -> StepOutcome | Unpublished:
    with _planned(task.step, texts) as (plan, whole):
        assert isinstance(whole, PipelinePlan)
        step = replace(whole, lookups=(), checks=tuple(check for check in whole.checks if check.unique))
        context = RunThere(task.step, plan, talk)
        resolved = frozenset().union(*(portion.resolved for portion in task.portions))

        attempt = Attempt(context, step, way=lambda: FromPortions(task.portions), resolved=resolved)
        outcome = _outcome(attempt, plan, talk)
        return Unpublished(attempt.failure.known) if isinstance(attempt.failure, NotPublished) else outcome


@contextmanager
def at_hand(token: str | None, tables: Mapping[TablePlace, TableInfo]) -> Iterator[Known]:
    """What a task of a run finds when it is planned: connections that other tasks of the run have opened here."""
    with _lock:
        mine = _rooms.setdefault(str(token), _Room())
        mine.guests += 1
    try:
        yield Known(mine.opened, tables, owned=False)
    finally:
        with _lock:
            mine.guests, mine.left = mine.guests - 1, time.monotonic()
            if not any(thread.name == _TIDY for thread in threading.enumerate()):
                threading.Thread(target=_tidy, name=_TIDY, daemon=True).start()


class CallTask(Struct, frozen=True):
    """A question to a connection: an attribute of it, or of a part of it, with arguments if it is a method; or what a
    function makes of it."""

    name: str
    settings: ConnectionSettings
    folder: Path
    path: tuple[str, ...] = ()
    arguments: tuple[Any, ...] = ()
    named: Mapping[str, Any] = field(default_factory=dict)
    act: Callable[[Connection], Any] | None = None
    #: What the questions of one plan have in common: they find the same connection if one worker answers them.
    room: str = ""


@carry_out.register
def _(task: CallTask, texts: Mapping[str, bytes], talk: Talk) -> Any:
    del texts
    talk.stops_by(lambda asked: None)
    with at_hand(task.room, {}) as known:
        found: Any = known.opened(task.name, task.settings, task.folder)
        if task.act is not None:
            return task.act(found)
        for name in task.path:
            found = getattr(found, name)
        if callable(found):
            found = found(*task.arguments, **task.named)
        return list(found) if hasattr(found, "__next__") else found


class _Room:
    """Connections that the tasks of a run share in this process."""

    def __init__(self) -> None:
        self.guests = 0
        self.left = 0.0
        self._connections: dict[str, tuple[str, Connection]] = {}
        self._opening = threading.Lock()

    def opened(self, name: str, settings: ConnectionSettings, folder: Path) -> Connection:
        with self._opening:
            same = f"{settings.model_dump()} {folder}"
            known = self._connections.get(name)
            if known is None or known[0] != same:
                known = self._connections[name] = same, open_connection(name, settings, folder)
            return known[1]

    def close(self) -> None:
        for _, connection in self._connections.values():
            with suppress(Exception):
                connection.dispose()


_rooms: dict[str, _Room] = {}
_lock = threading.Lock()
_TIDY = "kanal-tidy"
#: Seconds after which connections are closed that no task uses.
_IDLE = 5.0


def _tidy() -> None:
    """Close the connections of runs that have had no task here for a while."""
    while _rooms:
        time.sleep(_IDLE / 4)
        with _lock:
            late = time.monotonic() - _IDLE
            gone = [token for token, room in _rooms.items() if not room.guests and room.left < late]
            rooms = [_rooms.pop(token) for token in gone]
        for room in rooms:
            room.close()


def reason_of(asked: StopRequest | None) -> KanalError:
    """Why a task ends, of which the run asks that; None: the run is gone."""
    return TimedOut(asked.limit) if asked is not None and asked.ending is Ending.TIMED_OUT else Stopped()


def placed(job: JobDefinition, texts: Mapping[str, bytes]) -> JobDefinition:
    """The job with its texts in a folder of this machine, one for each content of them."""
    if not texts:
        return job
    digest = hashlib.sha256(repr(sorted(texts.items())).encode()).hexdigest()
    with _lock:
        if digest not in _texts:
            _texts[digest] = _written(texts)
    job = job.model_copy()
    job._texts = _texts[digest]
    return job


#: The folders of texts, by what they hold.
_texts: dict[str, Path] = {}


def _written(texts: Mapping[str, bytes]) -> Path:
    """A folder of this process's own with these texts; raises KanalError for one that would be outside of it."""
    folder = Path(tempfile.mkdtemp(prefix="kanal-texts-")).resolve()
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    inner = folder.joinpath(*"abcdef")  # for those that stand above the job file
    for name, content in texts.items():
        path = (inner / name).resolve()
        if not path.is_relative_to(folder):
            raise KanalError(f"{name} would be written outside its folder", "name a file in the job's folder")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
    inner.mkdir(parents=True, exist_ok=True)
    return inner


class RunThere:
    """The run of a step that is carried out here, as the step sees it; the run itself is asked by messages."""

    def __init__(self, task: StepTask, plan: JobPlan, talk: Talk) -> None:
        token = str(task.token)
        self.identity = RunIdentity(
            task.run, plan.job.job, task.moment, token, talk.owner, task.resumed, elsewhere=True
        )  # fmt: skip
        self.log = self
        self._rejects = StepRejects(task.replayed, task.earlier)
        self._talk = talk

    def mark_of(self, step: PipelinePlan) -> Mark:
        """Whether the target records what the step commits; each try claims it."""
        return Mark.TO_BE_CLAIMED if step.can_leave_progress else Mark.NONE

    def rejects_for(self, step: PipelinePlan) -> StepRejects:
        """The rejects of earlier runs that concern the step."""
        del step
        return self._rejects

    def batch_ends(self, step: PipelinePlan, tally: Tally, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Report a batch."""
        del step
        self._talk.ask(BatchEnds(batch, rejects, tally))

    def begin_step(self, step: str, batches: int = 0) -> None:
        """Report that the step begins."""
        del step
        self._talk.ask(StepBegins(batches))

    def refused_in(self, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target refused in an earlier try."""
        del step
        found: list[dict[str, str | None]] = self._talk.ask(RefusedRows())
        return found

    def resolve(self, rejects: Collection[int], step: str, batch: int | None = None) -> None:
        """Report that rejected rows will have been loaded."""
        del step
        self._talk.ask(WillResolve(frozenset(rejects), batch))

    def try_failed(self, step: str, number: int, message: str) -> None:
        """Report that a try failed by a temporary error."""
        del step
        with suppress(KanalError):
            self._talk.ask(TryFailed(number, message))


#: Seconds, or rejected rows, after which batches of a range are reported.
_TELL_EVERY = 1.0
_REJECTS = 1_000


class PortionThere(RunThere):
    """The run of a step of which one range is loaded here: nothing is marked or resolved before all are published."""

    def __init__(self, task: StepTask, plan: JobPlan, talk: Talk) -> None:
        super().__init__(task, plan, talk)
        self.resolved: set[int] = set()
        self._waiting: BatchEnds | None = None
        self._told = 0.0

    def begin_step(self, step: str, batches: int = 0) -> None:
        """Report that the range begins, or begins again."""
        self._waiting = None
        super().begin_step(step, batches)

    def batch_ends(self, step: PipelinePlan, tally: Tally, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Report a batch. As none is committed by itself, several are reported as one, since many small ones would
        keep the run busy."""
        del step
        waiting = self._waiting
        if waiting is not None:
            batch, rejects = waiting.batch.joined(batch), [*waiting.rejects, *rejects]
        self._waiting = BatchEnds(batch, rejects, replace(tally))
        if len(rejects) >= _REJECTS or time.monotonic() - self._told > _TELL_EVERY:
            self.tell()

    def tell(self) -> None:
        """Report the batches that wait."""
        if self._waiting is not None:
            self._talk.ask(self._waiting)
            self._waiting, self._told = None, time.monotonic()

    def mark_of(self, step: PipelinePlan) -> Mark:
        """Nothing is recorded: nobody sees a portion."""
        del step
        return Mark.NONE

    def resolve(self, rejects: Collection[int], step: str, batch: int | None = None) -> None:
        """Note it, for the task that publishes."""
        del step, batch
        self.resolved |= set(rejects)
