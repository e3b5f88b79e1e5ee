"""How a task speaks with its run: what it says is numbered, sent again until it is answered, and answered once."""

from __future__ import annotations

import itertools
import os
import threading
import time
import uuid
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Client
from typing import Any, Protocol

from msgspec import Struct

from kanal.core.errors import KanalError
from kanal.runner.messages import Answer, Failure, Goodbye, Said, Sign, Speaker, StopRequest

#: Seconds without an answer after which a task takes its run for gone, and undoes what it has not committed.
LEASE = 60.0


class Pace(Struct, frozen=True):
    """How soon a run and its tasks take each other for lost, by the seconds of the lease."""

    lease: float = LEASE

    @property
    def sign(self) -> float:
        """Seconds after which a task gives a sign."""
        return self.lease / 12

    @property
    def again(self) -> float:
        """Seconds after which what was not answered is said again."""
        return self.lease / 6

    @property
    def silent(self) -> float:
        """Seconds without a sign after which a run takes a task for lost, and gives it to another."""
        return self.lease * 0.75

    @property
    def patience(self) -> float:
        """Seconds that a cluster gets to come back once it is lost."""
        return self.lease * 2


def pace() -> Pace:
    """The pace of this process, by the environment variable KANAL_LEASE; raises KanalError."""
    text = os.environ.get("KANAL_LEASE") or str(LEASE)
    try:
        seconds = float(text)
    except ValueError:
        seconds = 0.0
    if not 1 <= seconds <= 86_400:
        raise KanalError(f'KANAL_LEASE is "{text}"', "set it to seconds, from 1 to 86400")
    return Pace(seconds)


class Channel(Protocol):
    """What carries messages between a task and its run; raises OSError or EOFError where it is broken."""

    def send(self, message: Any, /) -> None:
        """Send a message."""

    def recv(self) -> Any:
        """Wait for a message, and give it."""

    def close(self) -> None:
        """Be done."""


class Call(Protocol):
    """How a task reaches its run."""

    def connect(self) -> Channel:
        """A channel to it."""


class SocketCall(Struct, frozen=True):
    """A run that waits for its tasks at an address."""

    address: tuple[str, int]
    key: bytes
    task: str

    def connect(self) -> Channel:
        """A channel to it, on which the task has said its name."""
        channel = Client(self.address, authkey=self.key)
        channel.send(self.task)
        return channel


def gone() -> KanalError:
    """The error of a task whose run does not answer any more."""
    return KanalError("the run that this step belongs to is gone", "see kanal runs")


class Talk:
    """A task's side of the talk with its run."""

    def __init__(self, channel: Channel, speaker: Speaker, pace: Pace) -> None:
        #: What this try marks its work in targets by.
        self.owner = str(uuid.uuid4())
        self._channel, self._speaker, self._pace = channel, speaker, pace
        self._numbers = itertools.count(1)
        self._answers: dict[int, Answer] = {}
        self._changed = threading.Condition()
        self._sending = threading.Lock()
        self._over = False
        self._last = 0
        self._asked_to_stop: StopRequest | None = None
        self._stop: Callable[[StopRequest | None], None] | None = None
        threading.Thread(target=self._listen, name="kanal-listen", daemon=True).start()
        threading.Thread(target=self._give_signs, name="kanal-sign", daemon=True).start()

    def ask(self, message: Any) -> Any:
        """Say something and wait for the answer; raises what the run answers, or that it is gone."""
        number, until = next(self._numbers), time.monotonic() + self._pace.lease
        if isinstance(message, Goodbye):
            self._last = number
        while True:
            try:
                with self._sending:
                    self._channel.send(Said(number, message, self._speaker))
            except (OSError, EOFError):
                self._end(None)
                raise gone() from None
            with self._changed:
                self._changed.wait_for(lambda: number in self._answers or self._over, self._pace.again)
                answer = self._answers.pop(number, None)
                if answer is not None:
                    break
                if self._over:
                    raise gone()
            if time.monotonic() > until:
                self._end(None)
                raise gone()
        if isinstance(answer.content, Failure):
            raise KanalError(answer.content.what, answer.content.remedy)
        return answer.content

    def stops_by(self, stop: Callable[[StopRequest | None], None]) -> None:
        """Have this called, from another thread, when the run asks the task to end, or (with None) is gone."""
        self._stop = stop
        if self._over or self._asked_to_stop is not None:
            stop(self._asked_to_stop)

    def end(self, outcome: Any) -> None:
        """Say that the task is done, and what it gave; whoever carried it out need not wait until that is heard."""
        threading.Thread(target=self._end_for_good, args=(outcome,), name="kanal-end", daemon=True).start()

    def _end_for_good(self, outcome: Any) -> None:
        with suppress(KanalError):
            self.ask(Goodbye(outcome))
        with self._changed:
            self._over, self._stop = True, None
            self._changed.notify_all()
        with suppress(OSError):
            self._channel.close()

    def _give_signs(self) -> None:
        while True:
            with self._changed:
                if self._changed.wait_for(lambda: self._over, self._pace.sign):
                    return
            with suppress(KanalError):
                self.ask(Sign())

    def _listen(self) -> None:
        while True:
            try:
                answer: Answer = self._channel.recv()
            except (OSError, EOFError):
                self._end(None)
                return
            with self._changed:
                if answer.number:
                    self._answers[answer.number] = answer
                    self._changed.notify_all()
            if answer.number and answer.number == self._last:
                return
            if answer.stop is not None:
                self._end(answer.stop)

    def _end(self, asked: StopRequest | None) -> None:
        """Have the task end: it was asked to, or its run is gone."""
        with self._changed:
            if asked is None:
                self._over = True
            self._asked_to_stop = asked
            self._changed.notify_all()
        if self._stop is not None:
            self._stop(asked)
