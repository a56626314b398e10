"""MTA-STS: the policy that a domain publishes for its mail exchangers (RFC 8461), fetched and kept."""

from __future__ import annotations

import asyncio
import contextlib
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from copper_kite.mail import BadTags, parse_tags
from copper_kite.net.failure import SessionFailed
from copper_kite.net.records import ask
from copper_kite.net.resolve import resolve_host
from copper_kite.net.web import WebFailed, fetch
from copper_kite.settings import Endpoint
from copper_kite.store import put_file

__all__ = ["StsFailed", "StsPolicies", "StsPolicy", "fetch_policy", "parse_policy"]

PATH = "/.well-known/mta-sts.txt"
HTTPS = 443
MAX_POLICY = 64 * 1024  # octets
MAX_AGE = 31_557_600  # seconds; RFC 8461 3.2
FETCH_SECONDS = 20.0
MAX_KEPT = 2000  # domains
MAX_HOSTS = 100  # patterns of one policy
MODES = ("enforce", "testing", "none")
_ID = re.compile(r"[A-Za-z0-9]{1,32}")


class StsFailed(Exception):
    """The policy cannot be fetched or used; the message says why."""


@dataclass(frozen=True, slots=True)
class StsPolicy:
    """A policy: its mode, the patterns of hosts, for how many seconds it counts, the id of its record, and when it was
    fetched (seconds since 1970)."""

    mode: str
    mx: tuple[str, ...]
    max_age: float
    id: str = ""
    fetched: float = 0.0

    def allows(self, host: str) -> bool:
        """Whether a host is one of its own; `*.` stands for one label (RFC 8461 4.1)."""
        host = host.lower().rstrip(".")
        above = host.partition(".")[2]
        return any(pattern == host or (pattern.startswith("*.") and pattern[2:] == above) for pattern in self.mx)

    def counts(self, now: float) -> bool:
        """Whether it still counts."""
        return self.fetched <= now < self.fetched + self.max_age


def parse_policy(text: str) -> StsPolicy:
    """The policy in a file (RFC 8461 3.2). Raises StsFailed."""
    keys: dict[str, list[str]] = {}
    for line in text.splitlines():
        key, colon, value = line.partition(":")
        if colon:
            keys.setdefault(key.strip().lower(), []).append(value.strip())
    if keys.get("version", [""])[0] != "STSv1":
        raise StsFailed("its policy has no version: STSv1")
    mode, age = keys.get("mode", [""])[0], keys.get("max_age", [""])[0]
    if mode not in MODES:
        raise StsFailed(f"its policy has the mode {mode[:20]!r}, which is none of {', '.join(MODES)}")
    if not re.fullmatch(r"\d{1,10}", age):
        raise StsFailed("its policy has no max_age")
    mx = tuple(pattern.lower().rstrip(".") for pattern in keys.get("mx", [])[:MAX_HOSTS])
    if mode != "none" and not mx:
        raise StsFailed("its policy names no host (mx)")
    return StsPolicy(mode, mx, min(float(age), MAX_AGE))


async def fetch_policy(domain: str, dns: str, trust: str, port: int = HTTPS) -> StsPolicy:
    """The policy that the domain's policy host serves now (RFC 8461 3.3). Raises StsFailed."""
    host = f"mta-sts.{domain}"
    try:
        addresses = await resolve_host(host, port, FETCH_SECONDS, dns)
        url = f"https://{Endpoint(addresses[0], port)}{PATH}"
        status, octets = await fetch(
            "GET", url, seconds=FETCH_SECONDS, limit=MAX_POLICY, trust=trust, server_name=host, headers={"Host": host}
        )
    except SessionFailed as error:
        raise StsFailed(error.text) from error
    except WebFailed as error:
        raise StsFailed(f"{host}: {error}") from error
    if status != 200:
        raise StsFailed(f"{host} answers {status}")
    return parse_policy(octets.decode("utf-8", "replace"))


class StsPolicies:
    """The policies of domains, kept in `file` over restarts, if there is one.

    `now` gives seconds since 1970; `trust` is by what policy hosts are believed, `port` where they listen.
    """

    def __init__(self, file: Path | None, now: Callable[[], float], dns: str, trust: str, port: int = HTTPS) -> None:
        self._file = file
        self._now = now
        self._dns, self._trust, self._port = dns, trust, port
        self._kept = _read(file) if file is not None else {}
        self._writing = asyncio.Lock()

    async def find(self, domain: str, seconds: float) -> tuple[StsPolicy | None, str]:
        """The policy in force for a domain, and why no newer one could be fetched, if that failed."""
        now, kept = self._now(), self._kept.get(domain)
        if kept is not None and not kept.counts(now):
            kept = None
        ids = await self._ids(domain, seconds)
        if len(ids) != 1 or not _ID.fullmatch(ids[0]) or (kept is not None and kept.id == ids[0]):
            return _effective(kept), "" if len(ids) < 2 else f"{domain} has {len(ids)} records of MTA-STS"
        try:
            fetched = await fetch_policy(domain, self._dns, self._trust, self._port)
        except StsFailed as error:
            return _effective(kept), str(error)
        policy = StsPolicy(fetched.mode, fetched.mx, fetched.max_age, ids[0], now)
        await self._keep(domain, policy)
        return _effective(policy), ""

    async def _ids(self, domain: str, seconds: float) -> list[str]:
        """The ids in the records of a domain; with none or several, no new policy is looked for (RFC 8461 3.1)."""
        answer = await ask(f"_mta-sts.{domain}", "TXT", seconds, self._dns)
        return [_id(text) for text in answer.strings if text.startswith("v=STSv1")]

    async def _keep(self, domain: str, policy: StsPolicy) -> None:
        self._kept.pop(domain, None)
        self._kept[domain] = policy
        while len(self._kept) > MAX_KEPT:
            del self._kept[next(iter(self._kept))]
        if self._file is None:
            return
        async with self._writing:  # in a thread: a new file for many domains takes longer than the loop may stand still
            kept = dict(self._kept)
            with contextlib.suppress(OSError):  # on a full disk, say: it is fetched again after a restart
                await asyncio.to_thread(_write, self._file, kept)


def _id(text: str) -> str:
    """The id in a record; empty where it has none (RFC 8461 3.1)."""
    try:
        return parse_tags(text).get("id", "")
    except BadTags:
        return ""


def _effective(policy: StsPolicy | None) -> StsPolicy | None:
    return None if policy is None or policy.mode == "none" else policy


def _write(file: Path, kept: Mapping[str, StsPolicy]) -> None:
    put_file(file, json.dumps({domain: asdict(policy) for domain, policy in kept.items()}))


def _read(file: Path) -> dict[str, StsPolicy]:
    try:
        kept = json.loads(file.read_text())
        return {name: StsPolicy(**{**result, "mx": tuple(result["mx"])}) for name, result in kept.items()}
    except (OSError, ValueError, TypeError, KeyError, AttributeError):
        return {}  # none was kept, or what was is damaged: policies are fetched anew
