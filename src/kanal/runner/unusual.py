"""Tells what is unusual about a run: far fewer or more rows than in earlier ones."""

from __future__ import annotations

from collections.abc import Mapping

from kanal.runlog import StepRecord, Usual

#: So many earlier runs are needed to tell what is usual.
_ENOUGH = 3


def fewer_than_usual(step: StepRecord, usual: Mapping[str, Usual], share: float = 0.5) -> bool:
    """True for a step that read less than a share of the rows that are usual, as far as three runs can tell."""
    known = usual.get(step.step)
    return known is not None and known.runs >= _ENOUGH and _ended(step) and step.tally.read < share * known.read


def more_than_usual(step: StepRecord, usual: Mapping[str, Usual], share: float = 2.0) -> bool:
    """True for a step that read more than a multiple of the rows that are usual, as far as three runs can tell."""
    known = usual.get(step.step)
    return known is not None and known.runs >= _ENOUGH and _ended(step) and step.tally.read > share * known.read > 0


def _ended(step: StepRecord) -> bool:
    return step.status == "succeeded"
