"""Several hosts on one machine, in network namespaces of their own: a cluster whose links can be cut."""

from __future__ import annotations

import contextlib
import itertools
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import IO

import sqlalchemy as sa

#: Of Kanal and of distributed: whoever is silent for so long is taken for lost.
ENVIRONMENT = {
    "KANAL_LEASE": "10",
    "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12s",
    "DASK_DISTRIBUTED__COMM__TIMEOUTS__CONNECT": "4s",
    "DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL": "10s",
    "PYTHONWARNINGS": "ignore",
}
PORT = 8786
_networks = itertools.count(os.getpid() % 200)


def can_make_hosts() -> bool:
    """True where this process may make network namespaces."""
    return os.geteuid() == 0 and all(shutil.which(name) for name in ("ip", "iptables"))


def _ip(*arguments: str, check: bool = True) -> None:
    subprocess.run(["ip", *arguments], check=check, capture_output=True)


class Network:
    """Hosts on one bridge, behind which the databases of this machine are; `cut` parts two of them."""

    def __init__(self, folder: Path, *names: str) -> None:
        self.folder = folder
        number = self._free_number()
        self._bridge, self._tag = f"kb{number}", f"k{number}"
        self.gate = f"10.{90 + number // 200}.{number % 200}.1"
        self.addresses = {"database": self.gate}
        self._processes: dict[str, subprocess.Popen[str]] = {}
        self._gates: list[Gate] = []
        self._closing = False
        _ip("addr", "add", f"{self.gate}/24", "dev", self._bridge)
        _ip("link", "set", self._bridge, "up")
        for place, name in enumerate(names, 2):
            space, outer, inner = f"{self._tag}{name}", f"{self._tag}v{place}", f"{self._tag}w{place}"
            address = self.gate.rpartition(".")[0] + f".{place}"
            _ip("netns", "add", space)
            _ip("link", "add", outer, "type", "veth", "peer", "name", inner)
            _ip("link", "set", inner, "netns", space)
            _ip("link", "set", outer, "master", self._bridge, "up")
            _ip("-n", space, "addr", "add", f"{address}/24", "dev", inner)
            _ip("-n", space, "link", "set", inner, "up")
            _ip("-n", space, "link", "set", "lo", "up")
            self.addresses[name] = address

    @staticmethod
    def _free_number() -> int:
        """A number that no other network has, whose bridge is made."""
        for number in itertools.islice(_networks, 400):
            made = subprocess.run(
                ["ip", "link", "add", f"kb{number}", "type", "bridge"], check=False, capture_output=True
            )
            if made.returncode == 0:
                return number
        raise OSError("no bridge can be made")

    # --- what runs on the hosts ------------------------------------------------------------------------------------

    def start(self, host: str, *command: str, **environment: str) -> subprocess.Popen[str]:
        """A process on a host."""
        output = (self.folder / f"{host}.log").open("a")
        return subprocess.Popen(
            ["ip", "netns", "exec", self._tag + host, *command], cwd=self.folder, text=True, stdout=output, stderr=output,
            env={**os.environ, **ENVIRONMENT, **environment}, start_new_session=True,
        )  # fmt: skip

    def keep(self, host: str, *command: str, **environment: str) -> None:
        """A process on a host, started again whenever it ends, as a service manager would."""

        def look() -> None:
            while not self._closing:
                self._processes[host].wait()
                time.sleep(0.3)
                if not self._closing:
                    self._processes[host] = self.start(host, *command, **environment)

        self._processes[host] = self.start(host, *command, **environment)
        threading.Thread(target=look, daemon=True).start()

    def scheduler(self, host: str) -> str:
        """A scheduler; its address."""
        address = self.addresses[host]
        self.keep(
            host, sys.executable, "-m", "dask", "scheduler", "--host", address, "--port", str(PORT), "--no-dashboard"
        )
        for _ in range(100):
            if "Scheduler at" in (self.folder / f"{host}.log").read_text():
                break
            time.sleep(0.1)
        return f"tcp://{address}:{PORT}"

    def worker(self, host: str, scheduler: str, tag: str | None = None, **environment: str) -> None:
        """A worker of one thread, with a tag if one is given."""
        more = ["--resources", f"{tag}=1"] if tag else []
        self.keep(host, sys.executable, "-m", "dask", "worker", scheduler, "--host", self.addresses[host], "--name", host,
                  "--nthreads", "1", "--no-nanny", "--no-dashboard", "--death-timeout", "10", *more, **environment)  # fmt: skip

    def signal(self, host: str, number: int) -> None:
        """Send a signal to what runs on a host."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._processes[host].pid, number)

    def database(self, url: str, rate: float | None = None) -> str:
        """A URL of this machine's, as the hosts reach it, at so many bytes a second each connection if that is given."""
        parsed = sa.make_url(url)
        port = (
            parsed.port or {"postgresql": 5432, "mariadb": 3306}[parsed.get_backend_name().replace("mysql", "mariadb")]
        )
        known = next((gate for gate in self._gates if (gate.port, gate.rate) == (port, rate)), None)
        if known is None:
            known = Gate(self.gate, port, rate)
            self._gates.append(known)
        return parsed.set(host=self.gate, port=known.own_port).render_as_string(hide_password=False)

    # --- links -----------------------------------------------------------------------------------------------------

    def cut(self, one: str, other: str) -> None:
        """Let nothing pass between two hosts any more."""
        host, far = (one, other) if one != "database" else (other, one)
        for chain, option in (("INPUT", "-s"), ("OUTPUT", "-d")):
            subprocess.run(["ip", "netns", "exec", self._tag + host, "iptables", "-A", chain, option, self.addresses[far],
                            "-j", "DROP"], check=True, capture_output=True)  # fmt: skip

    def close_inwards(self, host: str) -> None:
        """Let nobody connect to a host, which may connect to others."""
        subprocess.run(["ip", "netns", "exec", self._tag + host, "iptables", "-A", "INPUT", "-p", "tcp", "--syn", "-j",
                        "DROP"], check=True, capture_output=True)  # fmt: skip

    def heal(self) -> None:
        """Let everything pass."""
        for host in self.addresses:
            if host != "database":
                subprocess.run(
                    ["ip", "netns", "exec", self._tag + host, "iptables", "-F"], check=True, capture_output=True
                )

    def close(self) -> None:
        """Take all of it away."""
        self._closing = True
        for host, process in self._processes.items():
            self.signal(host, signal.SIGCONT)
            self.signal(host, signal.SIGKILL)
            process.wait(20)
        for gate in self._gates:
            gate.close()
        for host in self.addresses:
            if host != "database":
                _ip("netns", "del", self._tag + host, check=False)
        _ip("link", "del", self._bridge, check=False)


