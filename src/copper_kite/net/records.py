"""Records in DNS: by the operating system's resolver, by a named one, or from a zone file.

`dns` says which: `system`, `ADDRESS` or `ADDRESS:PORT` of a server, or `zone:FILE` for trials without any network.
"""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dns.zone import Zone

__all__ = [
    "BOGUS",
    "SYSTEM",
    "ZONE",
    "DnsAnswer",
    "Found",
    "Lookups",
    "all_on_this_machine",
    "ask",
    "may_validate",
    "system_resolvers",
]

SYSTEM, ZONE = "system", "zone:"
MAX_ALIASES = 8  # CNAMEs followed, one after the other
BOGUS = "its DNSSEC signatures do not hold"
UDP_PAYLOAD = 1232  # octets of an answer by UDP that no network divides
AT_ONCE = 50  # questions in flight


class Found(StrEnum):
    """The outcome of a lookup."""

    RECORDS = "records"
    NONE = "no such record"  # the name is there, without records of this kind
    NO_NAME = "no such name"
    FAILED = "failed"  # nobody can tell; `problem` says why


@dataclass(frozen=True, slots=True)
class DnsAnswer:
    """The records of one kind at a name; `records` are dnspython's. `secure`: the resolver vouches for it (DNSSEC, RFC
    4035 3.2.3), and is one that may be believed. `canonical` is where aliases led."""

    name: str
    kind: str
    found: Found
    records: tuple[Any, ...] = ()
    secure: bool = False
    problem: str = ""
    canonical: str = ""

    @property
    def texts(self) -> list[str]:
        """The records as a zone file has them."""
        return [record.to_text() for record in self.records]

    @property
    def strings(self) -> list[str]:
        """The texts of TXT records, their parts joined."""
        return [b"".join(record.strings).decode("utf-8", "replace") for record in self.records]

    @property
    def names(self) -> list[str]:
        """The names that PTR or CNAME records lead to, in lower case and without the last dot."""
        return [_plain(record.target) for record in self.records]


class Lookups:
    """Questions to one resolver, each asked once; `seconds` is how long an answer may take. Not for long use: what it
    knows, it keeps."""

    def __init__(self, dns: str, seconds: float) -> None:
        self._dns = dns
        self._seconds = seconds
        self._asked: dict[tuple[str, str], asyncio.Task[DnsAnswer]] = {}
        self._turns = asyncio.Semaphore(AT_ONCE)

    async def ask(self, name: str, kind: str) -> DnsAnswer:
        """The records of a kind at a name."""
        key = (name.lower().rstrip("."), kind)
        if key not in self._asked:
            self._asked[key] = asyncio.ensure_future(self._ask(*key))
        return await asyncio.shield(self._asked[key])

    async def addresses(self, name: str) -> list[str]:
        """All addresses of a name."""
        answers = await asyncio.gather(self.ask(name, "AAAA"), self.ask(name, "A"))
        return [record.address for answer in answers for record in answer.records]

    async def _ask(self, name: str, kind: str) -> DnsAnswer:
        async with self._turns:
            return await ask(name, kind, self._seconds, self._dns)


def may_validate(dns: str) -> bool:
    """Whether the resolver may be believed on DNSSEC; that it validates at all is another matter."""
    return dns != SYSTEM or all_on_this_machine(system_resolvers())


async def ask(name: str, kind: str, seconds: float, dns: str = SYSTEM) -> DnsAnswer:
    """The records of `kind` at `name`, within `seconds`; aliases are followed."""
    from dns.exception import DNSException

    try:
        if dns.startswith(ZONE):
            return _in_zone(_zone(dns.removeprefix(ZONE)), name, kind)
        return await _resolve(name, kind, seconds, dns)
    except UnicodeError:
        return DnsAnswer(name, kind, Found.NO_NAME)
    except (DNSException, OSError) as error:
        said = str(error).partition("\n")[0][:120] or type(error).__name__
        return DnsAnswer(name, kind, Found.FAILED, problem=said.lower())


