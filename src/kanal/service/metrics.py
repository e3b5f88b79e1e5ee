"""The state of jobs as metrics, for whatever gathers such (https://prometheus.io/docs/specs/om/open_metrics_spec)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from prometheus_client import CollectorRegistry
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, InfoMetricFamily
from prometheus_client.openmetrics import exposition

from kanal.runlog import clock
from kanal.version import VERSION

if TYPE_CHECKING:
    from prometheus_client import Metric

    from kanal.service.service import Service


class _Collector:
    """Asks the run logs again each time, so that nothing is counted twice or lost when the service ends."""

    def __init__(self, service: Service) -> None:
        self._service = service

    def collect(self) -> Iterator[Metric]:
        """The metrics."""
        labels = ("job",)
        runs = CounterMetricFamily("kanal_runs", "Runs that have ended, by status.", labels=(*labels, "status"))
        rows = CounterMetricFamily("kanal_rows", "Rows of all runs kept, by fate.", labels=(*labels, "fate"))
        took = GaugeMetricFamily("kanal_last_run_seconds", "Duration of the last run.", labels=labels, unit="seconds")
        age = GaugeMetricFamily(
            "kanal_last_success_age_seconds", "Seconds since a run last succeeded.", labels=labels, unit="seconds"
        )
        running = GaugeMetricFamily("kanal_running", "Runs that are under way.", labels=labels)
        broken = GaugeMetricFamily("kanal_job_broken", "1 where the job file is broken.", labels=labels)
        for log in self._service.logs():
            names = [served.name for served in self._service.served.values() if served.log is log]
            for job, status, count in log.past.counted_runs(names):
                runs.add_metric((job, status), count)
            for job, fates in log.past.counted_rows(names).items():
                for fate, count in fates.items():
                    rows.add_metric((job, fate), count)
            for job, found in log.past.glance(names, 1).items():
                for run in found:
                    took.add_metric((job,), run.seconds)
        for served in self._service.served.values():
            success = served.log.past.last_success(served.name)
            if success is not None:
                age.add_metric((served.name,), max(0.0, (clock.now() - success).total_seconds()))
            running.add_metric((served.name,), float(served.child is not None))
            broken.add_metric((served.name,), float(served.broken is not None))
        yield InfoMetricFamily("kanal", "The service.", {"version": VERSION})
        yield from (runs, rows, took, age, running, broken)


def metrics_text(service: Service) -> tuple[bytes, str]:
    """All metrics as text, and the type of that text."""
    registry = CollectorRegistry()
    registry.register(_Collector(service))
    made: Any = exposition
    return made.generate_latest(registry), made.CONTENT_TYPE_LATEST
