"""Resolve names to addresses and mail exchangers; `dns` names the resolver, as in `records`."""

from __future__ import annotations

import asyncio
import ipaddress
import socket

from copper_kite.net.failure import SessionFailed
from copper_kite.net.records import SYSTEM, DnsAnswer, Found, ask
from copper_kite.words import Cause, Stage

__all__ = ["mail_exchangers", "resolve_host"]

_NOT_FOUND = {socket.EAI_NONAME, getattr(socket, "EAI_NODATA", socket.EAI_NONAME)}


async def resolve_host(host: str, port: int, seconds: float, dns: str = SYSTEM) -> list[str]:
    """The addresses of `host`, each once, within `seconds`; in the system's order, or IPv6 before IPv4.

    Raises SessionFailed at the stage `resolve`.
    """
    if dns != SYSTEM and not _is_address(host):
        results = [address for kind in ("AAAA", "A") for address in (await _query(host, kind, seconds, dns)).texts]
        if not results:
            raise _failed(Cause.NAME_NOT_FOUND, f"{host}: no address")
        return list(dict.fromkeys(results))
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


async def mail_exchangers(domain: str, seconds: float, dns: str = SYSTEM) -> tuple[list[tuple[int, str]], bool]:
    """The MX records of `domain` as (preference, host), in no order; none where the domain exists without any. And
    whether DNSSEC vouches for them.

    An alias is followed (RFC 5321 5.1). Raises SessionFailed: DOMAIN_NOT_FOUND where there is no such domain,
    NAME_LOOKUP_FAILED where nobody can tell.
    """
    results = []
    answer = await _query(domain, "MX", seconds, dns)
    for text in answer.texts:
        preference, _, host = text.partition(" ")
        results.append((int(preference), host.removesuffix(".").lower() or "."))
    return results, answer.secure


def _failed(cause: Cause, text: str) -> SessionFailed:
    return SessionFailed(Stage.RESOLVE, cause, text)


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


async def _query(name: str, kind: str, seconds: float, dns: str) -> DnsAnswer:
    """The records; none where the name has none of this kind. Raises SessionFailed."""
    answer = await ask(name, kind, seconds, dns)
    if answer.found is Found.NO_NAME:
        missing = Cause.DOMAIN_NOT_FOUND if kind == "MX" else Cause.NAME_NOT_FOUND
        raise _failed(missing, f"{name}: no such name in DNS")
    if answer.found is Found.FAILED:
        raise _failed(Cause.NAME_LOOKUP_FAILED, f"{name}: {answer.problem}".lower())
    return answer
