"""A network between a job and a server of which single messages are lost, answered in vain, or delivered late."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Iterator

FAULTS = ("cut", "lost answer", "late")


class Between:
    """Accepts connections at a port of its own, and opens one to a server for each."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.own_port = int(self.listener.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        """Accept no more connections."""
        self.listener.close()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self.listener.accept()
            except OSError:
                return
            self.connected(client, socket.create_connection(("127.0.0.1", self.port)))

    def connected(self, client: socket.socket, server: socket.socket) -> None:
        """Start to pass on what the two send, in threads."""
        raise NotImplementedError


class Unreliable(Between):
    """Passes everything on, until it is armed: then it counts the messages to the server, and spoils one of them.

    - `cut`: the message is lost, and its connection with it.
    - `lost answer`: the server gets the message, and the connection ends before the answer.
    - `late`: the message waits until it is released, whatever has become of its sender.
    """

    def __init__(self, port: int) -> None:
        self.messages = 0
        self.held = threading.Event()
        self._released = threading.Event()
        self._at, self._fault = 0, ""
        self._lock = threading.Lock()
        super().__init__(port)

    def arm(self, at: int, fault: str) -> None:
        """Spoil the message of this number, counted from now from 1."""
        with self._lock:
            self.messages, self._at, self._fault = 0, at, fault
        self.held.clear()
        self._released.clear()

    def release(self) -> None:
        """Deliver what is late."""
        self._released.set()

    def close(self) -> None:
        """Accept no more connections, and hold nothing."""
        self.release()
        super().close()

    def connected(self, client: socket.socket, server: socket.socket) -> None:
        deaf = threading.Event()
        threading.Thread(target=self._requests, args=(client, server, deaf), daemon=True).start()
        threading.Thread(target=self._answers, args=(server, client, deaf), daemon=True).start()

    def _next_fault(self) -> str:
        with self._lock:
            self.messages += 1
            return self._fault if self.messages == self._at else ""

    def _requests(self, client: socket.socket, server: socket.socket, deaf: threading.Event) -> None:
        with _closing(client, server), contextlib.suppress(OSError):
            while data := client.recv(65536):
                fault = self._next_fault()
                if fault == "cut":
                    return
                if fault == "lost answer":
                    deaf.set()
                if fault == "late":
                    self.held.set()
                    self._released.wait(60)
                server.sendall(data)

    def _answers(self, server: socket.socket, client: socket.socket, deaf: threading.Event) -> None:
        with _closing(client, server), contextlib.suppress(OSError):
            while (data := server.recv(65536)) and not deaf.is_set():
                client.sendall(data)


@contextlib.contextmanager
def _closing(*ends: socket.socket) -> Iterator[None]:
    try:
        yield
    finally:
        for end in ends:
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
