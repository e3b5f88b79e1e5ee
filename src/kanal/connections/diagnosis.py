"""Tells from a database's words why something failed, and what to do about it."""

from __future__ import annotations

import re

import sqlalchemy as sa

#: What databases and drivers say, and what that means for the user. {host}, {port}, {user} and {database} are the
#: URL's; {1} and {2} are parts of the words.
_CAUSES = [
    (
        r"could not translate host|name or service not known|name resolution|nodename nor servname|getaddrinfo|"
        r"no address associated",
        "the host {host} is not known from here: check its spelling, or the network or VPN that knows it",
    ),
    (
        r"connection refused|errno 111|actively refused|can't connect to (?:mysql |mariadb )?server|"
        r"server is unavailable or does not exist|unable to complete network request|failed to establish a connection",
        "nothing listens at {host}:{port}: start the server, or correct host and port",
    ),
    (
        r"timeout expired|timed out|errno 110|no route to host|network is unreachable",
        "{host}:{port} gives no answer: the host is down, or a firewall drops what is sent to it",
    ),
    (
        r"certificate|\bSSL\b|\bTLS\b",
        "the server and this side do not agree on an encrypted connection: see sslmode in the URL for PostgreSQL, "
        "ssl_ca and ssl_disabled for MariaDB, and the server's certificate",
    ),
    (
        r"no pg_hba.conf entry",
        "the server lets user {user} not in from this machine: ask for an entry in its pg_hba.conf",
    ),
    (r'role "([^"]+)" does not exist', "correct the user in the URL, or ask for: CREATE ROLE {1} LOGIN"),
    (
        r"to database '([^']+)'",
        "ask for the right to use it: GRANT SELECT, INSERT, UPDATE, DELETE, CREATE ON {1}.* TO {user}",
    ),
    (
        r"password authentication failed|access denied for user|no password supplied|authentication method|"
        r"user name and password are not defined",
        "the user {user} or its password is wrong: correct the URL, or what password names",
    ),
    (r"database \"?'?([^'\"]+)'?\"? does not exist|unknown database '([^']+)'", "create the database, or name another"),
    (
        r"permission denied for schema (\S+)",
        "ask for the right: GRANT USAGE, CREATE ON SCHEMA {1} TO {user}",
    ),
    (
        r"permission denied for (?:table|view|relation) (\S+)",
        "ask for the right: GRANT SELECT ON {1} TO {user}, and to write, INSERT, UPDATE, DELETE and TRUNCATE too",
    ),
    (
        r"(\w[\w, ]*) command denied to user .* for table (\S+)",
        "ask for the right: GRANT {1} ON {2} TO {user}",
    ),
    (r"too many (?:clients|connections)", "try again when others have left, or ask for more connections"),
    (r"not allowed to connect|host .* is blocked", "the server lets no one in from here: ask its administrator"),
]  # fmt: skip


def remedy_for(words: str, url: sa.URL, port: int | None) -> str | None:
    """What to do about an error in a database's words; None if that is not known."""
    for pattern, remedy in _CAUSES:
        found = re.search(pattern, words, re.IGNORECASE)
        if found:
            known = {"host": url.host or "localhost", "port": url.port or port, "user": url.username or "this user"}
            return remedy.format(found[0], *(group or "" for group in found.groups()), database=url.database, **known)
    return None
