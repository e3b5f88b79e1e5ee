"""Who is told what: the messages of a job, kept in the run log until they are sent."""

from __future__ import annotations

import datetime as dt
import json
import logging
import threading
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import quote, unquote, urlsplit

from kanal.connections.secrets import secret_value
from kanal.core.errors import KanalError, counted, shortened
from kanal.core.windows import parse_time
from kanal.definition import JobDefinition
from kanal.definition.schedule import Notify
from kanal.definition.secrets import share_of, within
from kanal.runlog import RunLogStore, RunRecord, Usual, clock
from kanal.runner.events import tell
from kanal.runner.unusual import fewer_than_usual, more_than_usual
from kanal.service.due import aware, latest

if TYPE_CHECKING:
    from kanal.service.served import Served

#: A message is tried so often at most, with pauses that grow to an hour: for about a day.
MOST_TRIES = 30


def facts_of(notify: Notify, record: RunRecord, usual: Mapping[str, Usual], failed_before: bool) -> dict[str, str]:
    """What there is to tell one receiver of a run that has ended: by kind, a sentence or more."""
    facts: dict[str, str] = {}
    total = record.total
    if record.status == "failed":
        ends = [step for step in record.steps if step.status in ("failed", "stopped") and step.error]
        lines = [f"{step.step}: {step.error}" for step in ends] or [record.error or "It ended unexpectedly."]
        facts["failed"] = "\n".join(shortened(line, 1_000) for line in lines[:5])
    elif record.status == "succeeded":
        counts = f"{total.read:,} rows read, {total.written:,} written, {total.rejected:,} rejected"
        facts["succeeded"] = f"It succeeded: {counts}."
        if failed_before:
            facts["recovered"] = f"It succeeded again: {counts}."
    if total.rejected and not within(notify.rejects_over, total.rejected, total.read):
        steps = [f"{step.step} {step.tally.rejected:,}" for step in record.steps if step.tally.rejected]
        facts["rejected"] = f"{counted(total.rejected, 'row')} of {total.read:,} were rejected: {', '.join(steps)}."
    few = [step for step in record.steps if fewer_than_usual(step, usual, share_of(notify.fewer_than))]
    many = [step for step in record.steps if more_than_usual(step, usual, share_of(notify.more_than))]
    for kind, found, word in (("fewer_rows", few, "fewer"), ("more_rows", many, "more")):
        said = [
            f"{one.step} read {one.tally.read:,} rows, far {word} than the usual {usual[one.step].read:,.0f}"
            for one in found
        ]
        if said:
            facts[kind] = "; ".join(said) + "."
    return {kind: said for kind, said in facts.items() if kind in notify.when}


_TITLES = {
    "failed": "failed",
    "recovered": "succeeds again",
    "rejected": "rejected rows",
    "fewer_rows": "far fewer rows than usual",
    "more_rows": "far more rows than usual",
    "late": "is late",
    "nothing_ran": "has not succeeded for long",
    "succeeded": "succeeded",
    "broken": "job file is broken",
}


def run_message(job: JobDefinition, record: RunRecord, facts: Mapping[str, str]) -> tuple[str, str]:
    """The title and text of a message about a run: what, where, why, and the command to go on."""
    where = f" in environment {record.environment}" if record.environment else ""
    begun = f"Run {record.run} of {record.name}{where}, on {record.host}, started {record.started:%Y-%m-%d %H:%M} UTC"
    if record.window:
        begun += f", from {record.window[0]} to before {record.window[1]}"
    commands = []
    if "failed" in facts and not record.is_replay:
        commands.append(f"kanal resume {record.run} {record.job_arguments}")
    if record.total.rejected:
        commands.append(f"kanal rejects {record.run} {record.job_arguments}")
    commands.append(f"kanal runs {record.run} {record.job_arguments}")
    text = "\n\n".join([f"{begun}.", *facts.values(), "To go on:\n" + "\n".join(commands)])
    return _title(job, facts), text


def _title(job: JobDefinition, facts: Mapping[str, str]) -> str:
    return f"{job.log_name}: {', '.join(_TITLES[kind] for kind in facts)}"


