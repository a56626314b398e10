"""Whether block lists name our addresses or domains (RFC 5782)."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import AsyncIterator

from copper_kite.net import Found, Lookups
from copper_kite.posture.domain.model import Grade, Line, Question

__all__ = ["list_lines"]

# What a list must name, and what it must not, by what it lists (RFC 5782 2.4, 3, 5): 127.0.0.2, ::FFFF:7F00:2, TEST.
_MAPPED = "0.0.0.0.0.f.7.f.f.f.f" + ".0" * 20  # 127.0.0.0/8 in IPv6 form, from its second nibble on
TESTS = {
    "4": ("2.0.0.127", "1.0.0.127"),
    "6": (f"2.{_MAPPED}", f"1.{_MAPPED}"),
    "names": ("test", "invalid"),
}


async def list_lines(question: Question) -> AsyncIterator[Line]:
    """One line for each list: clean, or what it names and says; or that it does not work as lists must."""
    zones = question.loaded.settings.domain.lists
    for line in await asyncio.gather(*(_look(question, zone) for zone in zones)):
        yield line


async def _look(question: Question, zone: str) -> Line:
    lookups = question.lookups
    works = {kind for kind, (there, absent) in TESTS.items()
             if await _names(lookups, there, zone) and await _names(lookups, absent, zone) is False}  # fmt: skip
    if not works:
        text = "it does not name its test entries (RFC 5782 5): it is dead, or does not answer your resolver"
        return Line("block list", zone, Grade.UNKNOWN, text)
    wanted = [
        (address, _reversed(address))
        for address in question.addresses
        if str(ipaddress.ip_address(address).version) in works
    ]
    if "names" in works:
        wanted += [(name, name) for name in dict.fromkeys((question.domain, question.loaded.server_name.lower()))]
    results = {subject: await _names(lookups, label, zone) for subject, label in wanted}
    listed = [subject for subject, named in results.items() if named]
    if listed:
        said = (await lookups.ask(f"{dict(wanted)[listed[0]]}.{zone}", "TXT")).strings
        text = f"names {', '.join(listed)}{': ' * bool(said)}{' '.join(said)[:200]}"
        return Line("block list", zone, Grade.WRONG, text)
    if None in results.values():
        return Line("block list", zone, Grade.UNKNOWN, "it gives no answer that lists give")
    return Line("block list", zone, Grade.GOOD, f"does not name {', '.join(results) or 'anything'}")


def _reversed(address: str) -> str:
    pointer = ipaddress.ip_address(address).reverse_pointer
    return pointer.removesuffix(".in-addr.arpa").removesuffix(".ip6.arpa")


async def _names(lookups: Lookups, label: str, zone: str) -> bool | None:
    """Whether a list has an entry: an address in 127.0.0.0/8 (RFC 5782 2.1, 2.3). Others are of somebody who took over
    a dead list, and tell nothing."""
    answer = await lookups.ask(f"{label}.{zone}", "A")
    if answer.found in (Found.NONE, Found.NO_NAME):
        return False
    if answer.found is Found.FAILED or not all(
        ipaddress.ip_address(record.address).is_loopback for record in answer.records
    ):
        return None
    return True
