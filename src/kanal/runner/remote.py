"""Runs steps by an executor, in other processes: what the run does for them, and what they do there."""

from __future__ import annotations

import datetime as dt
import secrets
import threading
import time
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future
from contextlib import suppress
from multiprocessing.connection import Client, Connection, Listener
from typing import Any

from kanal.core.errors import KanalError
from kanal.core.rejects import Reject
from kanal.runlog import BatchRecord
from kanal.runner.attempt import Attempt, RunContext
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan
from kanal.runner.messages import (
    VERSION,
    BatchEnds,
    Ending,
    Failure,
    Goodbye,
    Hello,
    RefusedRows,
    StepBegins,
    StepOutcome,
    StepTask,
    Stopped,
    StopRequest,
    TimedOut,
    TryFailed,
    WillResolve,
)
from kanal.runner.replay import Rejected, plan_of_replay
from kanal.runner.run_options import planned
from kanal.runner.step import PipelineStep

#: Seconds that a process that has ended gets to be noticed by its executor.
_NOTICED = 5.0


# --- where the step runs ----------------------------------------------------------------------------------------------


def run_task(task: StepTask) -> StepOutcome:
    """Plan a step and run it to its end, speaking with its run meanwhile; how it ended. Never raises."""
    try:
        if task.version != VERSION:
            raise KanalError(
                f"the task has version {task.version}, and this process knows {VERSION}", "install one Kanal everywhere"
            )
        with Client(task.address, authkey=task.key) as channel, planned(task.job, task.options) as plan:
            channel.send(Hello(task.step))
            step = next(step for step in plan.steps if step.name == task.step)
            if task.replayed is not None and isinstance(step, PipelinePlan):
                step = plan_of_replay(step)
            context = _Elsewhere(task, plan, channel)
            attempt = Attempt(context, step, None)
            threading.Thread(target=_obey, args=(context, attempt), daemon=True).start()
            settings = step.settings if isinstance(step, PipelinePlan) else plan.job.defaults
            outcome = attempt.run(settings.retries, settings.retry_wait)
            with suppress(OSError):
                channel.send(Goodbye())
            return outcome
    except BaseException as error:
        return StepOutcome(failure=Failure.of(error))


class _Elsewhere:
    """The run of a step that runs in another process, as the step sees it."""

    def __init__(self, task: StepTask, plan: JobPlan, channel: Connection) -> None:
        self.task = task
        self.plan = plan
        self.log = self
        self.record = self
        self.run = task.run
        self.token = task.token
        self.owner = task.owner
        self.moment = task.moment
        self.resumed = task.resumed
        self.results: dict[str, Any] = {}
        self.replayed: Mapping[str, Rejected] = {} if task.replayed is None else {task.step: task.replayed}
        self._channel = channel
        self._sending = threading.Lock()
        self._answered = threading.Condition()
        self._answer: Any = None
        self._waiting = False
        self._lost = False

    def _ask(self, message: Any) -> Any:
        """Send a message and wait for its answer; raises what the run answers, or that it is gone."""
        with self._sending:
            with self._answered:
                self._waiting = True
            try:
                self._channel.send(message)
            except OSError:
                raise KanalError("the run that this step belongs to is gone", "see kanal runs") from None
            with self._answered:
                self._answered.wait_for(lambda: not self._waiting or self._lost)
                if self._waiting:
                    raise KanalError("the run that this step belongs to is gone", "see kanal runs")
                answer = self._answer
        if isinstance(answer, Failure):
            raise KanalError(answer.what, answer.remedy)
        return answer

    def listen(self) -> StopRequest | None:
        """Take in what the run says, until it asks to stop; None once it is gone."""
        while True:
            try:
                message = self._channel.recv()
            except (OSError, EOFError):
                with self._answered:
                    self._lost = True
                    self._answered.notify_all()
                return None
            if isinstance(message, StopRequest):
                return message
            with self._answered:
                self._answer, self._waiting = message, False
                self._answered.notify_all()

    def needs_mark(self, step: PipelinePlan) -> bool:
        """True where to load a step a second time would change the target again."""
        return step.leaves_progress

    def batch_ends(self, step: PipelineStep, batch: BatchRecord, rejects: Sequence[Reject]) -> None:
        """Called after each batch."""
        self._ask(BatchEnds(batch, rejects, step.tally))

    def earlier_rejects(self, step: PipelinePlan) -> Mapping[str, Sequence[int]]:
        """Rejects of earlier runs that a step may load after all."""
        del step
        return self.task.earlier

    def begin_step(self, run: int, step: str, batches: int = 0) -> None:
        """Record that a step begins."""
        del run, step
        self._ask(StepBegins(batches))

    def refused_in(self, run: int, step: str) -> list[dict[str, str | None]]:
        """The source rows that the target refused in an earlier try."""
        del run, step
        found: list[dict[str, str | None]] = self._ask(RefusedRows())
        return found

    def resolve(self, rejects: Collection[int], run: int, step: str, batch: int | None = None) -> None:
        """Record that rejected rows will have been loaded."""
        del run, step
        self._ask(WillResolve(frozenset(rejects), batch))

    def try_failed(self, step: str, number: int, said: str) -> None:
        """Say that a try failed by a trouble that passes."""
        del step
        with suppress(KanalError):
            self._ask(TryFailed(number, said))