async def _resolve(name: str, kind: str, seconds: float, dns: str) -> DnsAnswer:
    """Ask a resolver. Raises DNSException, OSError."""
    from dns.resolver import NXDOMAIN, NoAnswer, NoNameservers

    resolver, believed = _resolver(dns)
    try:
        answer = await resolver.resolve(name, kind, lifetime=seconds, search=False)
        secure = believed and _is_authentic(answer.response)
        return DnsAnswer(name, kind, Found.RECORDS, tuple(answer), secure, canonical=_plain(answer.canonical_name))
    except NoAnswer as error:
        response = error.kwargs.get("response")
        secure = response is not None and believed and _is_authentic(response)
        return DnsAnswer(name, kind, Found.NONE, secure=secure)
    except NXDOMAIN as error:
        responses = list(error.kwargs.get("responses", {}).values())
        secure = bool(responses) and believed and all(map(_is_authentic, responses))
        return DnsAnswer(name, kind, Found.NO_NAME, secure=secure)
    except NoNameservers as error:
        problem = await _why_no_answer(error, resolver, name, kind, seconds) if believed else ""
        return DnsAnswer(name, kind, Found.FAILED, problem=problem or "the resolver got no answer (SERVFAIL)")


async def _why_no_answer(error: Any, resolver: Any, name: str, kind: str, seconds: float) -> str:
    """BOGUS where the answer is there when it is not validated (RFC 4035 3.2.2); what the servers said else."""
    from dns.exception import DNSException
    from dns.flags import CD

    resolver.flags |= CD
    try:
        await resolver.resolve(name, kind, lifetime=seconds, search=False, raise_on_no_answer=False)
    except (DNSException, OSError):
        said = {str(failure[3]).lower() for failure in error.kwargs.get("errors", ()) if failure[3]}
        return f"the resolver says {', '.join(sorted(said))}" if said else ""
    return BOGUS


def _plain(name: Any) -> str:
    return str(name).rstrip(".").lower()


def _is_authentic(response: Any) -> bool:
    from dns.flags import AD

    return bool(response.flags & AD)


def _resolver(dns: str) -> tuple[Any, bool]:
    """The resolver, and whether its word on DNSSEC may be believed: it is on this machine, or was named on purpose."""
    from dns.asyncresolver import Resolver
    from dns.flags import AD, DO, RD

    if dns == SYSTEM:
        resolver = Resolver()
        believed = all_on_this_machine(list(map(str, resolver.nameservers)))
    else:
        host, _, port = dns.rpartition(":") if dns.count(":") == 1 or dns.startswith("[") else (dns, "", "53")
        resolver, believed = Resolver(configure=False), True
        resolver.nameservers, resolver.port = [host.strip("[]")], int(port)
    if believed:
        resolver.use_edns(0, int(DO), UDP_PAYLOAD)
        resolver.flags = int(RD | AD)
    return resolver, believed


def system_resolvers() -> list[str]:
    """The resolvers of this machine, as its resolv.conf names them."""
    try:
        lines = Path("/etc/resolv.conf").read_text("utf-8", "replace").splitlines()
    except OSError:
        return []
    words = [line.split() for line in lines]
    return [line[1] for line in words if len(line) > 1 and line[0] == "nameserver"]


def all_on_this_machine(servers: Sequence[str]) -> bool:
    """Whether there are any, and all of them are here: then their word on DNSSEC may be believed."""
    return bool(servers) and all(map(_is_loopback, servers))


def _is_loopback(server: str) -> bool:
    try:
        return ipaddress.ip_address(server).is_loopback
    except ValueError:
        return False


@lru_cache(maxsize=8)
def _zone(file: str) -> Zone:
    """A zone file with names of any domain, written in full. Raises OSError, DNSException."""
    from dns.zone import from_file

    return from_file(file, origin=".", relativize=False, check_origin=False)


def _is_signed(zone: Zone, place: Any) -> bool:
    """Whether a name counts as signed: a DS record stands for it, or for a name above it."""
    return any(zone.get_rdataset(above, "DS") is not None for above in _upwards(place))


def _upwards(place: Any) -> Iterator[Any]:
    while len(place) > 1:
        yield place
        place = place.parent()


def _in_zone(zone: Zone, name: str, kind: str) -> DnsAnswer:
    from dns import name as names

    place = names.from_text(name)
    for _ in range(MAX_ALIASES):
        node = zone.get_node(place)
        if node is None:
            above = any(other.is_subdomain(place) for other in zone.nodes)  # RFC 8020: then the name is there, too
            return DnsAnswer(name, kind, Found.NONE if above else Found.NO_NAME, secure=_is_signed(zone, place))
        records = zone.get_rdataset(place, kind)
        alias = zone.get_rdataset(place, "CNAME")
        if records is not None or alias is None:
            result = Found.NONE if records is None else Found.RECORDS
            return DnsAnswer(name, kind, result, tuple(records or ()), _is_signed(zone, place), "", _plain(place))
        place = alias[0].target
    return DnsAnswer(name, kind, Found.FAILED, problem="too many aliases, one after the other")
