"""Lets reading run ahead of computing and writing."""

from __future__ import annotations

import pickle
import queue
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, suppress
from itertools import islice
from typing import Any, TypeVar, cast

from kanal.connections.reading import Reading
from kanal.core.frame import SourceBatch

Item = TypeVar("Item")
_END = object()


class Ahead(Iterator[Item]):
    """Items that other threads put into a queue, until all of these threads have ended."""

    def __init__(self, ready: queue.SimpleQueue[object], room: threading.Semaphore, threads: int) -> None:
        self._ready = ready
        self._room = room
        self._left = threads
        #: Items that were taken out of the queue in advance.
        self._next: list[object] = []

    def follows(self, seconds: float) -> bool:
        """Wait for the next item, for at most this many seconds; False if none comes."""
        if not self._next:
            with suppress(queue.Empty):
                self._next.append(self._ready.get(timeout=seconds))
        return bool(self._next)

    def __next__(self) -> Item:
        while self._left:
            item = self._next.pop() if self._next else self._ready.get()
            self._room.release()
            if isinstance(item, BaseException):
                raise item
            if item is not _END:
                return cast("Item", item)
            self._left -= 1
        raise StopIteration


@contextmanager
def read_ahead(*streams: Iterable[Item], depth: int = 1) -> Iterator[Ahead[Item]]:
    """The items, fetched by other threads, one a stream, up to `depth` ahead; errors are raised when they are taken.

    An item is fetched once there is room for it, so that no more of them are held. Of several streams they come in no
    order.
    """
    ready: queue.SimpleQueue[object] = queue.SimpleQueue()
    room = threading.Semaphore(depth * len(streams))
    stopping = threading.Event()

    def fetch(items: Iterable[Item]) -> None:
        try:
            coming = iter(items)
            going_on = True
            while going_on and room.acquire() and not stopping.is_set():
                going_on = pass_on(coming)
        except BaseException as error:  # handed to the other thread, whatever it is
            ready.put(error)

    def pass_on(coming: Iterator[Item]) -> bool:
        """Put the next item; it is not held here after that."""
        try:
            ready.put(next(coming))
        except StopIteration:
            ready.put(_END)
            return False
        return True

    threads = [threading.Thread(target=fetch, args=(items,), name="kanal-reader", daemon=True) for items in streams]
    for thread in threads:
        thread.start()
    try:
        yield Ahead(ready, room, len(streams))
    finally:
        stopping.set()
        room.release(len(threads))
        for thread in threads:
            thread.join()


def timed(batches: Iterable[SourceBatch]) -> Iterator[SourceBatch]:
    """The batches, each with the seconds that it took to come."""
    started = time.perf_counter()
    for batch in batches:
        batch.seconds = time.perf_counter() - started
        yield batch
        started = time.perf_counter()


@contextmanager
def side_by_side(
    parts: Sequence[Reading], readers: Sequence[Callable[[Reading], AbstractContextManager[Iterator[SourceBatch]]]]
) -> Iterator[Iterator[SourceBatch]]:
    """The batches of all parts, in no order: each reader, in a thread of its own, reads the part that is next."""
    waiting: queue.SimpleQueue[Reading] = queue.SimpleQueue()
    for part in parts:
        waiting.put(part)

    def of_reader(reader: Callable[[Reading], AbstractContextManager[Iterator[SourceBatch]]]) -> Iterator[SourceBatch]:
        while True:
            try:
                part = waiting.get_nowait()
            except queue.Empty:
                return
            with reader(part) as batches:
                yield from batches

    with read_ahead(*(timed(of_reader(reader)) for reader in readers), depth=1) as ahead:
        yield ahead


@contextmanager
def in_turn(streams: Sequence[Iterable[Item]], at_once: int) -> Iterator[Iterator[Item]]:
    """The items of streams, one after the other, while so many of those that come next are read ahead, each by a thread
    of its own."""
    waiting, begun = iter(streams), deque[tuple[ExitStack, Iterator[Item]]]()

    def begin(count: int) -> None:
        for items in islice(waiting, count):
            stack = ExitStack()
            begun.append((stack, stack.enter_context(read_ahead(items))))

    def taken() -> Generator[Item]:
        begin(at_once)
        while begun:
            stack, items = begun[0]
            yield from items
            begun.popleft()
            stack.close()
            begin(1)

    try:
        yield taken()
    finally:
        for stack, _ in begun:
            stack.close()


def evenly(low: Any, high: Any, parts: int) -> list[Any]:
    """Values that cut a range, of numbers, dates or times, into this many parts of one length, fewer if it is short."""
    if low is None or low == high:
        return []
    if isinstance(low, int):
        return sorted({low + (high - low) * part // parts for part in range(1, parts)} - {low})
    return sorted({low + (high - low) / parts * part for part in range(1, parts)} - {low})


@contextmanager
def spooled(batches: Iterable[SourceBatch]) -> Iterator[Iterator[SourceBatch]]:
    """The batches by way of a temporary file, read to the end first: for a source that the target's load would lock."""
    with tempfile.TemporaryFile(prefix="kanal-") as file:
        count = 0
        for batch in batches:
            pickle.dump(batch, file, protocol=pickle.HIGHEST_PROTOCOL)
            count += 1
        file.seek(0)
        yield (pickle.load(file) for _ in range(count))
