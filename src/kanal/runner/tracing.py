"""Tells OpenTelemetry of runs and steps, as spans, in a program that uses it (opentelemetry.io/docs/specs/otel)."""

from __future__ import annotations

import os
import sys
from typing import Any

from msgspec.structs import asdict

from kanal.core.tally import Tally
from kanal.runner.results import StepResult, StepStatus


def spans_of(job: str, environment: str | None) -> Spans | None:
    """What makes spans of a run; None if the program, or its environment, does not speak of OpenTelemetry."""
    if "opentelemetry" not in sys.modules and not any(name.startswith("OTEL_") for name in os.environ):
        return None
    try:
        from opentelemetry import trace
    except ImportError:
        return None
    return Spans(trace, job, environment)


class Spans:
    """A span for a run, and below it one for each step, with its counts."""

    def __init__(self, trace: Any, job: str, environment: str | None) -> None:
        self._trace = trace
        self._tracer = trace.get_tracer("kanal")
        self._about = {"kanal.job": job} | ({"kanal.environment": environment} if environment else {})
        self._run: Any = None
        self._within: Any = None
        self._steps: dict[str, Any] = {}

    def run_begins(self, run: int, steps: list[tuple[str, str]]) -> None:
        """A run begins."""
        about = self._about | {"kanal.run": run, "kanal.steps": len(steps)}
        self._run = self._tracer.start_span("kanal run", attributes=about)
        self._within = self._trace.set_span_in_context(self._run)

    def step_begins(self, step: str) -> None:
        """A step begins, or is tried again."""
        about = self._about | {"kanal.step": step}
        self._steps[step] = self._tracer.start_span(f"kanal step {step}", context=self._within, attributes=about)

    def batch_ends(self, step: str, tally: Tally) -> None:
        """A batch of a step is done."""
        if step in self._steps:
            self._steps[step].add_event("batch", {"kanal.read": tally.read, "kanal.written": tally.written})

    def step_ends(self, result: StepResult) -> None:
        """A step has ended; one that never began has no span."""
        span = self._steps.pop(result.step, None)
        if span is None:
            return
        span.set_attributes({f"kanal.{name}": count for name, count in asdict(result.tally).items()})
        span.set_attribute("kanal.status", str(result.status))
        if result.status is not StepStatus.SUCCEEDED:
            span.set_status(self._trace.StatusCode.ERROR, result.error or str(result.status))
        span.end()

    def run_ends(self, status: str) -> None:
        """The run has ended, and all spans with it."""
        for span in [*self._steps.values()]:
            span.end()
        if self._run is not None:
            self._run.set_attribute("kanal.status", status)
            if status != "succeeded":
                self._run.set_status(self._trace.StatusCode.ERROR, status)
            self._run.end()
