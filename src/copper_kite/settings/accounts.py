"""The passwords of accounts, kept as SCRAM keys in `accounts.toml`, which its owner alone can read."""

from __future__ import annotations

import stat
import tomllib
from pathlib import Path

from copper_kite.errors import Finding, NotReadable
from copper_kite.smtp import ScramKey, Syntax

__all__ = ["ACCOUNTS", "read_accounts"]

ACCOUNTS = "accounts.toml"


def read_accounts(path: Path, findings: list[Finding]) -> dict[str, ScramKey]:
    """The keys in `path` by account; what is wrong is added to `findings`. No file is no accounts."""
    if not path.exists():
        return {}

    def wrong(key: str, problem: str, remedy: str) -> None:
        findings.append(Finding(file=str(path), line=None, key=key, problem=problem, remedy=remedy))

    try:
        mode = stat.S_IMODE(path.stat().st_mode)
        if mode & 0o077:
            wrong("", f"others can read it (mode {mode:04o})", f"chmod 600 {path}")
            return {}
        tables = tomllib.loads(path.read_text("utf-8"))
    except PermissionError as error:
        raise NotReadable(str(path)) from error
    except (OSError, ValueError) as error:
        wrong("", f"cannot be read ({error})", "kite account password NAME")
        return {}
    results = {}
    for name, table in tables.items():
        try:
            results[name] = ScramKey.parse(table["key"])
        except (Syntax, KeyError, TypeError):
            wrong(name, "holds no key", f"kite account password {name}")
    return results
