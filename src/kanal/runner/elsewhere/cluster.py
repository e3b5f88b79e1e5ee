"""The workers of a cluster: dask.distributed hands tasks to them, and carries what tasks and runs say to each other.

All of it goes by way of the scheduler, to which workers and runs connect; nothing connects to a worker or to a run.
"""

from __future__ import annotations

import contextlib
import logging
import threading
import time
import uuid
from collections.abc import Collection, Iterator, Mapping
from concurrent.futures import Executor
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kanal.core.errors import KanalError
from kanal.runner.elsewhere.crew import Crew, Errand, ExecutorCrew, NotSent, given_away, not_sent, other_versions
from kanal.runner.elsewhere.message_bytes import decode, encode
from kanal.runner.elsewhere.talk import pace
from kanal.runner.elsewhere.tasks import MISMATCH, VERSIONS, pack, run_packed
from kanal.runner.messages import Answer, Failure, Goodbye, Said, Stopped

#: Seconds that a scheduler gets to answer.
CONNECT = 15.0
#: Seconds that one wait for messages lasts.
_WAIT = 5.0
#: Of a tag that a worker carries, what one task takes up: any number of tasks may use it at once.
_SHARE = 1e-6


@contextlib.contextmanager
def crew_for(executor: Executor | Crew) -> Iterator[Crew]:
    """Those who work for an executor of any kind."""
    if isinstance(executor, Crew):
        yield executor
        return
    client: Any = getattr(executor, "_client", None)
    of_cluster = client is not None and hasattr(client, "scheduler_info")
    crew: Crew = Cluster(client.scheduler.address, client) if of_cluster else ExecutorCrew(executor)
    try:
        yield crew
    finally:
        crew.close()


def _distributed() -> Any:
    """The library; raises KanalError if it is not installed."""
    try:
        import distributed
    except ImportError:
        raise KanalError("the package distributed is not installed", "install kanal[cluster]") from None
    # What becomes of the connection is said by the run.
    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    for name in ("client", "core", "comm", "batched", "utils"):
        logging.getLogger(f"distributed.{name}").setLevel(logging.CRITICAL)
    return distributed


# --- where a task runs -----------------------------------------------------------------------------------------------


class MailCall(Struct, frozen=True):
    """A run that reads its mail at the scheduler, from a queue of this name."""

    inbox: str
    task: str

    def connect(self) -> MailChannel:
        """A channel to it."""
        return MailChannel(self.inbox, self.task)


class MailChannel:
    """Messages by queues of the scheduler: one for the run, and one for the answers to this try of the task."""

    def __init__(self, inbox: str, task: str) -> None:
        from distributed import Queue, get_client

        self._client = get_client()
        self._task, self._box = task, f"kanal-{uuid.uuid4()}"
        queue_of: Any = Queue
        self._answers = queue_of(self._box, client=self._client)
        self._inbox = queue_of(inbox, client=self._client)
        self._closed = False

    def send(self, message: Said) -> None:
        """Send a message; raises OSError if the scheduler cannot be reached."""
        try:
            content = encode((self._task, self._box, message))
        except TypeError as error:  # what a task gives that is no data
            failed = replace(message, message=Goodbye(Failure.of(error)))
            content = encode((self._task, self._box, failed))
        with _as_os_errors():
            self._inbox.put(content, timeout=CONNECT)

    def recv(self) -> Answer:
        """Wait for a message; raises EOFError once the channel is closed, and OSError."""
        while not self._closed:
            with _as_os_errors(), contextlib.suppress(TimeoutError):
                answer: Answer = decode(self._answers.get(timeout=_WAIT))
                return answer
        raise EOFError

    def close(self) -> None:
        """Be done."""
        self._closed = True
        with _as_os_errors():
            self._answers.close()
            self._inbox.close()


@contextlib.contextmanager
def _as_os_errors() -> Iterator[None]:
    """While this lasts, what distributed raises if a connection is lost becomes an OSError."""
    try:
        yield
    except (OSError, TimeoutError):
        raise
    except Exception as error:
        raise OSError(f"{type(error).__name__}: {error}") from None


# --- where the run is ------------------------------------------------------------------------------------------------