def messages_about(job: JobDefinition, log: RunLogStore, record: RunRecord) -> list[dict[str, Any]]:
    """The messages about a run that has ended, one for each receiver that is to hear of it, for the run log."""
    if not job.notify:
        return []
    usual = log.past.usual(record)
    earlier = [run for run in log.past.runs_of(job.log_name, 30) if run.run < record.run and not run.is_replay]
    failed_before = (bool(earlier) and earlier[0].status == "failed") or record.resumes > 0
    found = []
    for name, notify in job.notify.items():
        facts = facts_of(notify, record, usual, failed_before)
        if facts:
            about = f"run {record.run} {record.status} {record.resumes}"
            found.append(_row(job, about, name, list(facts), *run_message(job, record, facts)))
    return found


def tell_of_run(job: JobDefinition, log: RunLogStore, run: int) -> list[str]:
    """Tell the receivers of a job of a run that has ended; what could not be sent, and is kept to be tried again."""
    log.service.add_messages(messages_about(job, log, log.past.run(run)))
    failed = []
    for message in log.service.unsent(job.log_name, MOST_TRIES):
        error = _deliver(job, log, message)
        if error:
            failed.append(f"a message to {message['receiver']} cannot be sent: {error}")
    return failed


def _deliver(job: JobDefinition, log: RunLogStore, message: Mapping[str, Any]) -> str | None:
    """Send a message that the run log keeps, unless another process does, and record how that went; why not."""
    if not log.service.claim_message(message["message"], message["tries"]):
        return None
    error = send(job, message["receiver"], message["title"], message["text"])
    log.service.message_sent(message["message"], error)
    return error


def _row(job: JobDefinition, about: str, receiver: str, kinds: list[str], title: str, text: str) -> dict[str, Any]:
    return {"job": job.log_name[:200], "about": about[:100], "receiver": receiver[:100], "kinds": json.dumps(kinds),
            "title": title, "text": text}  # fmt: skip


def send(job: JobDefinition, receiver: str, title: str, text: str) -> str | None:
    """Send a message to a receiver of a job; None if it is sent, or else why not, without any secret."""
    try:
        import apprise
    except ImportError:
        return "the package apprise is not installed, which sends messages; install kanal[service]"
    capture: Any = apprise.LogCapture
    logging.getLogger("apprise").propagate = False
    if receiver not in job.notify:
        return f"the job has no [notify.{receiver}] any more"
    addresses = []
    try:
        for place in job.notify[receiver].to:
            addresses.append(secret_value(place, f"notify {receiver}", job.folder))
    except KanalError as error:
        return str(error)
    failed = []
    for address in addresses:
        out = apprise.Apprise()
        if not out.add(address.strip()):
            failed.append("it is no address that is known; write one such as mailto://… or json://…")
            continue
        with capture(level=logging.INFO, fmt="%(message)s") as said:
            sent = out.notify(title=title, body=text, body_format=apprise.NotifyFormat.TEXT)
            if not sent:
                failed.append(without_secret(said.getvalue(), address))
    return " ".join(failed) or None


def without_secret(said: str, address: str) -> str:
    """What was said of an address, without what may be secret in it."""
    parts = urlsplit(address)
    words = [parts.password, parts.username, *parts.path.split("/"), *parts.query.split("&"), address]
    words += [word.partition("=")[2] for word in parts.query.split("&")]
    forms = {form for word in words if word for form in (word, unquote(word), quote(word)) if len(form) > 2}
    for form in sorted(forms, key=len, reverse=True):
        said = said.replace(form, "***")
    return shortened(" ".join(said.split()) or "it could not be delivered", 300)


class Serving(Protocol):
    """What a messenger needs of its service: the jobs, and whether it has been told to stop."""

    stopping: bool

    @property
    def served(self) -> dict[str, Served]:
        """The jobs, by name."""


