"""Who carries out tasks elsewhere, and how the run hears from them."""

from __future__ import annotations

import itertools
import queue
import secrets
import threading
import time
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import BrokenExecutor, Executor, Future
from contextlib import suppress
from multiprocessing.connection import Connection, Listener
from typing import Any, Protocol

from kanal.core.errors import KanalError
from kanal.runner.elsewhere.talk import Pace, SocketCall, pace
from kanal.runner.elsewhere.tasks import MISMATCH, VERSIONS, pack, run_packed
from kanal.runner.messages import Answer, Ending, Failure, Goodbye, Said, Sign, Stopped, StopRequest

#: So often a lost task is given to another.
TIMES = 20


class Line(Protocol):
    """The run's side of the talk with one try of a task."""

    def send(self, answer: Answer) -> None:
        """Answer; what cannot be sent is not: it will be asked for again."""


#: What comes from a task: by which line, and what; None if the line is broken.
Heard = tuple[Line, Said | None]


class Errand:
    """A task that was handed out."""

    def __init__(self) -> None:
        self.heard: queue.SimpleQueue[Heard] = queue.SimpleQueue()

    def lost(self) -> BaseException | None:
        """Why nothing will be heard of it any more; None while it is waiting or under way."""
        raise NotImplementedError

    def may_speak(self) -> bool:
        """True if its last word may still be on its way, though it is lost or done."""
        return True

    def withdraw(self) -> None:
        """Have it not begin, if it has not."""
        raise NotImplementedError

    def cancel(self) -> None:
        """The same, and have what it says be heard no more."""
        self.withdraw()


class Crew:
    """Those who carry out tasks."""

    #: True if a task that was lost can be given to another.
    replaces = False
    #: How soon they and the run take each other for lost.
    pace: Pace
    #: How many tasks are carried out at once; None if that is not known.
    slots: int | None = None

    def hand_out(self, task: Any, texts: Mapping[str, bytes], tags: Collection[str]) -> Errand:
        """Have a task carried out, by one who has these tags; raises whatever hinders it from being sent."""
        raise NotImplementedError

    def wait_until_ready(self, tags: Collection[str], stopped: threading.Event) -> None:
        """Wait until tasks can be handed out again; raises KanalError if that takes too long."""

    def close(self) -> None:
        """Take no more calls."""