def _obey(context: _Elsewhere, attempt: Attempt) -> None:
    """Take in what the run says, and end the step when it asks for that, or is gone."""
    while (asked := context.listen()) is not None:
        attempt.stop(TimedOut(asked.limit) if asked.ending is Ending.TIMED_OUT else Stopped())
    attempt.stop(Stopped())


# --- where the run is -------------------------------------------------------------------------------------------------


class Switchboard:
    """Where steps in other processes call, each on a line of its own."""

    def __init__(self, host: str = "127.0.0.1") -> None:
        self.key = secrets.token_bytes(32)
        self._listener = Listener((host, 0), authkey=self.key)
        self._lines: dict[str, Connection] = {}
        self._changed = threading.Condition()
        self._closed = False
        threading.Thread(target=self._take_calls, name="kanal-switchboard", daemon=True).start()

    @property
    def address(self) -> tuple[str, int]:
        """Where to call."""
        host, port = self._listener.address
        return str(host), int(port)

    def _take_calls(self) -> None:
        while True:
            try:
                channel = self._listener.accept()
                hello = channel.recv()
            except (OSError, EOFError):
                if self._closed:
                    return
                continue
            except Exception:  # a caller without the key
                continue
            with self._changed:
                self._lines[hello.step] = channel
                self._changed.notify_all()

    def line_of(self, step: str, done: Future[Any]) -> Connection | None:
        """The line of a step, once it calls; None where it ends without."""
        with self._changed:
            while step not in self._lines:
                if done.done():
                    return None
                self._changed.wait(0.2)
            return self._lines.pop(step)

    def close(self) -> None:
        """Take no more calls."""
        self._closed = True
        self._listener.close()


