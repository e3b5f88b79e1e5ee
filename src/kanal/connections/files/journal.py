"""What a place of files remembers of the loads into it: small files in its folder .kanal, changed with each commit.

A commit is one note: which prepared files become visible, which go, and what is remembered. From the moment when it is
there, the load is committed; whoever finds it carries it out to its end, so that a process may be killed anywhere.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Collection, Sequence
from typing import Any, Protocol, cast

from msgspec.structs import asdict

from kanal.connections.files.stores import Store
from kanal.connections.journal import LoadedFile, Progress, Watermark, gone_on_elsewhere, moved_text
from kanal.connections.loading import Load
from kanal.core.errors import KanalError

_COMMIT = "commit-"


class KeepsNotes(Protocol):
    """A load into files, and the notes to keep with its commit, by name; None deletes a note."""

    notes: dict[str, str | None]


class FileJournal:
    """The journal of one store."""

    def __init__(self, store: Store) -> None:
        self.store = store

    # --- commits ---------------------------------------------------------------------------------------------------

    def commit(self, name: str, content: dict[str, Any]) -> None:
        """Commit: from when the note is there on, nothing of it is lost. Raises KanalError."""
        self.store.keep_note(_COMMIT + name, json.dumps(content))
        try:
            self._carry_out(_COMMIT + name, content, again=False)
        except KanalError as error:
            raise KanalError(f"the load is committed, but not all of it is visible yet: {error.what}",
                             f"{error.remedy}; what is missing follows with the next run") from None  # fmt: skip

    def catch_up(self) -> None:
        """Carry out what was committed by processes that did not live to its end; raises KanalError."""
        for name in self.store.notes(_COMMIT):
            text = self.store.note(name)
            if text is not None:
                self._carry_out(name, json.loads(text), again=True)
        self.store.tidy()

    def _carry_out(self, name: str, content: dict[str, Any], again: bool) -> None:
        for receipt in content["publish"]:
            self.store.publish(receipt, again)
        for gone in content["remove"]:
            self.store.remove(gone)
        for note, text in content["notes"].items():
            self.store.keep_note(note, text)
        self.store.keep_note(name, None)

    # --- progress --------------------------------------------------------------------------------------------------

    def make_ready(self) -> None:
        """Nothing has to be created."""

    def is_ready(self) -> bool:
        """True: progress can be kept."""
        return True

    def record(self, load: Load, done: Progress, token: str, step: str, owner: str) -> None:
        """Record, within a load's transaction, how far a step is committed with it; raises KanalError."""
        found = self._entry(token, step)
        if found is None or found["owner"] != owner:
            raise gone_on_elsewhere()
        content = {"progress": done.content(), "owner": owner, "token": token}
        cast("KeepsNotes", load).notes[_name("progress", token, step)] = json.dumps(content)

    def _entry(self, token: str, step: str) -> dict[str, Any] | None:
        text = self.store.note(_name("progress", token, step))
        return None if text is None else json.loads(text)

    def recorded(self, token: str, step: str) -> Progress | None:
        """The committed progress of a step; None if nothing is committed."""
        self.catch_up()
        found = self._entry(token, step)
        return Progress.of(found["progress"]) if found is not None and "progress" in found else None

    def claim_first(self, token: str, steps: Sequence[str], owner: str) -> None:
        """Make entries for the steps of a new run; raises KanalError."""
        for step in steps:
            self.store.keep_note(_name("progress", token, step), json.dumps({"token": token, "owner": owner}))

    def claim(self, token: str, step: str, owner: str) -> Progress | None:
        """Make a step's entry that of who continues it; how far it was committed before."""
        self.catch_up()
        found = self._entry(token, step) or {"token": token}
        self.store.keep_note(_name("progress", token, step), json.dumps(found | {"owner": owner}))
        self.catch_up()  # of one who was committing meanwhile
        return self.recorded(token, step)

    def note_session(self, load: Load, token: str, step: str, owner: str) -> None:
        """Nothing: there are no sessions."""

    def forget(self, tokens: Collection[str]) -> None:
        """Remove what was kept for runs that have come to their end."""
        for name in self.store.notes("progress-"):
            text = self.store.note(name)
            if text is not None and json.loads(text).get("token") in tokens:
                self.store.keep_note(name, None)

    # --- watermarks ------------------------------------------------------------------------------------------------

    def make_watermarks_ready(self) -> None:
        """Nothing has to be created."""

    def watermark(self, job: str, step: str) -> Watermark | None:
        """The watermark of a pipeline; None if it has none yet."""
        self.catch_up()
        text = self.store.note(_name("watermark", job, step))
        if text is None:
            return None
        found = json.loads(text)
        return Watermark(found["watermark"], found["moved"], found.get("expression"))

    def move_watermark(
        self, load: Load, job: str, step: str, watermark: str | None, moment: dt.datetime, expression: str
    ) -> None:
        """Set a watermark within a load's transaction, or with None take it away."""
        content = {
            "job": job,
            "step": step,
            "watermark": watermark,
            "moved": moved_text(moment),
            "expression": expression,
        }
        text = None if watermark is None else json.dumps(content)
        cast("KeepsNotes", load).notes[_name("watermark", job, step)] = text

    def note_read(self, load: Load, job: str, step: str, moment: dt.datetime) -> None:
        """Do nothing: files cannot take part in an exchange."""

    # --- files -----------------------------------------------------------------------------------------------------

    def make_files_ready(self) -> None:
        """Nothing has to be created."""

    def loaded_files(self, job: str, step: str) -> list[LoadedFile]:
        """The files that a step has loaded, in the order of their names."""
        self.catch_up()
        text = self.store.note(_name("files", job, step))
        return [] if text is None else [LoadedFile(**one) for one in json.loads(text)["files"]]

    def record_files(self, load: Load, job: str, step: str, files: Sequence[LoadedFile]) -> None:
        """Remember files, within a load's transaction; they replace files with the same names."""
        kept = {file.name: file for file in [*self.loaded_files(job, step), *files]}
        self._keep_files(load, job, step, kept)

    def forget_files(self, load: Load, job: str, step: str, names: Collection[str]) -> None:
        """Forget files, within a load's transaction."""
        kept = {file.name: file for file in self.loaded_files(job, step) if file.name not in names}
        self._keep_files(load, job, step, kept)

    def _keep_files(self, load: Load, job: str, step: str, files: dict[str, LoadedFile]) -> None:
        content = {"job": job, "step": step, "files": [asdict(files[name]) for name in sorted(files)]}
        cast("KeepsNotes", load).notes[_name("files", job, step)] = json.dumps(content)


def _name(kind: str, *parts: str) -> str:
    """The name of a note about a job's or run's step."""
    return f"{kind}-{hashlib.sha256(json.dumps(parts).encode()).hexdigest()[:32]}.json"
