"""The reasons for which a row can be rejected: a fixed, short list that every output uses."""

from __future__ import annotations

from enum import StrEnum


class Reason(StrEnum):
    """Why a row was not loaded. `explanation` says it in a sentence, for people."""

    explanation: str

    def __new__(cls, code: str, explanation: str) -> Reason:
        member = str.__new__(cls, code)
        member._value_ = code
        member.explanation = explanation
        return member

    NOT_A_NUMBER = "not_a_number", "the text cannot be read as a number"
    NOT_A_DATE = "not_a_date", "the text is not a date or time in the expected form, or no such day exists"
    NOT_A_BOOLEAN = "not_a_boolean", "the value is not one of the words or numbers for true and false"
    OUT_OF_RANGE = (
        "out_of_range",
        "the value lies outside what the type can hold, or the arithmetic has no result",
    )
    FUNCTION_FAILED = "function_failed", "a function of the job raised an error, or its result is not of its type"
    WOULD_ROUND = "would_round", "digits would be lost, and no rounding was asked for"
    TOO_LONG = "too_long", "the text has more characters than the column takes"
    NULL_NOT_ALLOWED = "null_not_allowed", "the value is NULL and the column is NOT NULL, or a key"
    NOT_IN_LOOKUP = "not_in_lookup", "the looked-up table has no row with this key"
    CHECK_FAILED = "check_failed", "the converted row breaks a check of the job"
    DUPLICATE_KEY = "duplicate_key", "an earlier row of this load has the same key"
    NO_SUCH_TIME = "no_such_time", "the local time was skipped when the clocks went forward"
    AMBIGUOUS_TIME = "ambiguous_time", "the local time came twice when the clocks went back"
    BAD_TEXT = (
        "bad_text",
        "the bytes are not text in the expected encoding, or the text is not in the expected form",
    )
    BAD_LINE = "bad_line", "the line of a file is not a row: its values, quotes or encoding are wrong"
    BAD_FILE = "bad_file", "a file has other columns than the first of its pattern"
    NOT_DELETED = "not_deleted", "the source no longer has the row, and it stays, for other rows refer to it"
    CONFLICT = "conflict", "the row was changed on both sides of an exchange; the newer change counts"
    REFUSED_BY_TARGET = "refused_by_target", "the target database refused the row"


#: What is listed next to the rejected rows though no row of the source was left out, so that none can be loaded again.
NOTICES = (Reason.NOT_DELETED, Reason.CONFLICT)
#: What cannot be loaded again by itself: no row, or one that only the whole file gives.
NOT_REPLAYED = (*NOTICES, Reason.BAD_LINE, Reason.BAD_FILE)
