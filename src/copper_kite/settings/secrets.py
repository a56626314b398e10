"""The credentials beside the configuration. A file that others can read is refused, whatever it holds."""

from __future__ import annotations

import re
import stat
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from copper_kite.errors import Finding, InputError, NotReadable
from copper_kite.settings.locate import locate_key
from copper_kite.smtp import Secret

__all__ = ["Credential", "OAuthClient", "check_credential", "read_credentials"]

_NAME = re.compile(r"[A-Za-z0-9_-]+")


@dataclass(frozen=True, slots=True)
class OAuthClient:
    """The client that gets access tokens for a credential: by a refresh token, or else by its own secret. `trust`
    verifies the token server: `system`, or a CA file."""

    name: str
    token_endpoint: str
    client_id: str
    client_secret: Secret | None = None
    scope: str = ""
    refresh_token: Secret | None = None
    trust: str = "system"


@dataclass(frozen=True, slots=True)
class Credential:
    """A connector's credential: a password or a token, the command that prints one, or an OAuth client."""

    name: str
    login: str
    password: Secret | None = None
    token: Secret | None = None
    password_command: str = ""
    token_command: str = ""
    oauth: OAuthClient | None = None


_KINDS: dict[str, Callable[[str, str, str], Credential]] = {
    "password": lambda name, login, value: Credential(name, login, password=Secret(value)),
    "token": lambda name, login, value: Credential(name, login, token=Secret(value)),
    "password_command": lambda name, login, value: Credential(name, login, password_command=value),
    "token_command": lambda name, login, value: Credential(name, login, token_command=value),
}
_SECRETS = tuple(_KINDS)
_OAUTH = ("token_endpoint", "client_id", "client_secret", "scope", "refresh_token", "trust")


def read_credentials(path: Path, findings: list[Finding], folder: Path | None = None) -> dict[str, Credential]:
    """The credentials in `path` by name; what is wrong is added to `findings`. No finding quotes a value.

    Files that they name are relative to `folder`: a service manager hands this one over elsewhere.

    Raises NotReadable.
    """
    file = str(path)

    def wrong(key: str, problem: str, remedy: str = "", line: int | None = None) -> None:
        findings.append(Finding(file=file, line=line, key=key, problem=problem, remedy=remedy))

    source = _read_source(path, wrong)
    try:
        tables = tomllib.loads(source)
    except tomllib.TOMLDecodeError:
        wrong("", *_NOT_TOML)
        return {}
    results = {}
    for name, table in tables.items():
        line = locate_key(source, (name,))
        if not isinstance(table, dict):
            wrong(name, "stands outside a table", f"write [{name}] and its keys below", line)
            continue
        for key in table.keys() - {"login", "enabled", *_SECRETS, *_OAUTH}:
            remedy = (
                f"the keys are login, enabled, and one of {', '.join(_SECRETS)}; or those of `kite credential login`"
            )
            wrong(f"{name}.{key}", "unknown key", remedy, locate_key(source, (name, key)))
        if table.get("enabled", True) is False:
            continue
        credential = _credential_of(name, table, folder or path.parent)
        if isinstance(credential, Credential):
            results[name] = credential
        else:
            wrong(name, *credential, line)
    return results


_NOT_TOML = "not TOML", 'write it as [name], then login = "…" and password = "…"'


def _read_source(path: Path, wrong: Callable[..., None]) -> str:
    """The file's text; empty where it cannot be used, which `wrong` is told. Raises NotReadable."""
    try:
        mode = stat.S_IMODE(path.stat().st_mode)
        if mode & 0o077:
            wrong("", f"others can read it (mode {mode:04o})", f"chmod 600 {path}")
            return ""
        return path.read_text("utf-8")
    except FileNotFoundError:
        wrong("", "there is no such file, and a connector logs in", "write it with mode 0600: [name] login, password")
    except PermissionError as error:
        raise NotReadable(str(path)) from error
    except OSError as error:
        wrong("", f"cannot be read ({error.strerror})")
    except UnicodeDecodeError:
        wrong("", *_NOT_TOML)
    return ""


def _credential_of(name: str, table: dict[str, Any], folder: Path) -> Credential | tuple[str, str]:
    """The credential that a table describes; or what is wrong with it, and what to write."""
    if "token_endpoint" in table:
        return _oauth_credential(name, table, folder)
    login, given = table.get("login"), [key for key in _SECRETS if key in table]
    value = table[given[0]] if len(given) == 1 else None
    if not (isinstance(login, str) and login and isinstance(value, str) and value):
        return "login and password are both needed, as text", f"or, for password, {', '.join(_SECRETS[1:])}"
    if "\0" in login + value:
        return "login and password hold no NUL", ""
    return _KINDS[given[0]](name, login, value)


def _oauth_credential(name: str, table: dict[str, Any], folder: Path) -> Credential | tuple[str, str]:
    wrong = [key for key in ("login", *_OAUTH) if not isinstance(table.get(key, ""), str)]
    missing = [key for key in ("login", "client_id") if not table.get(key)]
    if wrong or missing:
        return f"{(wrong + missing)[0]} is needed, as text", f"kite credential login {name} writes it"
    if not table.get("refresh_token") and not table.get("client_secret"):
        return "there is neither refresh_token nor client_secret", f"kite credential login {name} gets one"
    if [key for key in _SECRETS if key in table]:
        return "it has a password or token, and gets tokens", "one of both"
    secret, refresh, trust = (table.get(key, "") for key in ("client_secret", "refresh_token", "trust"))
    client = OAuthClient(
        name,
        table["token_endpoint"],
        table["client_id"],
        Secret(secret) if secret else None,
        table.get("scope", ""),
        Secret(refresh) if refresh else None,
        "system" if trust in ("", "system") else str(folder / trust),
    )
    return Credential(name, table["login"], oauth=client)


def check_credential(name: str, login: str, password: str) -> None:
    """Whether this can be a credential, before it is written. Raises InputError, which does not quote the password."""
    if _NAME.fullmatch(name) is None:
        raise InputError(f"{name!r} is no name for a credential; letters, digits, - and _ make one", usage=True)
    if not login or not password or not (login + password).isprintable():
        raise InputError("login and password are text without control characters", usage=True)
