"""Every check of a sending domain that a receiver makes in DNS."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Iterator, Sequence

from copper_kite.net import Lookups
from copper_kite.posture.domain.authenticity import alignment, dkim_lines, dmarc_lines
from copper_kite.posture.domain.inbound import exchangers, policies
from copper_kite.posture.domain.lists import list_lines
from copper_kite.posture.domain.model import DomainReport, Grade, Line, Question
from copper_kite.posture.domain.outbound import reverse_names, spf_lines, spf_verdicts
from copper_kite.settings import Loaded

__all__ = ["examine_domains", "own_addresses", "sending_domains"]

SOON_DAYS = 21  # before a certificate ends, it is worth a word
SPF_GRADES = {"pass": Grade.GOOD, "unknown": Grade.UNKNOWN, "temperror": Grade.UNKNOWN}


def sending_domains(loaded: Loaded) -> list[str]:
    """The domains that mail from here is from, as the configuration names them."""
    settings = loaded.settings
    addresses = [*settings.identity.senders.values(), *(entry.sender for entry in settings.connector)]
    addresses += [pattern for account in settings.account for pattern in account.senders]
    named = [settings.identity.domain or "", *(address.rpartition("@")[2] for address in addresses)]
    named += [entry.domain for entry in settings.signing]
    return list(dict.fromkeys(name.lower() for name in named if "." in name and "*" not in name))


async def own_addresses(loaded: Loaded, lookups: Lookups) -> tuple[str, ...]:
    """The addresses in `[server] addresses`; else those of the server's own name."""
    named = tuple(map(str, loaded.settings.server.addresses))
    return named or tuple(await lookups.addresses(loaded.server_name))


async def examine_domains(
    domains: Sequence[str],
    loaded: Loaded,
    lookups: Lookups,
    now: float,
    selectors: Sequence[str] = (),
    certificates: Sequence[tuple[str, str, float]] = (),
) -> list[DomainReport]:
    """A report on each domain; `now` in seconds since 1970. `certificates` are those of the way, with their ends."""
    addresses = await own_addresses(loaded, lookups)
    named = tuple(dict.fromkeys((*loaded.settings.domain.selectors, *selectors)))
    shown = tuple(certificates)
    questions = [Question(domain, lookups, loaded, now, named, addresses, shown) for domain in domains]
    return list(await asyncio.gather(*map(_examine, questions)))


async def _examine(question: Question) -> DomainReport:
    report = DomainReport(question.domain)
    parts = asyncio.gather(
        _all(exchangers(question)),
        _all(spf_lines(question, report)),
        _all(dkim_lines(question)),
        _all(dmarc_lines(question)),
        _all(reverse_names(question)),
        _all(policies(question)),
        _all(list_lines(question)),
    )
    verdicts = await spf_verdicts(question)
    mx, spf, keys, dmarc, reverse, protection, lists = await parts
    spf += [
        Line("SPF", f"through {name}", SPF_GRADES.get(result, Grade.WRONG), why, publish)
        for name, (result, why, publish) in verdicts.items()
    ]
    results = {name: result for name, (result, _, _) in verdicts.items()}
    aligned = await _all(alignment(question, results, {line.of: line for line in keys}))
    dane = [line for line in mx if line.topic == "DANE"]
    report.lines = [line for line in mx if line.topic != "DANE"]
    report.lines += [*spf, *keys, *dmarc, *aligned, *reverse, *dane, *protection, *lists, *_certificates(question)]
    return report


def _certificates(question: Question) -> Iterator[Line]:
    for kind, name, end in question.certificates:
        days = (end - question.now) / 86400
        grade = Grade.WRONG if days < 0 else Grade.REMARK if days < SOON_DAYS else Grade.GOOD
        text = f"has ended {-days:.0f} days ago" if days < 0 else f"ends in {days:.0f} days"
        yield Line("certificate", f"{kind} {name}", grade, text)


async def _all(lines: AsyncIterator[Line]) -> list[Line]:
    return [line async for line in lines]