class Cluster(Crew):
    """The workers of a cluster, by the address of its scheduler."""

    replaces = True

    def __init__(self, address: str, client: Any = None) -> None:
        """Raises KanalError if there is no scheduler, or no worker."""
        self.pace = pace()
        self.address = address
        self._own = client is None
        self._client = client or self._connected(CONNECT)
        self._inbox_name = f"kanal-{uuid.uuid4()}"
        self._errands: dict[str, _ClusterErrand] = {}
        self._lock = threading.Lock()
        self._closed = threading.Event()
        until = time.monotonic() + CONNECT
        while not self.workers() and time.monotonic() < until:
            time.sleep(0.5)
        if not self.workers():
            self.close()
            raise KanalError(f"the cluster {address} has no workers", f"start some, such as: dask worker {address}")
        threading.Thread(target=self._read_mail, name="kanal-mail", daemon=True).start()

    def _connected(self, timeout: float) -> Any:
        distributed = _distributed()
        try:
            return distributed.Client(self.address, timeout=timeout, set_as_default=False, name="kanal")
        except ValueError as error:
            said, remedy = f"{self.address} is no address of a scheduler: {error}", "write one such as tcp://hub:8786"
        except Exception as error:
            said = f"the scheduler {self.address} cannot be reached: {' '.join(str(error).split())[:200]}"
            remedy = "start it, such as: dask scheduler; or correct the address"
        raise KanalError(said, remedy) from None

    @property
    def client(self) -> Any:
        """The connection to the scheduler; raises KanalError if it is lost."""
        if self.client_lives():
            return self._client
        raise KanalError(f"the scheduler {self.address} cannot be reached any more", "go on by kanal resume")

    def client_lives(self) -> bool:
        """True while the connection to the scheduler stands, or is being made again."""
        return self._client.status in ("running", "connecting")

    def workers(self) -> dict[str, dict[str, Any]]:
        """The workers there are, by their addresses, as the scheduler describes them."""
        found: dict[str, dict[str, Any]] = self.client.scheduler_info(n_workers=-1)["workers"]
        return found

    @property
    def slots(self) -> int:  # type: ignore[override]
        """How many tasks are carried out at once."""
        return sum(int(worker["nthreads"]) for worker in self.workers().values())

    def with_tags(self, tags: Collection[str]) -> list[str]:
        """The workers that carry all of these tags, by their addresses."""
        return [
            address
            for address, worker in self.workers().items()
            if all(worker.get("resources", {}).get(tag, 0) > 0 for tag in tags)
        ]

    def hand_out(
        self, task: Any, texts: Mapping[str, bytes], tags: Collection[str], worker: str | None = None
    ) -> Errand:
        """Have a task carried out by one who has these tags, or by that worker."""
        name, errand = str(uuid.uuid4()), _ClusterErrand(self)
        try:
            packed = pack(MailCall(self._inbox_name, name), task, texts, self.pace)
        except Exception as error:
            raise not_sent(error) from None
        with self._lock:
            self._errands[name] = errand
        chosen = {} if worker is None else {"workers": [worker], "allow_other_workers": False}
        try:
            errand.future = self.client.submit(
                run_packed, packed, VERSIONS, key=f"kanal-{name}", pure=False,
                resources=dict.fromkeys(tags, _SHARE) or None, **chosen,
            )  # fmt: skip
        except KanalError as error:
            errand.failed = error
        except Exception as error:
            errand.failed = KanalError(f"the scheduler does not take the task: {type(error).__name__}: {error}")
        return errand

    def at(self, worker: str) -> Crew:
        """One worker of it alone, by its address."""
        return _OneWorker(self, worker)

    def wait_until_ready(self, tags: Collection[str], stopped: threading.Event) -> None:
        until = time.monotonic() + self.pace.patience
        while not stopped.is_set():
            with self._lock, contextlib.suppress(Exception):
                if self._own and self._client.status == "closed":
                    self._client = self._connected(5.0)
            with contextlib.suppress(Exception):
                if self.with_tags(tags):
                    return
            if time.monotonic() > until:
                carrying = f" that carry {', '.join(sorted(tags))}" if tags else ""
                raise KanalError(
                    f"the cluster {self.address} has had no workers{carrying} for {self.pace.patience:.0f} s",
                    "start some, then go on by kanal resume",
                )
            stopped.wait(0.5)
        raise Stopped

    def close(self) -> None:
        self._closed.set()
        if self._own:
            with contextlib.suppress(Exception):
                self._client.close(timeout=5)

    # --- mail ------------------------------------------------------------------------------------------------------

    def _read_mail(self) -> None:
        """Hand what tasks say to those who wait for it, whatever becomes of the connection."""
        distributed, boxes = _distributed(), dict[str, _MailLine]()
        inbox, client = None, None
        while not self._closed.is_set():
            try:
                if inbox is None or client is not self._client:
                    client = self._client
                    inbox = distributed.Queue(self._inbox_name, client=client)
                self._deliver(inbox.get(timeout=_WAIT), boxes)
                for content in inbox.get(batch=True):
                    self._deliver(content, boxes)
            except TimeoutError:
                continue
            except Exception:  # the scheduler is gone, or another one that knows no such queue
                inbox = None
                self._closed.wait(0.5)

    def _deliver(self, content: bytes, boxes: dict[str, _MailLine]) -> None:
        try:
            name, box, said = decode(content)
        except ValueError:  # nothing that Kanal has sent
            return
        if not isinstance(said, Said):
            return
        line = boxes.setdefault(box, _MailLine(self, box))
        errand = self._errands.get(name)
        if errand is None:  # one that is done says its last word again
            done = isinstance(said.message, Goodbye)
            line.send(Answer(said.number, None if done else Failure.of(given_away())))
            boxes.pop(box)
        else:
            errand.heard.put((line, said))

    def forget(self, errand: _ClusterErrand) -> None:
        """Have what an errand says no more be heard."""
        with self._lock:
            for name in [name for name, known in self._errands.items() if known is errand]:
                del self._errands[name]


