"""Durations, sizes and addresses as people write them."""

from __future__ import annotations

import contextlib
import ipaddress
import re
import time
from dataclasses import dataclass
from datetime import datetime

from copper_kite.smtp import is_domain

__all__ = [
    "NEARLY",
    "Allowance",
    "Endpoint",
    "Pace",
    "host_of",
    "parse_allowance",
    "parse_duration",
    "parse_endpoint",
    "parse_instant",
    "parse_pace",
    "parse_size",
]

NEARLY = 0.8  # of an allowance: from there on, somebody is told

_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}
_OCTETS = {"": 1, "B": 1, "kB": 1000, "KiB": 1024, "MB": 1000**2, "MiB": 1024**2, "GB": 1000**3, "GiB": 1024**3}
CENTURY = 100 * 365.25 * 86400.0  # seconds
_DURATION = re.compile(r"(?:\d+(?:\.\d+)?[smhdw])+")
_DURATION_PART = re.compile(r"(\d+(?:\.\d+)?)([smhdw])")
_SIZE = re.compile(r"(\d+(?:\.\d+)?) ?([A-Za-z]*)")
_HOST_PORT = re.compile(r"(?:\[([0-9A-Fa-f:.]+)\]|([^\[\]:]+))(?::(\d{1,5}))?")


def parse_duration(value: object) -> float:
    """Seconds from `90s`, `15m`, `2h`, `5d`, `1h30m`; a century at most. Raises ValueError."""
    text = value.strip() if isinstance(value, str) else ""
    if not _DURATION.fullmatch(text):
        raise ValueError(f"{value!r} is not a duration; write it as 90s, 15m, 2h or 5d")
    seconds = sum(float(number) * _SECONDS[unit] for number, unit in _DURATION_PART.findall(text))
    if seconds > CENTURY:  # an instant beyond the calendar could not be shown
        raise ValueError(f"{value!r} is longer than a century")
    return seconds


def parse_instant(value: object, now: float) -> float:
    """Seconds since 1970 from `2026-05-04 09:00`, `2026-05-04`, `09:00` (today), `2h ago` or `2h`, or RFC 3339.

    Local time where no zone is given. Raises ValueError.
    """
    text = value.strip() if isinstance(value, str) else ""
    with contextlib.suppress(ValueError):
        return now - parse_duration(text.removesuffix(" ago").strip())
    if re.fullmatch(r"\d\d:\d\d(:\d\d)?", text):
        text = f"{time.strftime('%Y-%m-%d', time.localtime(now))} {text}"
    try:
        return datetime.fromisoformat(text).timestamp()
    except (ValueError, OverflowError):
        raise ValueError(f"{value!r} is no time; write it as 2026-05-04 09:00, 09:00 or 2h ago") from None


def parse_size(value: object) -> int:
    """Octets from `35MiB`, `500kB`, `4096`. Raises ValueError."""
    match = _SIZE.fullmatch(str(value).strip()) if isinstance(value, str | int) else None
    if match is None or match.group(2) not in _OCTETS:
        raise ValueError(f"{value!r} is not a size; write it as 35MiB, 500kB or a number of octets")
    octets = float(match.group(1)) * _OCTETS[match.group(2)]
    if octets >= 2**63:
        raise ValueError(f"{value!r} is more than any disk holds")
    return int(octets)


@dataclass(frozen=True, slots=True)
class Allowance:
    """The most recipients in a calendar period in local time: an hour, a day or a month."""

    count: int
    period: str

    def window(self, now: float) -> tuple[float, float]:
        """Begin and end of the period that holds `now`, in seconds since 1970."""
        at = time.localtime(now)
        year, month, day, hour = at.tm_year, at.tm_mon, at.tm_mday, at.tm_hour
        ends = {
            "hour": (year, month, day, hour + 1),
            "day": (year, month, day + 1, 0),
            "month": (year, month + 1, 1, 0),
        }
        begins = {"hour": (year, month, day, hour), "day": (year, month, day, 0), "month": (year, month, 1, 0)}
        return _instant(begins[self.period]), _instant(ends[self.period])

    def __str__(self) -> str:
        return f"{self.count}/{self.period}"


def _instant(parts: tuple[int, int, int, int]) -> float:
    return time.mktime((*parts, 0, 0, 0, 0, -1))  # which carries what is over into the next unit


def parse_allowance(value: object) -> Allowance:
    """`300/day`, `50/hour`, `9000/month`. Raises ValueError."""
    match = re.fullmatch(r"(\d{1,12})/(hour|day|month)", value.strip()) if isinstance(value, str) else None
    if match is None:
        raise ValueError(f"{value!r} is not an allowance; write it as 50/hour, 300/day or 9000/month")
    if not int(match.group(1)):
        raise ValueError(f"{value!r} lets nothing leave; disable the connector instead")
    return Allowance(int(match.group(1)), match.group(2))


@dataclass(frozen=True, slots=True)
class Pace:
    """A number of messages in a second, minute or hour, evenly spaced."""

    count: float
    unit: str

    @property
    def interval(self) -> float:
        """Seconds from one message to the next."""
        return _SECONDS[self.unit] / self.count

    def __str__(self) -> str:
        return f"{self.count:g}/{self.unit}"


def parse_pace(value: object) -> Pace:
    """`10/s`, `30/m`, `600/h`. Raises ValueError."""
    match = re.fullmatch(r"(\d{1,6}(?:\.\d{1,3})?)/([smh])", value.strip()) if isinstance(value, str) else None
    if match is None or not float(match.group(1)):
        raise ValueError(f"{value!r} is no pace; write it as 10/s, 30/m or 600/h")
    return Pace(float(match.group(1)), match.group(2))


@dataclass(frozen=True, slots=True)
class Endpoint:
    """A host and a port, or the path of a Unix socket."""

    host: str
    port: int
    path: str = ""

    @property
    def is_address(self) -> bool:
        """Whether the host is an IP address and not a name."""
        try:
            ipaddress.ip_address(self.host)
        except ValueError:
            return False
        return True

    def __str__(self) -> str:
        if self.path:
            return f"unix:{self.path}"
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"


def parse_endpoint(value: object, *, default_port: int | None = None) -> Endpoint:
    """`127.0.0.1:25`, `[::1]:25`, `out.example:587` or `unix:/path`. Raises ValueError."""
    text = value.strip() if isinstance(value, str) else ""
    if text.startswith("unix:"):
        if not text.startswith("unix:/"):
            raise ValueError(f"{value!r}: the path of a Unix socket starts with /")
        return Endpoint("", 0, text[5:])
    match = _HOST_PORT.fullmatch(text)
    if match is None:
        raise ValueError(f"{value!r} is not an address; write it as 127.0.0.1:25, [::1]:25 or out.example:587")
    address, host, port = match.groups()
    if address is not None:
        try:
            host = str(ipaddress.IPv6Address(address))
        except ValueError:
            raise ValueError(f"{address!r} is not an IPv6 address") from None
    elif not is_domain(host):
        raise ValueError(f"{host!r} is not a host name")
    if port is None and default_port is None:
        raise ValueError(f"{value!r} names no port; write it as {text}:25")
    number = int(port) if port is not None else int(default_port or 0)
    if not 0 < number < 65536:
        raise ValueError(f"{number} is not a port; ports go from 1 to 65535")
    return Endpoint(host, number)


def host_of(next_hop: str) -> str:
    """A next hop as it is shown, without its port; a socket's path as it is."""
    return next_hop if next_hop.startswith("unix:") else next_hop.rpartition(":")[0].strip("[]")
