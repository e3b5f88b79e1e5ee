"""What of a connection's URL may be shown, and what may be secret in it."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from kanal.core.errors import HARMLESS, KanalError

if TYPE_CHECKING:
    import sqlalchemy as sa

#: The schemes of URLs that fsspec takes, and of each by which name it takes the password.
FILESYSTEMS = {
    "sftp": "password", "ssh": "password", "ftp": "password", "smb": "password", "hdfs": "", "webhdfs": "password",
    "abfs": "account_key", "abfss": "account_key", "az": "account_key", "gs": "token", "gcs": "token", "memory": "",
}  # fmt: skip


def shown_url(url: sa.URL) -> str:
    """A URL for people: scheme, user, host, port, database and harmless settings; *** for a password and the rest."""
    settings = {
        name: value if name.lower() in HARMLESS and "@" not in str(value) else "***"
        for name, value in url.query.items()
    }
    plain = url.set(query=settings).render_as_string(hide_password=True)
    return plain.replace("%2A%2A%2A", "***")


def secrets_of(url: sa.URL) -> list[str]:
    """What of a URL may be secret, longest first: its password, and settings that are not known to be harmless."""
    found = [str(url.password)] if url.password else []
    for name, value in url.query.items():
        if name.lower() not in HARMLESS:
            found += [value] if isinstance(value, str) else list(value)
    return sorted(filter(None, found), key=len, reverse=True)


def folder_url(text: str) -> sa.URL | None:
    """The URL of a folder, `file:inbox` or `file:///srv/inbox`, its path as the database; None for any other URL."""
    if not text.lower().startswith("file:"):
        return None
    import sqlalchemy as sa

    path = text[5:]
    return sa.URL.create("file", database=path[2:] if path.startswith("///") else path.removeprefix("//"))


def check_parts(url: sa.URL, what: str) -> None:
    """Raise KanalError for a URL whose user or password contains an unquoted @ or /: the rest is taken for the host.

    Nothing of it is shown, since the end of the password is not known.
    """
    of_user = re.search(":[^/]*@", url.database or "") and url.host
    if "@" in (url.host or "") or of_user or (url.password and "@" in (url.database or "")):
        raise KanalError(
            f"{what}: the password in its URL has an @ that is taken for its end",
            'write %40 for @, %2F for / and %3A for :, or give the password by password = { env = "NAME" }',
        )


def with_password_in_place(url: sa.URL) -> sa.URL:
    """A URL whose password stands before the host, where some drivers take it among the settings too."""
    for key in ("password", "passwd"):
        given = url.query.get(key)
        if isinstance(given, str):
            url = url.difference_update_query([key])
            url = url.set(password=given) if url.password is None else url
    return url


def url_remedy(text: str, otherwise: str = "write one such as sqlite:///lockhouse.db") -> str:
    """What to write in the place of a text that is not a URL: its URL if it is that of a driver, or of a file."""
    driver = re.match(r"jdbc:(\w+):(?://)?", text)
    if driver is not None:
        kind = {"postgresql": "postgresql", "mariadb": "mariadb", "mysql": "mariadb", "sqlite": "sqlite"}.get(driver[1])
        example = "sqlite:///FILE" if kind == "sqlite" else f"{kind or 'postgresql'}://USER@HOST/DATABASE"
        return f"write it without jdbc:, as {example}"
    if re.fullmatch(r"[\w./ -]+\.(db|sqlite|sqlite3|duckdb)", text):
        return f"write {'duckdb' if text.endswith('.duckdb') else 'sqlite'}:///{text}"
    return otherwise