class _OneWorker(Crew):
    """One worker of a cluster."""

    def __init__(self, cluster: Cluster, worker: str) -> None:
        self._cluster, self._worker = cluster, worker
        self.pace = cluster.pace

    def hand_out(self, task: Any, texts: Mapping[str, bytes], tags: Collection[str]) -> Errand:
        return self._cluster.hand_out(task, texts, tags, self._worker)


class _MailLine:
    """The run's side of the talk with one try of a task."""

    def __init__(self, cluster: Cluster, box: str) -> None:
        self._cluster, self._box = cluster, box
        self._queue: Any = None

    def send(self, answer: Answer) -> None:
        with contextlib.suppress(Exception):  # it will be asked for again
            if self._queue is None or self._queue.client is not self._cluster.client:
                self._queue = _distributed().Queue(self._box, client=self._cluster.client)
            self._queue.put(encode(answer), timeout=CONNECT)


class _ClusterErrand(Errand):
    """A task that the scheduler has."""

    def __init__(self, cluster: Cluster) -> None:
        super().__init__()
        self.future: Any = None
        self.failed: KanalError | None = None
        self._cluster = cluster

    def lost(self) -> BaseException | None:
        if self.failed is not None:
            return self.failed
        status = self.future.status
        if status == "pending":
            return None if self._cluster.client_lives() else KanalError("the scheduler cannot be reached any more")
        if status == "error":
            return _error_of(self.future)
        if status == "finished":
            return KanalError("the worker ended its task without a word")
        return KanalError("the scheduler has lost the task")

    def may_speak(self) -> bool:
        return self.failed is None and self.future.status == "finished"

    def withdraw(self) -> None:
        with contextlib.suppress(Exception):
            self.future.cancel()

    def cancel(self) -> None:
        self._cluster.forget(self)
        self.withdraw()


def _error_of(future: Any) -> BaseException:
    """Why a task could not be carried out."""
    try:
        error = future.exception(timeout=CONNECT)
    except Exception as failure:
        error = failure
    said = " ".join(str(error).split())
    if MISMATCH in said:
        return other_versions(said)
    if type(error).__name__ == "KilledWorker":
        return KanalError("the workers that had the task died, one after the other")
    if isinstance(error, ImportError) or "No module named 'kanal" in said:
        return NotSent("a worker of the cluster has no Kanal", "install it there, the same version as here")
    return KanalError(f"the task ended with {type(error).__name__}: {said[:300]}")
