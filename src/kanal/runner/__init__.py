"""Runs jobs: plans them, puts their steps in order, moves the rows, keeps the log."""

from kanal.runner.job_plan import JobPlan
from kanal.runner.planning.job_planner import plan_job
from kanal.runner.results import Run, StepResult, run_document, step_document
from kanal.runner.run import (
    WatermarkState,
    check_job,
    replay_run,
    resume_run,
    run_job,
    run_log_of,
    set_watermark,
    watermarks_of,
)
from kanal.runner.watcher import Watcher

__all__ = [
    "JobPlan",
    "Run",
    "StepResult",
    "Watcher",
    "WatermarkState",
    "check_job",
    "plan_job",
    "replay_run",
    "resume_run",
    "run_document",
    "run_job",
    "run_log_of",
    "set_watermark",
    "step_document",
    "watermarks_of",
]
