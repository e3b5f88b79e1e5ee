"""Serves jobs: starts what is due, each run in a process of its own, and takes over jobs that change on disk."""

from __future__ import annotations

import datetime as dt
import logging
import shutil
import signal
import threading
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from kanal.core.errors import KanalError, capital
from kanal.runlog import RunLogStore, clock
from kanal.runner.events import tell
from kanal.service.child import ELSEWHERE, NOT_BEGUN
from kanal.service.due import Decision, Known, aware, decide
from kanal.service.folders import own_folder
from kanal.service.messages import Messenger
from kanal.service.served import Child, Served, start
from kanal.service.served_jobs import ServedJobs, keep_schedule

#: Seconds between two looks at the jobs' files; and at everything, in case a run ended that nobody here waits for.
WATCH_EVERY, LOOK_EVERY = 2, 20
#: After so long, what could not begin is tried again.
_LATER = dt.timedelta(seconds=60)
#: How long a job that is broken waits at most before that is tried again.
_LONGEST = dt.timedelta(hours=1)
#: Seconds that a run is given to stop.
_PATIENCE = 30


def utc_now() -> dt.datetime:
    """This moment, in UTC, with its zone."""
    return clock.now().replace(tzinfo=dt.UTC)


class Service:
    """Several jobs that run by themselves. `at_once` runs at most go on side by side."""

    def __init__(
        self,
        paths: Sequence[Path],
        environment: str | None = None,
        at_once: int = 4,
        ahead: dt.timedelta | None = None,
        events: Path | None = None,
    ) -> None:
        self.set_ahead(ahead or dt.timedelta())
        self.environment = environment
        #: The file to which its runs append their events.
        self.events = events
        self.at_once = at_once
        self.began = utc_now()
        self._lock = threading.RLock()
        #: True once it is told to stop.
        self.stopping = False
        self._folder, self._held = own_folder()
        self._schedule: Callable[[Served, dt.datetime | None], None] = lambda _served, _when: None
        self.jobs = ServedJobs(environment, self._folder)
        self._pulses: dict[tuple[Hashable, str], tuple[int, ...]] = {}
        try:
            for path in paths:
                self.jobs.take(path)
            self.jobs.check_names()
        except KanalError:
            self._held.close()
            shutil.rmtree(self._folder, ignore_errors=True)
            raise
        self.messenger = Messenger(self)

    def set_ahead(self, ahead: dt.timedelta) -> None:
        """Have the clock of the service and its runs go ahead of the machine's; for rehearsing a schedule."""
        self._ahead = ahead
        clock.set_ahead(ahead)

    # --- the jobs --------------------------------------------------------------------------------------------------

    @property
    def served(self) -> dict[str, Served]:
        """The jobs, by name."""
        return self.jobs.by_name

    def look_at_files(self) -> None:
        """Take over jobs that have changed on disk; what is broken leaves the last good one in place."""
        for path in list(self.jobs.unread):
            with suppress(KanalError):
                self.jobs.take(path)
        for served in list(self.served.values()):
            now = served.looks()
            if now == served.seen:
                if served.tried_again is not None and utc_now() >= served.tried_again:
                    self._take_over(served, 2 * served.pause)
                continue
            if now != served.changing:  # it may be being written just now
                served.changing = now
                continue
            served.seen = now
            self._take_over(served)

    def _take_over(self, served: Served, pause: dt.timedelta = _LATER) -> None:
        """Take over a job that has changed; if it is broken, that is tried again after a pause."""
        try:
            fresh = self.jobs.fresh(served)
        except KanalError as error:
            known, served.broken = served.broken, str(error)
            served.pause = min(pause, _LONGEST)
            served.tried_again = utc_now() + served.pause
            if known != served.broken:
                self._say(
                    served, "job_broken", f"{served.path} has changed and is broken; the last good one goes on: {error}"
                )
                self.messenger.broken(served)
            return
        with self._lock:
            served.job, served.bundle, served.seen, served.broken = fresh.job, fresh.bundle, fresh.seen, None
            served.log, served.tried_again = fresh.log, None
            served.in_vain.clear()
            served.not_before = served.trouble = None
            keep_schedule(served)
        self._say(served, "job_taken_over", f"{served.path} has changed and was taken over")
        self.look(served)

    # --- what is due -----------------------------------------------------------------------------------------------

    def known(self, served: Served) -> Known:
        """What the run log knows of a job."""
        log, name, schedule = served.log, served.name, served.job.schedule
        assert schedule is not None
        running = log.past.is_running(name)
        if running:
            log.runs.end_dead_runs()
            running = log.past.is_running(name)
        runs = log.past.due_runs(name)
        last = runs[-1] if runs else None
        vain = last is not None and served.in_vain.get(last.run, 0) > schedule.resume.times
        settled = last is not None and last.status != "succeeded" and (vain or log.past.done_since(last) is not None)
        others = {other: self.jobs.named(other) for other in schedule.after_job}
        return Known(
            aware(log.service.keep_schedule(name, schedule.identity)),
            runs,
            log.past.loaded_windows(name) if schedule.window is not None else (),
            running or served.child is not None,
            {key: other.log.past.last_success(other.name) if other else None for key, other in others.items()},
            log.service.stopped_run(name),
            settled,
        )

    def decision(self, served: Served) -> Decision:
        """What is to be done of a job now."""
        if served.job.schedule is None:
            return Decision()
        now = utc_now()
        decision = decide(served.job.schedule, self.known(served), now)
        if decision.acts and served.not_before is not None and now < served.not_before:
            return Decision(again=served.not_before)
        return decision

    def look_all(self) -> None:
        """See of all jobs what is due."""
        for served in list(self.served.values()):
            self.look(served)

    def look_again(self) -> None:
        """See of those jobs what is due of which that may have changed: by the time, or in their run logs."""
        for key, log in list(self.jobs.logs.items()):
            with suppress(KanalError):
                pulse = log.past.pulse()
                changed = self._pulses.get(key) != pulse
                self._pulses[key] = pulse
                for served in list(self.served.values()):
                    over = served.again is not None and utc_now() >= served.again
                    if served.log is log and (changed or over or served.waits):
                        self.look(served)

    def look_after(self, ended: Served) -> None:
        """When a run has ended, see what is due of its job, of those that follow it, and of those that wait."""
        for served in list(self.served.values()):
            schedule = served.job.schedule
            follows = schedule is not None and any(self.jobs.named(name) is ended for name in schedule.after_job)
            if served is ended or follows or served.waits:
                self.look(served)

    def look(self, served: Served) -> None:
        """See what is due of a job, start it, and say when to look again; nothing that goes wrong ends that."""
        try:
            self._look(served)
        except Exception as error:
            self._unexpected(served, error)

    def _unexpected(self, served: Served, error: Exception) -> None:
        """What should not happen to one job harms no other, and is said."""
        served.trouble = f"this should not happen, please report it: {type(error).__name__}: {error}"
        self._say(served, "job_in_trouble", served.trouble)

    def _look(self, served: Served) -> None:
        with self._lock:
            if self.stopping:
                return
            try:
                decision = self.decision(served)
                if served.unknown:
                    served.trouble, served.unknown = None, False
                full = sum(other.child is not None for other in self.served.values()) >= self.at_once
                served.waits = decision.acts and full
                if decision.acts and not full:
                    task: dict[str, Any] = {"act": "resume", "run": decision.resume}
                    if decision.due is not None:
                        assert served.job.schedule is not None
                        task = {"act": "run", "due": decision.due.isoformat(), "window": decision.window,
                                "zone": served.job.schedule.time_zone, "by": "schedule"}  # fmt: skip
                    self._start(served, task)
                served.again = decision.again
            except KanalError as error:  # the run log cannot be used, or no process be started
                served.trouble, served.unknown = str(error), True
                served.again = utc_now() + _LATER
            self._schedule(served, served.again)

    def _start(self, served: Served, task: dict[str, Any]) -> None:
        task |= {"events": None if self.events is None else str(self.events.resolve())}
        task |= {"bundle": str(served.bundle), "file": str(served.path.resolve()), "environment": served.environment,
                 "ahead": self._ahead.total_seconds()}  # fmt: skip
        if task["act"] == "resume":
            served.log.service.note_stopped(served.name, None)
        process = start(task)
        served.child = Child(task, process)
        threading.Thread(target=self._wait_for, args=(served, served.child), name="service-child", daemon=True).start()

    def _wait_for(self, served: Served, child: Child) -> None:
        """Wait for a run's process to end, and see what is due then."""
        try:
            said = child.process.communicate()[1]
            self._ended(served, child, said)
        except KanalError as error:
            served.trouble = str(error)
        except Exception as error:
            self._unexpected(served, error)
        finally:
            served.child = None
        if not self.stopping:
            self.look_after(served)

    def _ended(self, served: Served, child: Child, said: str) -> None:
        status, task = child.process.returncode, child.task
        served.log.runs.end_dead_runs()
        if status in (0, 1, ELSEWHERE):
            served.trouble = served.not_before = None
        else:
            lines = said.strip().splitlines()[-10:]
            ended = f"its process ended by signal {-status}" if status < 0 else "its process ended unexpectedly"
            served.trouble = " ".join(lines) if status == NOT_BEGUN else " ".join([capital(ended), *lines])
            served.not_before = utc_now() + _LATER
            if task["act"] == "resume":
                served.in_vain[task["run"]] = served.in_vain.get(task["run"], 0) + 1
                if served.job.schedule is not None:
                    served.not_before = utc_now() + served.job.schedule.resume.pause
        runs = (
            [served.log.past.run(task["run"])] if task["act"] == "resume" else served.log.past.runs_of(served.name, 1)
        )
        if child.stopping and runs and runs[0].status == "stopped" and self.stopping:
            served.log.service.note_stopped(served.name, runs[0].run)
        if status != ELSEWHERE:
            self.messenger.after_run(served, runs[0] if runs else None)

    # --- what a person asks for ------------------------------------------------------------------------------------

    def act(self, served: Served, act: str, run: int | None, by: str) -> None:
        """Start a run of a job, resume or replay one, or stop the one that is under way; raises KanalError."""
        with self._lock:
            if act == "stop":
                if served.child is None:
                    raise KanalError(f"No run of {served.name} is under way here", "stop it where it was started")
                self._stop_child(served.child)
                return
            if served.child is not None or served.log.past.is_running(served.name):
                raise KanalError(f"A run of {served.name} is under way", "wait for it, or stop it")
            self._start(served, {"act": act, "run": run, "by": by})

    def _stop_child(self, child: Child) -> None:
        child.stopping = True
        with suppress(ProcessLookupError):
            child.process.send_signal(signal.SIGTERM)

    # --- the life of the service -----------------------------------------------------------------------------------

    @contextmanager
    def at_work(self) -> Iterator[None]:
        """While this lasts, due runs are started; then all runs are stopped, and the service removes its files."""
        from apscheduler.schedulers.background import BackgroundScheduler

        timer = BackgroundScheduler(
            timezone="UTC", job_defaults={"coalesce": True, "max_instances": 1, "misfire_grace_time": None}
        )
        logging.getLogger("apscheduler").setLevel(logging.CRITICAL)

        def look_at(served: Served, when: dt.datetime | None) -> None:
            if when is not None:
                timer.add_job(self.look, "date", run_date=when, args=[served], id=served.name, replace_existing=True)

        self._schedule = look_at
        timer.add_job(self.look_at_files, "interval", seconds=WATCH_EVERY)
        timer.add_job(self.look_again, "interval", seconds=LOOK_EVERY)
        timer.add_job(self.messenger.look, "interval", seconds=LOOK_EVERY)
        timer.start()
        try:
            self.look_all()
            yield
        finally:
            self.stopping = True
            timer.shutdown(wait=False)
            self.stop()

    def stop(self) -> None:
        """Stop all runs, so that they can be continued, and remove what the service has kept on disk."""
        self.stopping = True
        children = [served.child for served in self.served.values() if served.child is not None]
        for child in children:
            self._stop_child(child)
        for child in children:
            with suppress(Exception):
                child.process.wait(_PATIENCE)
            if child.process.poll() is None:
                child.process.kill()
        for thread in threading.enumerate():
            if thread.name == "service-child" and thread is not threading.current_thread():
                thread.join(_PATIENCE)
        self._held.close()
        shutil.rmtree(self._folder, ignore_errors=True)

    # --- for the page ----------------------------------------------------------------------------------------------

    def logs(self) -> list[RunLogStore]:
        """The run logs of all jobs, each once."""
        return list(self.jobs.logs.values())

    def _say(self, served: Served, event: str, said: str) -> None:
        tell(event, logging.WARNING, said, job=served.name)