class Assignment:
    """A task, until it is done: given to another if it is lost, stopped if that is asked for."""

    def __init__(
        self,
        crew: Crew,
        task: Any,
        texts: Mapping[str, bytes] | None = None,
        tags: Collection[str] = (),
        found: Callable[[], Any] = lambda: None,
        told: Callable[[str], None] = lambda said: None,
        again: bool = True,
    ) -> None:
        """`found` is asked, once it is lost, what it has given all the same, or None; `told` is told what happened.
        Unless `again`, one that has begun is not given to another."""
        self.crew = crew
        #: Where it is carried out, for people; and how often it was lost.
        self.worker = ""
        self.lost = 0
        self._task, self._texts, self._tags = task, texts or {}, tags
        self._answer: Callable[[Any], Any] = lambda message: None
        self._found, self._told = found, told
        self._again = again
        self._line: Line | None = None
        self._earlier: list[Line] = []
        self._last: tuple[int, Any] = (0, None)
        self._stop: StopRequest | None = None
        self._stopped = threading.Event()
        self._errand: Errand | None = None

    def answers_by(self, answer: Callable[[Any], Any]) -> None:
        """Have this be asked what to answer to what the task says."""
        self._answer = answer

    def stop(self, ending: Ending, limit: float = 0.0) -> None:
        """Ask, from another thread, that it ends."""
        self._stop = StopRequest(ending, limit)
        self._stopped.set()
        errand, line = self._errand, self._line
        if line is not None:
            line.send(Answer(0, None, self._stop))
        elif errand is not None:
            errand.withdraw()

    def run(self) -> Any:
        """Have it carried out; what it gives, which may be a Failure. Raises what hinders it for good."""
        if self._tags:
            self.crew.wait_until_ready(self._tags, self._stopped)
        while True:
            if self._stopped.is_set():
                raise Stopped
            self._line = None
            errand = self._errand = self.crew.hand_out(self._task, self._texts, self._tags)
            try:
                return self._attend(errand)
            except Stopped:
                raise
            except BaseException as error:
                found = self._found()
                if found is not None:
                    return found
                if self._stopped.is_set():
                    raise Stopped from None
                self.lost += 1
                if self._line is not None and not self._again:
                    raise KanalError(
                        f"{self.worker} was lost ({error}), and whether it had loaded its rows is not known",
                        "look in the target before the run goes on",
                    ) from None
                if not self.crew.replaces or self.lost > TIMES or not _replaceable(error):
                    raise
                self._told(f"{self.worker or 'a worker'} was lost ({error}), and the task is given to another")
                self.crew.wait_until_ready(self._tags, self._stopped)
            finally:
                errand.cancel()

    def _attend(self, errand: Errand) -> Any:
        """Answer what the task says, until it is done; what it gave. Raises why it is lost."""
        heard_at, ended_at = time.monotonic(), 0.0
        while True:
            try:
                line, said = errand.heard.get(timeout=0.2)
            except queue.Empty:
                ended_at = ended_at or (time.monotonic() if errand.lost() is not None else 0.0)
                self._bear_silence(errand, heard_at, ended_at)
                continue
            if said is None:
                if line is self._line:
                    raise errand.lost() or _ended_unexpectedly()
            elif self._is_heard(line, said):
                heard_at = time.monotonic()
                self._reply(line, said)
                if isinstance(said.message, Goodbye):
                    return said.message.outcome

    def _bear_silence(self, errand: Errand, heard_at: float, ended_at: float) -> None:
        """Raise why nothing more is to be heard, once that is certain enough."""
        now, why, pace = time.monotonic(), errand.lost(), self.crew.pace
        if why is not None and now - ended_at > (2 * pace.again if errand.may_speak() else 0.5):
            raise why
        if why is None and self._line is not None and now - heard_at > pace.silent:
            raise KanalError("nothing is heard of the worker any more", "go on by kanal resume")
        if why is None and self._stopped.is_set() and now - heard_at > pace.lease / 2:
            raise Stopped

    def _is_heard(self, line: Line, said: Said) -> bool:
        """False for what an earlier try says, which is told so."""
        if line is self._line:
            return True
        if line in self._earlier:
            self._send(line, said.number, Failure.of(given_away()))
            return False
        if self._line is not None:
            self._earlier.append(self._line)
        self._line, self._last, self.worker = line, (0, None), said.speaker.label
        return True

    def _reply(self, line: Line, said: Said) -> None:
        """Answer, in the same way where the same is said again."""
        if isinstance(said.message, Sign):
            self._send(line, said.number, None)
            return
        if said.number != self._last[0]:
            self._last = said.number, self._content(said.message)
        self._send(line, said.number, self._last[1])

    def _send(self, line: Line, number: int, content: Any) -> None:
        line.send(Answer(number, content, self._stop if line is self._line else None))

    def _content(self, message: Any) -> Any:
        if isinstance(message, Goodbye):
            return None
        try:
            return self._answer(message)
        except KanalError as error:
            return Failure.of(error)


def given_away() -> KanalError:
    """The error of a try of a task that was given to another."""
    return KanalError("the task was given to another worker")


def _replaceable(error: BaseException) -> bool:
    """True for what becomes of a worker, not for what hinders any of them."""
    return not isinstance(error, NotSent)


class NotSent(KanalError):
    """A task cannot be carried out by anybody of a crew."""


