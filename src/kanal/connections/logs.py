"""Masks secrets in the log records of drivers."""

from __future__ import annotations

import logging
from typing import Any

from kanal.core.errors import masked

#: The libraries that write addresses and settings to their logs, by the first part of their loggers' names.
_LIBRARIES = frozenset({
    "adlfs", "asyncssh", "azure", "boto3", "botocore", "distributed", "fsspec", "gcsfs", "google", "httpcore", "httpx",
    "paramiko", "psycopg", "pymysql", "s3fs", "s3transfer", "smbprotocol", "sqlalchemy", "urllib3",
})  # fmt: skip


class _MaskingFactory:
    """Makes log records as another factory does. Those of drivers show *** in place of secrets."""

    def __init__(self, usual: Any) -> None:
        self._usual = usual

    def __call__(self, name: str, *arguments: Any, **named: Any) -> logging.LogRecord:
        record: logging.LogRecord = self._usual(name, *arguments, **named)
        if str(name).partition(".")[0] in _LIBRARIES:
            try:
                record.msg, record.args = masked(record.getMessage()), None
            except Exception:  # its text and its values do not fit, which logging itself reports
                return record
        return record


def mask_logs() -> None:
    """Mask secrets in the log records of drivers from now on."""
    usual = logging.getLogRecordFactory()
    if not isinstance(usual, _MaskingFactory):
        logging.setLogRecordFactory(_MaskingFactory(usual))
