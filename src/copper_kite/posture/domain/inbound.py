"""Where answers and notices to a domain go (RFC 5321 5.1, 7505), and what protects that way (RFC 7672, 8461, 8460)."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import AsyncIterator

from copper_kite.mail import BadTags, parse_tags
from copper_kite.net import DnsAnswer, Found, Tlsa
from copper_kite.posture.domain.model import Grade, Line, Question

__all__ = ["exchangers", "policies"]


async def exchangers(question: Question) -> AsyncIterator[Line]:
    """The MX hosts, whether each can be reached, and what TLSA records say of it."""
    domain, lookups = question.domain, question.lookups
    answer = await lookups.ask(domain, "MX")
    if answer.found is Found.FAILED:
        yield Line.no_answer("MX", domain, answer.problem)
        return
    if answer.found is Found.NO_NAME:
        yield Line("MX", domain, Grade.WRONG, "there is no such domain")
        return
    hosts = sorted((record.preference, str(record.exchange).rstrip(".").lower()) for record in answer.records)
    if not hosts:
        yield await _without_exchanger(question, secure=answer.secure)
        return
    if any(not host for _, host in hosts):
        text = "the domain accepts no mail (null MX): receivers refuse senders that cannot be answered"
        yield Line("MX", domain, Grade.WRONG, text)
        return
    looked_at = (_host(question, preference, host, answer) for preference, host in hosts)
    for line in await asyncio.gather(*looked_at, *(_tlsa(question, host, secure=answer.secure) for _, host in hosts)):
        yield line


async def _without_exchanger(question: Question, *, secure: bool) -> Line:
    if await question.lookups.addresses(question.domain):
        return Line("MX", question.domain, Grade.REMARK, "none; mail goes to the domain's own address", secure=secure)
    text = "none, and no address: answers and notices cannot arrive, and receivers refuse such senders"
    return Line("MX", question.domain, Grade.MISSING, text)


async def _host(question: Question, preference: int, host: str, answer: DnsAnswer) -> Line:
    of = f"{preference} {host}"
    try:
        ipaddress.ip_address(host)
    except ValueError:
        pass
    else:
        return Line("MX", of, Grade.WRONG, "an address stands where a name must (RFC 5321 5.1)")
    alias = await question.lookups.ask(host, "CNAME")
    if alias.found is Found.RECORDS:
        return Line("MX", of, Grade.WRONG, f"it is an alias of {alias.names[0]}, and must not be one (RFC 2181 10.3)")
    addresses = await question.lookups.addresses(host)
    if not addresses:
        return Line("MX", of, Grade.WRONG, "it has no address")
    return Line("MX", of, Grade.GOOD, ", ".join(addresses), secure=answer.secure)


async def _tlsa(question: Question, host: str, *, secure: bool) -> Line:
    answer = await question.lookups.ask(f"_25._tcp.{host}", "TLSA")
    if answer.found is not Found.RECORDS:
        return Line("DANE", host, Grade.REMARK, "no TLSA record: senders cannot verify the host by DANE")
    if not (answer.secure and secure):
        text = "a TLSA record without DNSSEC, or for a domain without it: senders ignore it"
        return Line("DANE", host, Grade.REMARK, text)
    usable = [record for record in map(Tlsa.of, answer.records) if record.usable]
    if not usable:
        return Line("DANE", host, Grade.WRONG, "no usable TLSA record: mail needs usage 2 or 3 (RFC 7672 3.1.3)")
    texts = ", ".join(f"{record.usage} {record.selector} {record.matching}" for record in usable)
    return Line("DANE", host, Grade.GOOD, f"TLSA {texts}", secure=True)


async def policies(question: Question) -> AsyncIterator[Line]:
    """The records that announce a policy for TLS, and where reports about it go."""
    yield await _tagged(
        question, "MTA-STS", "_mta-sts", "STSv1", "id", "senders without DANE do not know that TLS is required"
    )
    yield await _tagged(
        question, "TLS reports", "_smtp._tls", "TLSRPTv1", "rua", "you are not told when TLS to your MX fails"
    )


async def _tagged(question: Question, topic: str, label: str, version: str, needed: str, without: str) -> Line:
    name = f"{label}.{question.domain}"
    answer = await question.lookups.ask(name, "TXT")
    if answer.found is Found.FAILED:
        return Line.no_answer(topic, name, answer.problem)
    texts = [text for text in answer.strings if text.lower().startswith("v=")]
    if not texts:
        return Line(topic, name, Grade.REMARK, f"none: {without}")
    if len(texts) > 1:
        return Line(topic, name, Grade.WRONG, f"{len(texts)} records, so that none counts")
    try:
        tags = parse_tags(texts[0])
    except BadTags as error:
        return Line(topic, name, Grade.WRONG, f"it cannot be read: {error}")
    if tags.get("v") != version or not tags.get(needed):
        return Line(topic, name, Grade.WRONG, f"it must have v={version} and {needed}=")
    return Line(topic, name, Grade.GOOD, texts[0], secure=answer.secure)
