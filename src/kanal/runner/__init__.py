"""Plans and runs jobs: orders their steps, moves the rows and keeps the log.

The names are imported when first used, so that a command imports only what it needs.
"""

from typing import TYPE_CHECKING

from kanal.lazy import names_of

if TYPE_CHECKING:
    from kanal.runner.job_plan import JobPlan as JobPlan
    from kanal.runner.planning.job_planner import plan_job as plan_job
    from kanal.runner.results import Run as Run
    from kanal.runner.results import StepResult as StepResult
    from kanal.runner.run import WatermarkState as WatermarkState
    from kanal.runner.run import check_job as check_job
    from kanal.runner.run import replay_run as replay_run
    from kanal.runner.run import resume_run as resume_run
    from kanal.runner.run import run_job as run_job
    from kanal.runner.run import run_log_of as run_log_of
    from kanal.runner.run import set_watermark as set_watermark
    from kanal.runner.run import watermarks_of as watermarks_of
    from kanal.runner.watcher import Watcher as Watcher

_HOMES = {
    "JobPlan": "kanal.runner.job_plan",
    "Run": "kanal.runner.results",
    "StepResult": "kanal.runner.results",
    "Watcher": "kanal.runner.watcher",
    "WatermarkState": "kanal.runner.run",
    "check_job": "kanal.runner.run",
    "plan_job": "kanal.runner.planning.job_planner",
    "replay_run": "kanal.runner.run",
    "resume_run": "kanal.runner.run",
    "run_job": "kanal.runner.run",
    "run_log_of": "kanal.runner.run",
    "set_watermark": "kanal.runner.run",
    "watermarks_of": "kanal.runner.run",
}

__all__ = list(_HOMES)

__getattr__ = names_of(__name__, _HOMES)
