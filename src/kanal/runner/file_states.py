"""Which files of a job were loaded, and which are new."""

from __future__ import annotations

from msgspec import Struct

from kanal.connections import TableInfo
from kanal.connections.base import as_file_source, as_target
from kanal.connections.roles import Reads
from kanal.core.errors import KanalError
from kanal.core.nearest import did_you_mean
from kanal.definition import JobDefinition, Pipeline
from kanal.runner.run_options import planned


class FileState(Struct, frozen=True):
    """A file of a step that loads each once: what is remembered of it (`kanal.connections.journal.LoadedFile`), and how
    it stands: `state` is "loaded", "changed" since then, "moved" or "deleted" after it, "gone", or "new"."""

    step: str
    name: str
    state: str
    size: int
    modified: str
    loaded: str | None = None
    run: int | None = None
    rows: int | None = None
    rejected: int | None = None
    pending: str | None = None


def loads_each_once(job: JobDefinition, name: str) -> bool:
    """True if a pipeline remembers which files it has loaded."""
    return job.effective(name).loads_each_once


def files_of(job: JobDefinition) -> list[FileState]:
    """The files of a job's steps that load each once, those that are new among them; raises JobError."""
    states = []
    with planned(job) as plan:
        for name in job.pipeline:
            step = next((step for step in plan.steps if step.name == name), None)
            settings = job.effective(name)
            if step is None or not loads_each_once(job, name):
                continue
            source = plan.connections[settings.source.connection]
            if Reads.FILES not in source.reads:
                continue
            there = {file.name: file for file in as_file_source(source).files_of(_files_table(settings.source.pattern))}
            target = as_target(plan.connections[settings.target.connection])
            for file in target.journal.loaded_files(job.job, name):
                now = there.pop(file.name, None)
                same = now is not None and now.same_as(file)
                state = _where_it_went(settings) if now is None else "loaded" if same else "changed"
                states.append(FileState(name, file.name, state, file.size, file.modified, file.loaded, file.run,
                                        file.rows, file.rejected, file.pending))  # fmt: skip
            states += [FileState(name, new.name, "new", new.size, new.modified_text) for new in there.values()]
    return states


def _files_table(pattern: str) -> TableInfo:
    return TableInfo(None, pattern, ())


def _where_it_went(settings: Pipeline) -> str:
    """What has become of a loaded file that is not there any more."""
    if settings.when_loaded is None:
        return "gone"
    return "deleted" if settings.when_loaded.delete else "moved"


def forget_file(job: JobDefinition, step: str, name: str) -> None:
    """Forget that a step has loaded a file, so that its next run loads it again; raises KanalError."""
    known = [state for state in files_of(job) if state.step == step and state.state != "new"]
    if name not in [state.name for state in known]:
        hint = did_you_mean(name, [state.name for state in known])
        raise KanalError(f"{step} has not loaded a file {name}", hint or "see kanal files JOB for those that it has")
    with planned(job) as plan:
        target = as_target(plan.connections[job.effective(step).target.connection])
        with target.load() as load:
            target.journal.forget_files(load, job.job, step, [name])
            load.commit()
