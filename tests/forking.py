"""Starts processes that are forked from one which has imported Kanal already, so that each starts at once.

A `Forked` is a `subprocess.Popen` whose command begins with this Python: its pipes, signals and statuses are those of a
process of its own. What depends on how the interpreter starts needs a real one.
"""

from __future__ import annotations

import atexit
import contextlib
import json
import os
import random
import runpy
import selectors
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

#: What the commands of tests import, with the drivers of the databases that most of them use.
MODULES = (
    "kanal", "kanal.cli.entry", "kanal.cli.run", "kanal.cli.resume", "kanal.cli.replay", "kanal.cli.rejects", "kanal.job",
    "kanal.runner.run", "kanal.runner.execution", "kanal.runner.step", "kanal.runner.planning.job_planner",
    "kanal.connections.sql.sqlite", "kanal.connections.sql.postgresql", "kanal.connections.sql.mariadb",
    "kanal.connections.sql.sqlite_load", "kanal.connections.sql.postgresql_load", "kanal.connections.sql.mariadb_load",
    "kanal.connections.files.folder", "kanal.runlog.store", "sqlglot", "psycopg", "pymysql", "tomlkit", "rich.console",
    "adbc_driver_sqlite.dbapi", "tenacity", "concurrent.futures.thread", "kanal.explore.compare",
)  # fmt: skip


class Forked(subprocess.Popen[Any]):
    """A process that runs `python -m MODULE …`, `python -c CODE …` or `python FILE …`, forked from a prepared one."""

    _connection: socket.socket
    _status: int | None = None

    def _execute_child(self, *given: Any) -> None:
        arguments, cwd, env = given[0], given[5], given[6]
        ends = (given[10], given[13], given[15])
        assert arguments[0] == sys.executable
        request = {"arguments": arguments[1:], "cwd": str(cwd or Path.cwd()), "env": dict(env or os.environ)}
        request["session"] = given[-2]
        fds = [end if end >= 0 else own for own, end in enumerate(ends)]
        self._connection = socket.socket(socket.AF_UNIX)
        self._connection.connect(_prepared())
        socket.send_fds(self._connection, [b"."], fds)
        self._connection.sendall(json.dumps(request).encode() + b"\n")
        self.pid = int(self._line())
        self._child_created = True
        for end in {end for end in ends if end >= 0}:
            os.close(end)

    def _line(self) -> bytes:
        found = b""
        while not found.endswith(b"\n") and (byte := self._connection.recv(1)):
            found += byte
        return found

    def _try_wait(self, wait_flags: int) -> tuple[int, int]:
        if self._status is None:
            self._connection.settimeout(None if wait_flags == 0 else 0)
            with contextlib.suppress(BlockingIOError):
                self._status = int(self._line() or -signal.SIGKILL)
                self._connection.close()
        return (0, 0) if self._status is None else (self.pid, self._status)

    def _handle_exitstatus(self, status: int, *more: Any) -> None:
        del more
        self.returncode = os.waitstatus_to_exitcode(status)

    def _internal_poll(self, *more: Any, **named: Any) -> int | None:
        del more, named
        if self.returncode is None:
            pid, status = self._try_wait(os.WNOHANG)
            if pid:
                self._handle_exitstatus(status)
        return self.returncode


def run(arguments: Sequence[str], timeout: float | None = None, **more: Any) -> subprocess.CompletedProcess[Any]:
    """As subprocess.run, with `capture_output`: the process is killed if it takes too long."""
    if more.pop("capture_output", False):
        more |= {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    with Forked(list(arguments), **more) as process:
        try:
            out, err = process.communicate(timeout=timeout)
        except BaseException:
            process.kill()
            raise
    return subprocess.CompletedProcess(arguments, process.returncode, out, err)


_server: list[str] = []


def _prepared() -> str:
    """The socket of the prepared process, which is started when it is first needed."""
    if not _server:
        folder = tempfile.mkdtemp(prefix="kanal-fork-")
        place = f"{folder}/socket"
        process = subprocess.Popen([sys.executable, __file__, place], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        assert process.stdout is not None
        process.stdout.readline()
        _server.append(place)
        atexit.register(lambda: (process.kill(), shutil.rmtree(folder, ignore_errors=True)))
    return _server[0]


# --- the prepared process -------------------------------------------------------------------------------------------


def serve(place: str) -> dict[str, Any]:
    """Fork a process for each request. Returns in each of these, with what it is to do."""
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(place)
    listener.listen(100)
    ended, woken = socket.socketpair()
    woken.setblocking(False)
    signal.set_wakeup_fd(woken.fileno())
    signal.signal(signal.SIGCHLD, lambda *_: None)
    running: dict[int, socket.socket] = {}
    print("ready", flush=True)
    with selectors.DefaultSelector() as chosen:
        for one in (listener, ended, sys.stdin):
            chosen.register(one, selectors.EVENT_READ)
        while True:
            for key, _ in chosen.select():
                if key.fileobj is sys.stdin:  # whoever started it has ended
                    os._exit(0)
                if key.fileobj is ended:
                    ended.recv(4096)
                    _reap(running)
                    continue
                connection, _ = listener.accept()
                _, fds, _, _ = socket.recv_fds(connection, 1, 3)
                request = json.loads(connection.makefile("rb").readline())
                pid = os.fork()
                if pid == 0:
                    signal.set_wakeup_fd(-1)
                    for one in (listener, ended, woken, connection, *running.values()):
                        one.close()
                    for own, given in enumerate(fds):
                        os.dup2(given, own)
                    _close_all(fds)
                    return dict(request)
                _close_all(fds)
                running[pid] = connection
                connection.sendall(b"%d\n" % pid)


def _close_all(fds: list[int]) -> None:
    for one in fds:
        os.close(one)


def _reap(running: dict[int, socket.socket]) -> None:
    while running:
        try:
            pid, status = os.waitpid(-1, os.WNOHANG)
        except ChildProcessError:
            return
        if pid == 0:
            return
        with contextlib.suppress(OSError), running.pop(pid) as connection:
            connection.sendall(b"%d\n" % status)


def become(request: dict[str, Any]) -> None:
    """Be the process that was asked for."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    if request["session"]:
        os.setsid()
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stdout = sys.__stdout__ = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    sys.stderr = sys.__stderr__ = open(2, "w", 1, encoding="utf-8", errors="backslashreplace", closefd=False)  # noqa: SIM115
    random.seed()
    first, *more = request["arguments"]
    sys.path[0] = "" if first in ("-m", "-c") else str(Path(first).parent)
    if first == "-m":
        sys.argv = more
        runpy.run_module(more[0], run_name="__main__", alter_sys=True)
    elif first == "-c":
        sys.argv = ["-c", *more[1:]]
        exec(compile(more[0], "<string>", "exec"), {"__name__": "__main__"})
    else:
        sys.argv = [first, *more]
        runpy.run_path(first, run_name="__main__")


if __name__ == "__main__":
    for name in MODULES:
        with contextlib.suppress(ImportError):
            __import__(name)
    become(serve(sys.argv[1]))
