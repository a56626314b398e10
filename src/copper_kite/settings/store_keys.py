"""The keys of `[server]` for a queue that several servers share."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path
from typing import Literal

from pydantic import Field, field_validator

from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Duration
from copper_kite.store import LEASE_SECONDS, parse_store_url

__all__ = ["StoreKeys", "check_store_keys"]


class StoreKeys(Table):
    """Where the queue is, when it is not in the data folder."""

    store: str = Field(
        default="",
        description="A PostgreSQL database for the queue of several servers, as `postgresql://user@host/database`; "
        "empty: the queue is in the data folder.",
    )
    store_credential: str | None = Field(
        default=None, description="The credential with the password of the database's user."
    )
    store_tls: Literal["on", "off"] = Field(
        default="on", description="TLS to the database, its certificate verified for its name; a Unix socket has none."
    )
    store_trust: str = Field(
        default="system",
        description='`"system"`, or a PEM file of authorities for the database\'s certificate.',
    )
    away: Literal["wait", "keep"] = Field(
        default="wait",
        description='What submissions do while the database is away: `"wait"`, and after `longest_wait` 451; or '
        '`"keep"`: they go to the data folder, and to the database when it is back.',
    )
    lease: Duration = Field(
        default=LEASE_SECONDS,
        ge=2.0,
        description="How long a server that shares the queue may be silent before the others take over its mail.",
    )

    @field_validator("store")
    @classmethod
    def _store(cls, value: str) -> str:
        if value:
            parse_store_url(value)
        return value


def check_store_keys(
    keys: StoreKeys, folder: Path, credentials: Collection[str] | None, wrong: Callable[..., None]
) -> None:
    """Tell `wrong` what keeps the shared queue from being used; `credentials` are None where they are not read."""
    if not keys.store:
        return
    name = keys.store_credential
    if name is not None and credentials is not None and name not in credentials:
        wrong(("server", "store_credential"), f"no usable credential {name!r}", f"kite credential set {name}")
    needs_trust = keys.store_tls == "on" and not parse_store_url(keys.store).local
    if needs_trust and keys.store_trust != "system" and not (folder / keys.store_trust).is_file():
        wrong(("server", "store_trust"), f"no file {keys.store_trust!r}", "name a PEM file of authorities")
