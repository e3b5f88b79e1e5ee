"""What represents a secret or a part of a URL elsewhere: environment variables, files, the system's keyring."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import TYPE_CHECKING

from kanal.core.errors import KanalError
from kanal.core.hidden import hide

if TYPE_CHECKING:
    from kanal.definition import Secret

#: A variable of the environment in a text, by its name, and what it is where it is not set.
VARIABLE = re.compile(r"\$\{([A-Za-z_][A-Za-z0-9_]*)(?::-([^}]*))?\}")


def expand(text: str, what: str) -> str:
    """The text with environment variables put in; raises KanalError for one that is not set."""

    def value(match: re.Match[str]) -> str:
        found = os.environ.get(match[1], match[2])
        if found is None:
            raise KanalError(
                f"{what}: the environment variable {match[1]} is not set",
                f"set it, or give a default as ${{{match[1]}:-…}}",
            )
        return found

    return VARIABLE.sub(value, text)


def secret_value(secret: Secret, what: str, folder: Path, user: str | None = None) -> str:
    """What a secret represents, which no message shows from now on; raises KanalError if it cannot be had."""
    found = _resolved(secret, what, folder, user)
    hide(found)
    return found


def _resolved(secret: Secret, what: str, folder: Path, user: str | None) -> str:
    if secret.env is not None:
        return expand(f"${{{secret.env}}}", what)
    if secret.keyring is not None:
        return _from_keyring(secret.keyring, secret.user or user or "", what)
    path = folder / str(secret.file)
    try:
        return path.read_text(encoding="utf-8").rstrip("\r\n")
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or "it is not text in UTF-8"
        raise KanalError(f"{what}: the file {path} cannot be read: {why}", "correct its path") from None


def _from_keyring(service: str, user: str, what: str) -> str:
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        raise KanalError(f"{what}: the package keyring is not installed", "install kanal[keyring]") from None
    try:
        found = keyring.get_password(service, user)
    except KeyringError as error:
        raise KanalError(
            f"{what}: the system's keyring cannot be asked: {error}", "unlock it, or keep the password elsewhere"
        ) from None
    if found is None:
        raise KanalError(
            f'{what}: the keyring has no password of the service "{service}" for the user "{user}"',
            f"store it, for instance by: keyring set {service} {user}",
        )
    return found