class RemoteAttempt:
    """A step that an executor runs, to the run as if it were an Attempt here."""

    def __init__(
        self, context: RunContext, step: StepPlan, executor: Executor, board: Switchboard, task: StepTask
    ) -> None:
        self.context = context
        self.step = step
        self.began = time.monotonic()
        self.stopped = threading.Event()
        self.stopped_at = 0.0
        self.abandoned = False
        self.why: KanalError = Stopped()
        self._executor = executor
        self._board = board
        self._task = task
        self._channel: Connection | None = None
        self._sending = threading.Lock()
        self._future: Future[StepOutcome] | None = None

    #: What it does elsewhere may commit: it is never left alone.
    can_be_left = False

    def stop(self, why: KanalError) -> None:
        """Ask that the step ends, is undone, and fails with this."""
        if not self.stopped.is_set():
            self.why = why
            self.stopped_at = time.monotonic()
            self.stopped.set()
        if self._future is not None:
            self._future.cancel()
        if self._channel is not None:
            ending = Ending.TIMED_OUT if isinstance(self.why, TimedOut) else Ending.STOPPED
            with suppress(OSError):
                self._send(self._channel, StopRequest(ending, self.step.timeout or 0.0))

    def _send(self, channel: Connection, message: Any) -> None:
        """Send a message; answers and requests to stop come from two threads, and must not mix."""
        with self._sending:
            channel.send(message)

    def outcome(self) -> StepOutcome:
        """How it stands, as far as that is known here."""
        return StepOutcome()

    def run(self, retries: int, wait: float) -> StepOutcome:
        """Have the step run, and do meanwhile what it asks for; how it ended. It is tried again where it runs."""
        del retries, wait
        try:
            self._future = self._executor.submit(run_task, self._task)
        except BrokenExecutor as error:
            return StepOutcome(failure=Failure.of(_ended_unexpectedly(error)))
        except Exception as error:
            return StepOutcome(failure=_not_sent(error))
        if self.stopped.is_set():
            self._future.cancel()
        self._channel = self._board.line_of(self.step.name, self._future)
        if self._channel is not None:
            if self.stopped.is_set():
                self.stop(self.why)
            self._serve(self._channel)
        return self._ended(self._future)

    def _serve(self, channel: Connection) -> None:
        """Answer what the step asks, until it is done."""
        with channel:
            while True:
                try:
                    message = channel.recv()
                except (OSError, EOFError):
                    return
                if isinstance(message, Goodbye):
                    return
                try:
                    answer = self._answer(message)
                except KanalError as error:
                    answer = Failure.of(error)
                try:
                    self._send(channel, answer)
                except OSError:
                    return

    def _answer(self, message: Any) -> Any:
        context, name, run = self.context, self.step.name, self.context.record.run
        if isinstance(message, StepBegins):
            context.log.begin_step(run, name, message.batches)
        elif isinstance(message, RefusedRows):
            return context.log.refused_in(run, name)
        elif isinstance(message, WillResolve):
            context.log.resolve(message.rejects, run, name, message.batch)
        elif isinstance(message, TryFailed):
            context.try_failed(name, message.number, message.said)
        elif isinstance(message, BatchEnds) and isinstance(self.step, PipelinePlan):
            counted = PipelineStep(self.step, context.moment, context.plan.job.job, tally=message.tally)
            context.batch_ends(counted, message.batch, message.rejects)
        return None

    def _ended(self, future: Future[StepOutcome]) -> StepOutcome:
        if future.cancelled():
            return StepOutcome(failure=Failure.of(self.why))
        try:
            return future.result(timeout=None if self._channel is None else _NOTICED)
        except TimeoutError:
            future.cancel()
            lost: BaseException = KanalError("the process that ran it cannot be reached any more")
        except BaseException as error:
            lost = error
        return self._lost(lost)

    def _lost(self, error: BaseException) -> StepOutcome:
        """How a step ended whose process is gone: the target knows whether it was committed."""
        if isinstance(self.step, PipelinePlan) and self.context.needs_mark(self.step):
            with suppress(KanalError):
                found = self.step.target.journal.recorded(str(self.context.record.token), self.step.name)
                if found is not None and found.done:
                    return StepOutcome(committed=found, notes=("its process ended after it had committed",))
        if not isinstance(error, KanalError):
            if "pickle" in str(error).lower() or "pickle" in type(error).__name__.lower():
                return StepOutcome(failure=_not_sent(error))
            error = _ended_unexpectedly(error)
        return StepOutcome(failure=Failure.of(error))


def _ended_unexpectedly(error: BaseException) -> KanalError:
    said = f"a process of the executor ended unexpectedly ({type(error).__name__})"
    return KanalError(said, "go on with the run by kanal resume")


def _not_sent(error: BaseException) -> Failure:
    why = " ".join(str(error).split())[:200]
    return Failure.of(
        KanalError(
            f"the step cannot be sent to another process: {type(error).__name__}: {why}",
            "put functions of your own into a file that the job names, or run it without an executor",
        )
    )


def task_of(
    context: RunContext, step: StepPlan, job: Any, options: Mapping[str, Any], board: Switchboard, moment: dt.datetime
) -> StepTask:
    """The message by which a step of a run is run elsewhere."""
    pipeline = isinstance(step, PipelinePlan)
    return StepTask(
        job,
        step.name,
        options,
        context.record.run,
        context.record.token,
        context.log.owner,
        moment,
        context.resumed,
        board.address,
        board.key,
        context.replayed.get(step.name),
        context.earlier_rejects(step) if pipeline else {},  # type: ignore[arg-type]
    )
