"""Serves a job in a time of its own, which a file keeps: from one due moment to the next, as quickly as runs go."""

from __future__ import annotations

import datetime as dt
import sys
import threading
import time
from pathlib import Path

from kanal.service.service import Service, utc_now


def wait_for_runs() -> None:
    """Wait until no run of a service is in progress here."""
    for thread in threading.enumerate():
        if thread.name == "service-child":
            thread.join()


def main(path: Path, state: Path, end: dt.datetime) -> None:
    def ahead() -> dt.timedelta:
        return dt.datetime.fromisoformat(state.read_text()) - dt.datetime.now(dt.UTC)

    service = Service([path], ahead=ahead())
    served = next(iter(service.served.values()))
    while True:
        service.look_all()
        wait_for_runs()
        if served.log.past.is_running(served.name):
            time.sleep(0.05)  # a run that a killed service has left
            continue
        decision = service.decision(served)
        if decision.acts:
            continue
        moment = min(decision.again or end, end)
        if moment >= end:
            return
        fresh = state.with_suffix(".new")
        fresh.write_text((max(moment, utc_now()) + dt.timedelta(seconds=1)).isoformat())
        fresh.replace(state)
        service.set_ahead(ahead())


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), dt.datetime.fromisoformat(sys.argv[3]))