def not_sent(error: BaseException) -> NotSent:
    """The error of a task that cannot be sent."""
    why = " ".join(str(error).split())[:200]
    return NotSent(
        f"the step cannot be sent to another process: {type(error).__name__}: {why}",
        "put functions of your own into a file that the job names, or run it without an executor",
    )


def other_versions(said: str) -> NotSent:
    """The error of a worker that has another Kanal or Python."""
    there = said.partition(MISMATCH)[2]
    return NotSent(
        f"there is {there}, and here Kanal {VERSIONS[0]} with Python {VERSIONS[1]}", "install the same there"
    )


def _ended_unexpectedly(error: BaseException | None = None) -> KanalError:
    why = f" ({type(error).__name__})" if error is not None else ""
    return KanalError(f"a process of the executor ended unexpectedly{why}", "go on with the run by kanal resume")


# --- any executor of concurrent.futures -------------------------------------------------------------------------------


class _SocketLine:
    """A line by a connection of its own."""

    def __init__(self, channel: Connection) -> None:
        self.channel = channel
        self._sending = threading.Lock()

    def send(self, answer: Answer) -> None:
        with self._sending, suppress(OSError):
            self.channel.send(answer)


class _ExecutorErrand(Errand):
    """A task that an executor has."""

    future: Future[None]

    def lost(self) -> BaseException | None:
        if not self.future.done():
            return None
        if self.future.cancelled():
            return Stopped()
        error = self.future.exception()
        if error is None:
            return _ended_unexpectedly()
        if isinstance(error, RuntimeError) and MISMATCH in str(error):
            return other_versions(str(error))
        if "pickle" in str(error).lower() or "pickle" in type(error).__name__.lower():
            return not_sent(error)
        return error if isinstance(error, KanalError) else _ended_unexpectedly(error)

    def may_speak(self) -> bool:
        return self.future.done() and not self.future.cancelled() and self.future.exception() is None

    def withdraw(self) -> None:
        self.future.cancel()


class ExecutorCrew(Crew):
    """The processes of an executor, which call back by a socket."""

    def __init__(self, executor: Executor) -> None:
        self.pace = pace()
        self._executor = executor
        self._key = secrets.token_bytes(32)
        self._listener = Listener(("127.0.0.1", 0), authkey=self._key)
        self._errands: dict[str, _ExecutorErrand] = {}
        self._numbers = itertools.count(1)
        self._closed = False
        threading.Thread(target=self._take_calls, name="kanal-calls", daemon=True).start()

    def hand_out(self, task: Any, texts: Mapping[str, bytes], tags: Collection[str]) -> Errand:
        del tags
        host, port = self._listener.address
        name, errand = str(next(self._numbers)), _ExecutorErrand()
        try:
            packed = pack(SocketCall((str(host), int(port)), self._key, name), task, texts, self.pace)
            self._errands[name] = errand
            errand.future = self._executor.submit(run_packed, packed, VERSIONS)
        except BrokenExecutor as error:
            raise _ended_unexpectedly(error) from None
        except Exception as error:
            raise not_sent(error) from None
        return errand

    def close(self) -> None:
        self._closed = True
        self._listener.close()

    def _take_calls(self) -> None:
        while True:
            try:
                channel = self._listener.accept()
                name = channel.recv()
            except (OSError, EOFError):
                if self._closed:
                    return
                continue
            except Exception:  # a caller without the key
                continue
            errand = self._errands.pop(name, None)
            if errand is not None:
                threading.Thread(target=_hear, args=(channel, errand), name="kanal-hear", daemon=True).start()


def _hear(channel: Connection, errand: Errand) -> None:
    line = _SocketLine(channel)
    with channel:
        while True:
            try:
                said = channel.recv()
            except (OSError, EOFError):
                errand.heard.put((line, None))
                return
            errand.heard.put((line, said))
            if isinstance(said.message, Goodbye):
                channel.poll(None)  # until it has heard the answer, and hangs up
                return
