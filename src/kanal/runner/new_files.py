"""For pipelines that load each file once: finds new files, remembers them, and moves or deletes loaded ones."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Sequence
from pathlib import PurePosixPath
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from kanal.connections.base import FileSource, as_file_source
from kanal.connections.files.stores import FoundFile
from kanal.connections.journal import LoadedFile, moment_text
from kanal.connections.loading import Load
from kanal.core.errors import KanalError, counted
from kanal.core.frame import SourceBatch
from kanal.core.rejects import Reject
from kanal.runner.job_plan import PipelinePlan


class NewFiles(Struct):
    """The files that a step reads, in order, and the numbers of their rows and rejects."""

    plan: PipelinePlan
    source: FileSource
    job: str
    run: int
    moment: dt.datetime
    #: The new files, by name, as they will be remembered; and files that are known by another name or time.
    new: dict[str, LoadedFile] = field(default_factory=dict)
    known_again: list[LoadedFile] = field(default_factory=list)
    chosen: Sequence[FoundFile] = ()
    table: Any = None
    notes: list[str] = field(default_factory=list)
    #: By file, rows read and rejected; and files none of whose rows is loaded.
    _rows: Counter[str] = field(default_factory=Counter)
    _rejected: Counter[str | None] = field(default_factory=Counter)
    _refused: set[str] = field(default_factory=set)
    _left_out: int = 0

    @classmethod
    def of(cls, plan: PipelinePlan, job: str, run: int, moment: dt.datetime) -> NewFiles:
        """What is new now; raises KanalError."""
        plan.target.journal.make_files_ready()
        made = cls(plan, as_file_source(plan.source), job, run, moment)
        made._choose(plan.target.journal.loaded_files(job, plan.name))
        return made

    def _choose(self, loaded: Sequence[LoadedFile]) -> None:
        """Find the new files by name, size and time, or by their content."""
        table = self.plan.reading.table
        found = self.source.files_of(table)
        once = self.plan.settings.files_once and not self.plan.all_files
        by_name = {file.name: file for file in loaded if once or file.pending}
        by_content: dict[tuple[int, str], LoadedFile] = {}
        if self.plan.settings.files_once != "name":
            by_content = {(file.size, file.checksum): file for file in by_name.values()}
        chosen = []
        least = self.plan.settings.min_age
        for file in found:
            known = by_name.get(file.name)
            age = (dt.datetime.now(dt.UTC) - file.modified).total_seconds()
            if least is not None and age < least:
                self.notes.append(f"{file.name} is left for the next run: it was modified {max(age, 0):.0f} s ago")
                continue
            if known is not None and file.same_as(known):
                self._leave_out(known, file.name, file.modified_text)
                continue
            checksum = file.checksum()
            same = by_content.get((file.size, checksum))
            if same is not None:
                self._leave_out(same, file.name, file.modified_text)
                continue
            if known is not None:
                self.notes.append(f"{file.name} is loaded again: it has changed since run {known.run}")
            made = LoadedFile(
                file.name, file.size, file.modified_text, checksum, self.run, moment_text(self.moment), 0, 0,
                self._what_follows(file.name),
            )  # fmt: skip
            self.new[file.name] = made
            if once and self.plan.settings.files_once != "name":
                by_content[file.size, checksum] = made
            chosen.append(file)
        if self._left_out:
            self.notes.insert(0, f"{counted(self._left_out, 'file')} left out, loaded before")
        self.chosen = chosen
        self.table = self.source.with_files(table, chosen)

    def _leave_out(self, known: LoadedFile, name: str, modified: str) -> None:
        """Leave out a file that was loaded before, under this name or another; it is moved or deleted like that one."""
        self._left_out += 1
        pending = self._what_follows(name)
        if known.name != name:
            self.notes.append(f"{name} is left out: its content is that of {known.name}, which was loaded by run "
                              f"{known.run}")  # fmt: skip
        if pending is not None or (known.name, known.modified) != (name, modified):
            self.known_again.append(replace(known, name=name, modified=modified, pending=pending))

    def _what_follows(self, name: str) -> str | None:
        """What is to be done with a file after the commit: "delete", or "move" and the name that it gets if
        that is free; None for nothing."""
        asked = self.plan.settings.when_loaded
        if asked is None:
            return None
        if asked.move is None:
            return "delete"
        return f"move {(PurePosixPath(asked.move) / name).as_posix()}"

    def read(self, batch: SourceBatch) -> None:
        """Count what was read of a file."""
        self._rows[batch.file] += batch.rows + len(batch.bad_lines)
        if any(bad.whole for bad in batch.bad_lines):  # it is not loaded, and stays
            self._refused.add(batch.file)

    def rejected(self, rejects: Sequence[Reject]) -> None:
        """Count rejects."""
        self._rejected.update(reject.row.get("file.name") for reject in rejects)

    def _set_aside(self) -> list[LoadedFile]:
        """Entries that move unreadable files after the commit, if the pipeline moves them."""
        bad = self.plan.settings.bad_file
        if isinstance(bad, str):
            return []
        return [replace(self.new[name], pending=f"aside {PurePosixPath(bad.move) / name}")
                for name in sorted(self._refused & set(self.new))]  # fmt: skip

    def record(self, load: Load) -> None:
        """Remember the files, within the load's transaction."""
        new = [
            replace(file, rows=self._rows[name], rejected=self._rejected[name])
            for name, file in self.new.items()
            if name not in self._refused
        ]
        files = [*self.known_again, *new, *self._set_aside()]
        if not self.plan.settings.files_once:
            files = [file for file in files if file.pending]
        if files:
            self.plan.target.journal.record_files(load, self.job, self.plan.name, files)


def finish_files(plan: PipelinePlan, job: str) -> list[str]:
    """Move or delete the files whose load is committed; notes on what could not be done, which the next run tries."""
    source, journal, notes = as_file_source(plan.source), plan.target.journal, []
    aside: set[str] = set()
    done: list[LoadedFile] = []
    for file in journal.loaded_files(job, plan.name):
        if file.pending is None:
            continue
        try:
            note = source.after_load(file)
            notes += [note] if note else []
            if file.pending.startswith("aside "):  # which was not loaded
                aside.add(file.name)
            done.append(replace(file, pending=None))
        except KanalError as error:
            notes.append(f"{error.what}; the next run tries it again")
    if done:
        kept = [file for file in done if plan.settings.files_once and file.name not in aside]
        names = {file.name for file in kept}
        with plan.target.load() as load:
            journal.record_files(load, job, plan.name, kept)
            journal.forget_files(load, job, plan.name, [file.name for file in done if file.name not in names])
            load.commit()
    return notes