class Messenger:
    """Sends the messages of a service's jobs; what cannot be sent is tried again."""

    def __init__(self, service: Serving) -> None:
        self._service = service
        self._one_at_a_time = threading.Lock()

    def after_run(self, served: Served, record: RunRecord | None) -> None:
        """Tell of a run that has ended, unless it will be continued by itself."""
        if record is None or not served.job.notify:
            return
        schedule = served.job.schedule
        if record.status == "running" or (record.status == "stopped" and self._service.stopping):
            return
        if record.status == "failed" and record.due is not None and schedule is not None:
            vain = served.in_vain.get(record.run, 0)
            if max(record.resumes, vain) < schedule.resume.times:
                return
        self._add(served, messages_about(served.job, served.log, record))

    def broken(self, served: Served) -> None:
        """Tell that a job's file is broken."""
        text = f"{served.path} has changed and is broken; the last good one goes on.\n\n{served.broken}\n\n"
        text += f"To go on:\nkanal check {served.path}"
        about = f"broken {max(time for time, _ in served.seen.values())}"
        self._tell(served, "broken", about, text)

    def look(self) -> None:
        """Tell what is late or silent, and send what is not sent yet."""
        for served in list(self._service.served.values()):
            try:
                self._look_at(served)
            except KanalError as error:
                served.trouble = str(error)
        self.send_all()

    def _look_at(self, served: Served) -> None:
        schedule, now = served.job.schedule, aware(clock.now())
        if schedule is None or not served.job.notify or not schedule.enabled:
            return
        since = aware(served.log.service.keep_schedule(served.name, schedule.identity))
        self._tell_of_the_latest(served, now)
        success = served.log.past.last_success(served.name)
        for name, notify in served.job.notify.items():
            silent = now - max(since, aware(success) if success else since)
            if "nothing_ran" in notify.when and silent > parse_time(notify.silent_for):
                last = f"the last time at {success:%Y-%m-%d %H:%M:%S} UTC" if success else "never yet"
                text = f"{served.name} has not succeeded for {notify.silent_for}: {last}."
                self._tell(served, "nothing_ran", f"silent since {success or since}", text, name)
        if schedule.finish_by is None:
            return
        due = latest(schedule, since, now)
        if due is None:
            return
        local = due.astimezone(schedule.zone)
        end = dt.datetime.combine(local.date(), schedule.finish_by, schedule.zone)
        end += dt.timedelta(days=1) if end <= local else dt.timedelta()
        done = success is not None and aware(success) > due
        if now > end and not done:
            text = (f"{served.name} was due at {local:%Y-%m-%d %H:%M} ({schedule.time_zone}) and has not succeeded by "
                    f"{end:%H:%M}.")  # fmt: skip
            self._tell(served, "late", f"late {due.isoformat()}", text)

    def _tell_of_the_latest(self, served: Served, now: dt.datetime) -> None:
        """Tell of scheduled runs that ended while no service heard of it."""
        for record in served.log.past.runs_of(served.name, 5):
            ending = record.run, record.status, record.resumes
            recent = record.finished is not None and now - aware(record.finished) < dt.timedelta(days=1)
            if record.due is not None and recent and ending not in served.told and served.child is None:
                served.told.add(ending)
                self.after_run(served, record)

    def _tell(self, served: Served, kind: str, about: str, text: str, only: str | None = None) -> None:
        file, env = served.path, f" --env {served.environment}" if served.environment else ""
        if kind != "broken":
            text += f"\n\nTo see why:\nkanal runs --job {file}{env}\nkanal check {file}{env}"
        title = _title(served.job, {kind: ""})
        rows = [
            _row(served.job, about, name, [kind], title, text)
            for name, notify in served.job.notify.items()
            if kind in notify.when and only in (None, name)
        ]
        self._add(served, rows)

    def _add(self, served: Served, rows: Sequence[Mapping[str, Any]]) -> None:
        if rows and served.log.service.add_messages(rows):
            threading.Thread(target=self.send_all, name="service-messages", daemon=True).start()

    def send_all(self) -> None:
        """Send what is not sent yet, and is to be tried now."""
        with self._one_at_a_time:
            for served in list(self._service.served.values()):
                try:
                    for message in () if not served.job.notify else served.log.service.unsent(served.name, MOST_TRIES):
                        if _is_to_be_tried(message):
                            self._send(served, message)
                except KanalError as error:
                    served.trouble = str(error)

    def _send(self, served: Served, message: Mapping[str, Any]) -> None:
        error = _deliver(served.job, served.log, message)
        if error:
            said = f"A message to {message['receiver']} cannot be sent, and is tried again: {error}"
            tell("message_failed", logging.WARNING, said, job=served.name, receiver=message["receiver"], error=error)


def _is_to_be_tried(message: Mapping[str, Any]) -> bool:
    """True if the pause since the last try is over: a minute first, twice as long each time, an hour at most."""
    tries = message["tries"]
    waited = sum(min(60 * 2**number, 3600) for number in range(tries))
    return bool(clock.now() - message["made"] >= dt.timedelta(seconds=waited if tries else 0))