class Gate:
    """Passes connections on to a port of this machine, at a rate of so many bytes a second each if one is given; keeps
    what it passes on in `heard`, if that is wanted."""

    def __init__(
        self, host: str, port: int, rate: float | None = None, heard: IO[bytes] | None = None, to: str = "127.0.0.1"
    ) -> None:
        self.port, self.rate, self._heard, self._to = port, rate, heard, to
        self._listener = socket.create_server((host, 0), backlog=200)
        self.own_port = int(self._listener.getsockname()[1])
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._listener.accept()
            except OSError:
                return
            try:
                server = socket.create_connection((self._to, self.port), timeout=10)
            except OSError:
                client.close()
                continue
            server.settimeout(None)
            for one, other in ((client, server), (server, client)):
                threading.Thread(target=self._pass_on, args=(one, other), daemon=True).start()

    def _pass_on(self, one: socket.socket, other: socket.socket) -> None:
        free = time.monotonic()
        with contextlib.suppress(OSError):
            while data := one.recv(65536 if self.rate is None else 16384):
                if self._heard is not None:
                    self._heard.write(data)
                if self.rate is not None:
                    free = max(free, time.monotonic() - 0.05) + len(data) / self.rate
                    time.sleep(max(0.0, free - time.monotonic()))
                other.sendall(data)
        for end in (one, other):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()

    def close(self) -> None:
        """Take no more connections."""
        self._listener.close()
