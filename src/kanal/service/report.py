"""One page about a run, and how its job has gone so far, that needs no server: small enough to be mailed."""

from __future__ import annotations

from pathlib import Path

from kanal.core.errors import KanalError
from kanal.runlog import RunLogStore, RunRecord
from kanal.service import views
from kanal.service.service import utc_now
from kanal.service.web import PAGES, environment


def write_report(log: RunLogStore, record: RunRecord, path: Path) -> int:
    """Write the page of a run, with the runs of its job until then; its size in bytes. Raises KanalError."""
    glances = [run for run in log.past.glance([record.job], views.TRENDS)[record.job] if run.run <= record.run]
    text = (
        environment()
        .get_template("report.html")
        .render(
            run=views.run_view(log, record),
            trends=views.trends_of(glances),
            runs=glances[::-1],
            css=(PAGES / "page.css").read_text(encoding="utf-8"),
            now=utc_now(),
            ago=views.ago,
        )
    )
    try:
        return path.write_bytes(text.encode("utf-8"))
    except OSError as error:
        raise KanalError(f"{path} cannot be written: {error.strerror}", "name another file for --into") from None
