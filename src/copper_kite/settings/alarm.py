"""`[[alarm]]`: conditions and the addresses to alert; `[report]`: the addresses for reports."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, NamedTuple

from pydantic import Field, ValidationInfo, field_validator

from copper_kite.settings.table import Table
from copper_kite.settings.units import parse_duration, parse_size
from copper_kite.settings.value_types import Duration, Name, check_address_or_none

__all__ = ["ALARM_KINDS", "Alarm", "ReportSettings"]

MOST = 10**9

When = Literal[
    "connector_failing", "oldest_waiting", "waiting", "failed_share", "refused", "allowance", "disk",
    "certificate_expires", "surge", "configuration", "drop_folder",
    "signing", "tokens",
]  # fmt: skip


def _count(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= MOST:
        raise ValueError(f"{value!r} is not a number of messages or recipients; write it as 1000")
    return float(value)


def _share(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 < value <= 1:
        raise ValueError(f"{value!r} is not a share; write it as 0.2")
    return float(value)


def _nothing(value: object) -> float:
    raise ValueError("this kind of alarm has no limit; take the key away")


class AlarmKind(NamedTuple):
    """How the limit of one kind of alarm is read, which one it has when the file gives none, and what it means."""

    parse: Callable[[object], float]
    default: float
    about: str


ALARM_KINDS: dict[str, AlarmKind] = {
    "connector_failing": AlarmKind(parse_duration, 900.0, "a connector has not got through for longer"),
    "oldest_waiting": AlarmKind(parse_duration, 4 * 3600.0, "a message waits for longer"),
    "waiting": AlarmKind(_count, 1000.0, "more recipients wait"),
    "failed_share": AlarmKind(_share, 0.2, "a larger share of the last hour's recipients failed, of 20 or more"),
    "refused": AlarmKind(_count, 100.0, "listeners refused more recipients in the last hour"),
    "allowance": AlarmKind(_share, 0.9, "a larger share of an allowance is used"),
    "disk": AlarmKind(lambda value: float(parse_size(value)), 1024.0**3, "less is free on the queue's disk"),
    "certificate_expires": AlarmKind(
        parse_duration, 14 * 86400.0, "the certificate of a listener, or of a next hop as last seen, ends sooner"
    ),
    "surge": AlarmKind(_nothing, 0.0, "the guard slowed a sender down in the last hour"),
    "configuration": AlarmKind(_nothing, 0.0, "the server refused the configuration in the file"),
    "drop_folder": AlarmKind(_count, 100.0, "more messages lie in the drop folder"),
    "tokens": AlarmKind(_nothing, 0.0, "a token server gives a connector no new access token"),
    "signing": AlarmKind(_nothing, 0.0, "a key that mail must be signed with cannot be used"),
}


class ReportSettings(Table):
    """`[report]`: the report that the server sends by itself."""

    to: str = Field(default="", description="The address that gets it; nobody where there is none.")
    at: str = Field(default="07:00", pattern=r"^([01]\d|2[0-3]):[0-5]\d$", description="When, in local time.")
    every: Literal["day", "week", "month"] = Field(
        default="week", description="How often: each day, on Mondays, or on the first of the month."
    )

    _to = field_validator("to")(check_address_or_none)

    @property
    def hour(self) -> int:
        """Of `at`."""
        return int(self.at[:2])

    @property
    def minute(self) -> int:
        """Of `at`."""
        return int(self.at[3:])


class Alarm(Table):
    """`[[alarm]]`: a condition that is checked every 10 s, and where to report when it begins, lasts and ends."""

    name: Name = Field(description="Its name in messages and commands.")
    when: When = Field(description="What is watched, see below.")
    limit: str | int | float | None = Field(
        default=None, description="From where on it counts: a duration, a number, a share or a size, as `when` has it."
    )
    after: Duration = Field(default=0.0, ge=0, description="How long it must last before anybody is told.")
    again: Duration = Field(default=4 * 3600.0, ge=60, description="How often it is repeated while it lasts.")
    to: str = Field(default="", description="The address that is told by mail.")
    connector: str = Field(
        default="", description="The connector that carries this mail: another one than the alarm may be about."
    )
    command: str = Field(
        default="",
        validate_default=True,
        description="A command that is run with the facts as JSON on standard input, in a shell, for 30 s at most.",
    )
    enabled: bool = Field(default=True, description="Whether it is watched.")

    _to = field_validator("to")(check_address_or_none)

    @field_validator("limit")
    @classmethod
    def _limit_fits(cls, value: object, info: ValidationInfo) -> object:
        if value is not None and "when" in info.data:
            ALARM_KINDS[info.data["when"]].parse(value)
        return value

    @field_validator("command")
    @classmethod
    def _somebody_is_told(cls, value: str, info: ValidationInfo) -> str:
        if not value and not info.data.get("to", "unknown"):
            raise ValueError("nobody would be told; set to or command")
        return value

    @property
    def threshold(self) -> float:
        """The limit, in seconds, recipients, messages, octets or as a share."""
        kind = ALARM_KINDS[self.when]
        return kind.default if self.limit is None else kind.parse(self.limit)
