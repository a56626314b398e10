"""`[log]`, `[journal]`, `[metrics]`, `[[other_log]]`: what is recorded and shown of what happens."""

from __future__ import annotations

import ipaddress
from typing import Literal

from pydantic import Field, field_validator

from copper_kite.settings.table import Table
from copper_kite.settings.value_types import Allowed, Bind, Duration, Name, Size

__all__ = ["LEVELS", "Journal", "Log", "Metrics", "OtherLog"]

LEVELS = ("info", "notice", "warning", "error")


class Log(Table):
    """`[log]`: the server's log. Everything in it is in the journal, too; every line about a message has its id."""

    to: str = Field(default="stderr", description='`"stderr"`, `"syslog"` (the local socket), or `"file:PATH"`.')
    format: Literal["lines", "json", "rfc5424"] = Field(
        default="lines", description='`"lines"` of `key=value`, `"json"`, or `"rfc5424"`, which syslog always gets.'
    )
    level: Literal["info", "notice", "warning", "error"] = Field(
        default="notice",
        description='`"info"`: all that is taken or relayed, too; `"notice"`: delays, failures, refusals; '
        '`"warning"`: failures, refusals, and allowances of which little is left; `"error"`: the server itself.',
    )
    max_size: Size = Field(default=50 * 1024**2, ge=1024, description="Of a file; then another one is begun.")
    keep: int = Field(default=5, ge=0, le=1000, description="How many full files stay.")

    @field_validator("to")
    @classmethod
    def _to(cls, value: str) -> str:
        if value in ("stderr", "syslog") or (value.startswith("file:") and value != "file:"):
            return value
        raise ValueError(f"{value!r} is no place for a log; write stderr, syslog or file:PATH")


class Journal(Table):
    """`[journal]`: how long the record of what has ended is kept."""

    keep: Duration = Field(
        default=90 * 86400.0, ge=3600, description="How long; what an allowance counts stays for its period."
    )
    max_size: Size | None = Field(
        default=None, description="How large the queue's file may become; beyond, the oldest that has ended goes first."
    )
    keep_counts: Duration = Field(
        default=730 * 86400.0, ge=86400, description="How long the hourly counts are kept that `kite report` goes by."
    )


class Metrics(Table):
    """`[metrics]`: where monitoring programs ask how the server is: `/metrics`, `/health`, `/live`."""

    bind: Bind | None = Field(
        default=None, description='Address, as in `"127.0.0.1:9587"` or `"unix:/run/copper-kite/metrics.sock"`.'
    )
    allow: list[Allowed] = Field(
        default=[ipaddress.ip_network("127.0.0.0/8"), ipaddress.ip_network("::1")],
        description="Networks whose clients get an answer. A Unix socket answers all local users.",
    )


class OtherLog(Table):
    """`[[other_log]]`: a log of another program or host, in which `kite trace` and `kite log` look, too."""

    name: Name = Field(description="Its name in what is shown.")
    files: list[str] = Field(
        min_length=1, description="Its files, also by patterns with `*`, plain or compressed; relative to this file."
    )
    map: str | None = Field(
        default=None, description="How its lines are read: a line map's file, or the name of one that is shipped."
    )
