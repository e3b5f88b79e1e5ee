"""Lets reading run ahead of computing and writing."""

from __future__ import annotations

import pickle
import queue
import tempfile
import threading
from collections.abc import Generator, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from kanal.core.frame import SourceBatch

Item = TypeVar("Item")
_END = object()


@contextmanager
def read_ahead(items: Iterable[Item], depth: int = 2) -> Iterator[Iterator[Item]]:
    """The items, fetched by another thread up to `depth` ahead; its errors are raised where they are taken."""
    ready: queue.Queue[object] = queue.Queue(maxsize=depth)
    stopping = threading.Event()

    def put(item: object) -> bool:
        while not stopping.is_set():
            try:
                ready.put(item, timeout=0.1)
            except queue.Full:
                continue
            return True
        return False

    def fetch() -> None:
        try:
            for item in items:
                if not put(item):
                    return
            put(_END)
        except BaseException as error:  # handed to the other thread, whatever it is
            put(error)

    def taken() -> Generator[Item]:
        while (item := ready.get()) is not _END:
            if isinstance(item, BaseException):
                raise item
            yield item  # type: ignore[misc]

    thread = threading.Thread(target=fetch, name="kanal-reader", daemon=True)
    thread.start()
    try:
        yield taken()
    finally:
        stopping.set()
        thread.join()


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


class KeptRows:
    """Source rows put by in a temporary file, to be found again by their number."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(prefix="kanal-")  # noqa: SIM115 - closed by `close`
        self._starts: list[int] = []
        self._places: list[int] = []
        self._rows = 0

    def add(self, batch: SourceBatch) -> None:
        """Put rows by; they are numbered from the number of those before."""
        if batch.rows:
            self._starts.append(self._rows)
            self._places.append(self._file.tell())
            pickle.dump(batch, self._file, protocol=pickle.HIGHEST_PROTOCOL)
            self._rows += batch.rows

    def find(self, numbers: list[int]) -> Iterator[tuple[SourceBatch, list[int]]]:
        """The batches that hold the rows with these ascending numbers, each with the places of the rows in it."""
        ends = [*self._starts[1:], self._rows]
        for start, end, place in zip(self._starts, ends, self._places, strict=True):
            wanted = [number - start for number in numbers if start <= number < end]
            if wanted:
                self._file.seek(place)
                yield pickle.load(self._file), wanted
        self._file.seek(0, 2)

    def close(self) -> None:
        """Remove the file."""
        self._file.close()
