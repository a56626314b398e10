"""The result of a record for one address (RFC 7208 4, 5)."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from copper_kite.net import DnsAnswer, Found, Lookups
from copper_kite.posture.spf.macros import Subject, expand
from copper_kite.posture.spf.record import LOOKING_UP, Mechanism, SpfRecord, parse_record, select_record

__all__ = ["MAX_LOOKUPS", "MAX_VOID", "SpfResult", "evaluate"]

MAX_LOOKUPS = 10  # terms that look something up (RFC 7208 4.6.4)
MAX_VOID = 2  # lookups that find nothing
MAX_SECONDS = 20.0  # for all of it
MAX_NAMES = 10  # of MX hosts, or of PTR records


@dataclass(frozen=True, slots=True)
class SpfResult:
    """`pass`, `fail`, `softfail`, `neutral`, `none`, `temperror` or `permerror`; by which mechanism, in the record of
    which domain; or why it could not be told. How many lookups it took."""

    result: str
    mechanism: str = ""
    domain: str = ""
    why: str = ""
    lookups: int = 0
    void: int = 0


class _Stop(Exception):
    """The evaluation ends with an error."""

    def __init__(self, result: str, why: str) -> None:
        super().__init__(why)
        self.result = result


@dataclass(slots=True)
class _Evaluation:
    """The state of one evaluation."""

    ask: Callable[[str, str], Awaitable[DnsAnswer]]
    subject: Subject
    lookups: int = 0
    void: int = 0

    async def check(self, domain: str) -> tuple[str, str, str]:
        """The result for a domain, the mechanism that decided, and the domain whose record it stands in."""
        record = await self._record(domain)
        if record is None:
            return "none", "", domain
        for mechanism in record.mechanisms:
            if await self._matches(mechanism, domain):
                return mechanism.result, mechanism.text, domain
        if record.redirect:
            self._count(f"redirect={record.redirect}")
            target = expand(record.redirect, self.subject, domain)
            result, matched, where = await self.check(target)
            if result == "none":
                raise _Stop("permerror", f"redirect={target}: it has no SPF record")
            return result, matched, where
        return "neutral", "", domain

    async def _record(self, domain: str) -> SpfRecord | None:
        answer = await self.ask(domain, "TXT")
        if answer.found is Found.FAILED:
            raise _Stop("temperror", f"{domain}: {answer.problem}")
        texts = select_record(answer.strings)
        if len(texts) > 1:
            raise _Stop("permerror", f"{domain} has {len(texts)} SPF records, and may have one")
        if not texts:
            return None
        record = parse_record(texts[0])
        if record.problems:
            place, text = record.problems[0]
            raise _Stop("permerror", f"the record of {domain}, at character {place}: {text}")
        return record

    def _count(self, what: str) -> None:
        self.lookups += 1
        if self.lookups > MAX_LOOKUPS:
            raise _Stop("permerror", f"more than {MAX_LOOKUPS} lookups, at {what}")

    async def _matches(self, mechanism: Mechanism, domain: str) -> bool:
        kind = mechanism.kind
        if kind == "all":
            return True
        if kind in ("ip4", "ip6"):
            return self.subject.address in ipaddress.ip_network(mechanism.value)
        if kind in LOOKING_UP:
            self._count(mechanism.text)
        target = expand(mechanism.value, self.subject, domain) if mechanism.value else domain
        if kind == "include":
            return await self._included(target)
        if kind == "exists":
            return (await self._look(target, "A")).found is Found.RECORDS
        if kind == "ptr":
            return await self._points_to(target)
        names = [target] if kind == "a" else await self._exchangers(target, mechanism)
        return await self._any_has(names, mechanism)

    async def _included(self, target: str) -> bool:
        result, _, _ = await self.check(target)
        if result == "none":
            raise _Stop("permerror", f"include:{target}: it has no SPF record")
        return result == "pass"

    async def _exchangers(self, target: str, mechanism: Mechanism) -> list[str]:
        answer = await self._look(target, "MX")
        if len(answer.records) > MAX_NAMES:
            raise _Stop("permerror", f"{mechanism.text}: {target} has more than {MAX_NAMES} MX hosts")
        return [str(record.exchange).rstrip(".") for record in answer.records]

    async def _any_has(self, names: list[str], mechanism: Mechanism) -> bool:
        kind, length = self._kind(), mechanism.four if self.subject.address.version == 4 else mechanism.six
        network = ipaddress.ip_network(f"{self.subject.address}/{length}", strict=False)
        for name in names:
            answer = await self._look(name, kind) if name else None
            if answer is not None and any(ipaddress.ip_address(record.address) in network for record in answer.records):
                return True
        return False

    async def _points_to(self, target: str) -> bool:
        """RFC 7208 5.5: a name of the address, which leads back to it and lies in the domain."""
        answer = await self._look(self.subject.address.reverse_pointer, "PTR", fails=False)
        for name in answer.names[:MAX_NAMES]:
            if name == target.lower() or name.endswith("." + target.lower()):
                back = await self._look(name, self._kind(), fails=False)
                if any(ipaddress.ip_address(record.address) == self.subject.address for record in back.records):
                    return True
        return False

    def _kind(self) -> str:
        return "A" if self.subject.address.version == 4 else "AAAA"

    async def _look(self, name: str, kind: str, *, fails: bool = True) -> DnsAnswer:
        answer = await self.ask(name, kind)
        if answer.found is Found.FAILED and fails:
            raise _Stop("temperror", f"{name}: {answer.problem}")
        if answer.found in (Found.NONE, Found.NO_NAME):
            self.void += 1
            if self.void > MAX_VOID:
                raise _Stop("permerror", f"more than {MAX_VOID} lookups that find nothing, at {name}")
        return answer


async def evaluate(lookups: Lookups, address: str, domain: str, sender: str = "", hello: str = "") -> SpfResult:
    """The result of mail from `address` with a sender of `domain` (RFC 7208 4)."""
    subject = Subject(ipaddress.ip_address(address), sender or f"postmaster@{domain}", hello)
    evaluation = _Evaluation(lookups.ask, subject)
    try:
        async with asyncio.timeout(MAX_SECONDS):
            result, mechanism, where = await evaluation.check(domain)
    except TimeoutError:
        return SpfResult("temperror", why=f"no result in {MAX_SECONDS:g} s", lookups=evaluation.lookups)
    except _Stop as stop:
        return SpfResult(stop.result, why=str(stop), lookups=evaluation.lookups, void=evaluation.void)
    return SpfResult(result, mechanism, where, "", evaluation.lookups, evaluation.void)
