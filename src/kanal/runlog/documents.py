"""Runs and steps as the --json documents have them: those of the run log, and those that have just ended."""

from __future__ import annotations

from typing import Any

from msgspec.structs import asdict

from kanal.runlog.records import RunRecord


def step_document(step: Any) -> dict[str, Any]:
    """A step as the --json documents have it."""
    tally = step.tally
    return {
        "step": step.step,
        "kind": step.kind,
        "status": str(step.status),
        **asdict(tally),
        "written": tally.written,
        "batches": step.batches,
        "seconds": round(step.seconds, 3),
        "error": step.error,
    }


def run_document(run: Any) -> dict[str, Any]:
    """A run as the --json documents have it; with an `error` if none of its steps could begin."""
    error = getattr(run, "error", None)
    return (
        {
            "run": run.run,
            "job": run.name if isinstance(run, RunRecord) else run.job,
            "environment": run.environment,
            "status": str(run.status),
            "started": run.started.replace(tzinfo=None).isoformat(timespec="seconds") + "Z",
            "seconds": round(run.seconds, 3),
            "steps": [step_document(step) for step in run.steps],
        }
        | _started(run)
        | ({"error": error} if error else {})
    )


def _started(run: Any) -> dict[str, Any]:
    """By whom and where a run was started, as the run log has it."""
    if not isinstance(run, RunRecord):
        return {}
    due = run.due.isoformat(timespec="seconds") + "Z" if run.due is not None else None
    return {"started_by": run.started_by, "host": run.host, "due": due, "resumes": run.resumes}
