"""Draws the steps of a job, and what waits for what and why."""

from __future__ import annotations

import textwrap
from pathlib import Path

from kanal.core.errors import KanalError, counted
from kanal.explore.layout import needed, places_of
from kanal.runner.job_plan import JobPlan, PipelinePlan, StepPlan

#: Of these reasons for waiting, lines are drawn so; the first that a reason has in it counts.
_LINES = [
    ("foreign key", "#8a5a00", "refers to it by a foreign key"),
    ("looks up", "#1f6f50", "looks it up, or checks against it"),
    ("checks against", "#1f6f50", "looks it up, or checks against it"),
    ("reads", "#23589e", "reads it"),
    ("writes", "#8c2f4b", "writes the same table"),
    ("committed together", "#8c2f4b", "writes the same table"),
    ("after", "#555555", "says so in after"),
]
_OPEN = ("#b0303a", "fills in what refers to it")
_WIDE, _HIGH = 3.1, 0.62
_ACROSS, _DOWN = 4.6, 0.86


def draw_order(plan: JobPlan, path: Path) -> None:
    """Draw a plan's steps to an .svg or .png file; raises KanalError if that cannot be done."""
    if path.suffix.lower() not in (".svg", ".png"):
        raise KanalError(f"{path} is neither an .svg nor a .png file", "name one of the two")
    try:
        import matplotlib
    except ImportError:
        raise KanalError("the package matplotlib is not installed, which draws", "install kanal[pictures]") from None
    matplotlib.use("Agg")
    matplotlib.rcParams["svg.fonttype"] = "none"
    from matplotlib.figure import Figure

    steps = {step.name: step for step in plan.steps}
    known = [wait for wait in plan.waits if wait.step in steps and wait.before in steps]
    kept = needed([(wait.step, wait.before) for wait in known])
    waits = [wait for wait in known if (wait.step, wait.before) in kept]
    places = places_of(list(steps), kept)
    columns = max(column for column, _ in places.values()) + 1
    rows = max(row for _, row in places.values()) + 1
    figure = Figure(figsize=(0.6 + _ACROSS * columns * 0.72, 1.1 + _DOWN * rows * 0.78), layout="constrained")
    axes = figure.subplots()
    axes.set_axis_off()
    axes.set_title(
        f"{plan.job.job}: {counted(len(steps), 'step')}, from left to right",
        loc="left",
        fontsize=11,
        fontweight="bold",
        parse_math=False,
    )
    used = []
    for wait in waits:
        (from_column, from_row), (column, row) = places[wait.before], places[wait.step]
        colour, meaning = next((c, m) for word, c, m in _LINES if word in wait.why)
        used.append((colour, meaning))
        start = (from_column * _ACROSS + _WIDE, -from_row * _DOWN)
        end = (column * _ACROSS, -row * _DOWN)
        bend = f"arc3,rad={0.12 * (-1 if row >= from_row else 1)}" if column - from_column > 1 else "arc3,rad=0"
        arrow = {"arrowstyle": "-|>", "color": colour, "linewidth": 1.1, "shrinkA": 0, "shrinkB": 0,
                 "connectionstyle": bend, "alpha": 0.85}  # fmt: skip
        axes.annotate("", xy=end, xytext=start, arrowprops=arrow, zorder=0)
    for wait in (wait for wait in plan.given_up if wait.step in steps and wait.before in steps):
        (from_column, from_row), (column, row) = places[wait.before], places[wait.step]
        used.append(_OPEN)
        arrow = {"arrowstyle": "-|>", "color": _OPEN[0], "linewidth": 1.1, "linestyle": (0, (4, 3)), "shrinkA": 0,
                 "shrinkB": 0, "connectionstyle": "arc3,rad=-0.25"}  # fmt: skip
        start = (from_column * _ACROSS + _WIDE / 2, -from_row * _DOWN - _HIGH / 2)
        end = (column * _ACROSS + _WIDE / 2, -row * _DOWN - _HIGH / 2)
        axes.annotate("", xy=end, xytext=start, arrowprops=arrow, zorder=2)
    for name, (column, row) in places.items():
        _draw_step(axes, steps[name], column * _ACROSS, -row * _DOWN)
    for place, (colour, meaning) in enumerate(dict.fromkeys(used)):
        style = "--" if (colour, meaning) == _OPEN else "-"
        axes.plot([], [], color=colour, linewidth=1.6, linestyle=style, label=meaning, zorder=place)
    if used:
        axes.legend(loc="upper left", bbox_to_anchor=(0, 0), ncols=3, frameon=False, fontsize=8, title="a step waits "
                    "for another because it …", title_fontsize=8, alignment="left")  # fmt: skip
    axes.set_xlim(-0.2, (columns - 1) * _ACROSS + _WIDE + 0.2)
    axes.set_ylim(-(rows - 1) * _DOWN - (1.0 if plan.given_up else 0.5), 0.5)
    try:
        figure.savefig(path, dpi=110)
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file") from None


def _draw_step(axes: object, step: StepPlan, left: float, middle: float) -> None:
    from matplotlib.patches import FancyBboxPatch

    pipeline = isinstance(step, PipelinePlan)
    face, edge = ("#eef3f8", "#5b7897") if pipeline else ("#f6f0e2", "#9a8250")
    shape = FancyBboxPatch((left, middle - _HIGH / 2), _WIDE, _HIGH, boxstyle="round,pad=0,rounding_size=0.08",
                           facecolor=face, edgecolor=edge, linewidth=1)  # fmt: skip
    axes.add_patch(shape)  # type: ignore[attr-defined]
    said = f"{step.settings.write} → {step.settings.target.label}" if isinstance(step, PipelinePlan) else (
        f"SQL on {step.database.name}")  # fmt: skip
    text = axes.text  # type: ignore[attr-defined]
    text(left + 0.1, middle + 0.12, textwrap.shorten(step.name, 34, placeholder="…"), fontsize=8.5, fontweight="bold",
         va="center", parse_math=False)  # fmt: skip
    text(
        left + 0.1,
        middle - 0.14,
        textwrap.shorten(said, 42, placeholder="…"),
        fontsize=7,
        color="#444444",
        va="center",
        parse_math=False,
    )
