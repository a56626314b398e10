"""From names to addresses and mail exchangers: by the operating system, by a DNS server, or by a zone file.

`dns` says which: `system`, `ADDRESS` or `ADDRESS:PORT` of a server, or `zone:FILE` for trials without any network.
"""

from __future__ import annotations

import asyncio
import ipaddress
import socket
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from copper_kite.net.failure import SessionFailed
from copper_kite.words import Cause, Stage

if TYPE_CHECKING:
    from dns.zone import Zone

__all__ = ["SYSTEM", "ZONE", "mail_exchangers", "resolve_host"]

SYSTEM, ZONE = "system", "zone:"
MAX_ALIASES = 8  # CNAMEs followed, one after the other
_NOT_FOUND = {socket.EAI_NONAME, getattr(socket, "EAI_NODATA", socket.EAI_NONAME)}


async def resolve_host(host: str, port: int, seconds: float, dns: str = SYSTEM) -> list[str]:
    """The addresses of `host`, each once, within `seconds`; in the system's order, or IPv6 before IPv4.

    Raises SessionFailed at the stage `resolve`.
    """
    if dns != SYSTEM and not _is_address(host):
        found = [address for kind in ("AAAA", "A") for address in await _query(host, kind, seconds, dns)]
        if not found:
            raise _failed(Cause.NAME_NOT_FOUND, f"{host}: no address")
        return list(dict.fromkeys(found))
    try:
        async with asyncio.timeout(seconds):
            entries = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except TimeoutError as error:
        raise _failed(Cause.NAME_LOOKUP_FAILED, f"{host}: no answer from the resolver in {seconds:g} s") from error
    except UnicodeError as error:
        raise _failed(Cause.NAME_NOT_FOUND, f"{host}: not a host name") from error
    except socket.gaierror as error:
        cause = Cause.NAME_NOT_FOUND if error.errno in _NOT_FOUND else Cause.NAME_LOOKUP_FAILED
        raise _failed(cause, f"{host}: {error.strerror}".lower()) from error
    return list(dict.fromkeys(entry[4][0] for entry in entries if isinstance(entry[4][0], str)))


async def mail_exchangers(domain: str, seconds: float, dns: str = SYSTEM) -> list[tuple[int, str]]:
    """The MX records of `domain` as (preference, host), in no order; none where the domain exists without any.

    An alias is followed (RFC 5321 5.1). Raises SessionFailed: DOMAIN_NOT_FOUND where there is no such domain,
    NAME_LOOKUP_FAILED where nobody can tell.
    """
    found = []
    for text in await _query(domain, "MX", seconds, dns):
        preference, _, host = text.partition(" ")
        found.append((int(preference), host.removesuffix(".").lower() or "."))
    return found


def _failed(cause: Cause, text: str) -> SessionFailed:
    return SessionFailed(Stage.RESOLVE, cause, text)


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


async def _query(name: str, kind: str, seconds: float, dns: str) -> list[str]:
    """The records' texts; none where the name has none of this kind. Raises SessionFailed."""
    from dns.exception import DNSException
    from dns.resolver import NXDOMAIN, NoAnswer

    missing = Cause.DOMAIN_NOT_FOUND if kind == "MX" else Cause.NAME_NOT_FOUND
    try:
        if dns.startswith(ZONE):
            return _in_zone(_zone(dns.removeprefix(ZONE)), name, kind)
        return [record.to_text() for record in await _resolver(dns).resolve(name, kind, lifetime=seconds)]
    except NoAnswer:
        return []
    except (NXDOMAIN, UnicodeError) as error:
        raise _failed(missing, f"{name}: no such name in DNS") from error
    except (DNSException, OSError) as error:
        said = str(error).partition("\n")[0][:120] or type(error).__name__
        raise _failed(Cause.NAME_LOOKUP_FAILED, f"{name}: {said}".lower()) from error


def _resolver(dns: str) -> Any:
    from dns.asyncresolver import Resolver

    if dns == SYSTEM:
        return Resolver()
    host, _, port = dns.rpartition(":") if dns.count(":") == 1 or dns.startswith("[") else (dns, "", "53")
    resolver = Resolver(configure=False)
    resolver.nameservers, resolver.port = [host.strip("[]")], int(port)
    return resolver


@lru_cache(maxsize=8)
def _zone(file: str) -> Zone:
    """A zone file with names of any domain, written in full. Raises OSError, DNSException."""
    from dns.zone import from_file

    return from_file(file, origin=".", relativize=False, check_origin=False)


def _in_zone(zone: Zone, name: str, kind: str) -> list[str]:
    from dns import name as names
    from dns.resolver import NXDOMAIN

    place = names.from_text(name)
    for _ in range(MAX_ALIASES):
        node = zone.get_node(place)
        if node is None:
            raise NXDOMAIN
        records = zone.get_rdataset(place, kind)
        alias = zone.get_rdataset(place, "CNAME")
        if records is not None or alias is None:
            return [record.to_text() for record in records] if records is not None else []
        place = alias[0].target
    raise OSError("too many aliases, one after the other")
