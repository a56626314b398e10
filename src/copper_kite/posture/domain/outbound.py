"""Whether receivers believe that mail from a domain may come from where it comes from: SPF and reverse DNS."""

from __future__ import annotations

import asyncio
import ipaddress
from collections.abc import AsyncIterator, Iterator, Sequence

from copper_kite.net import Found
from copper_kite.posture.domain.model import DomainReport, Grade, Line, Question, TxtRecord
from copper_kite.posture.spf import MAX_LOOKUPS, MAX_VOID, SpfNode, evaluate, survey
from copper_kite.settings import Connector

__all__ = ["envelope_domain", "reverse_names", "spf_lines", "spf_terms", "spf_verdicts", "wanted_record"]

MAX_NAMES = 10  # of an address that are followed (RFC 7208 5.5)
LONGEST_RECORD = 450  # octets that fit into any answer (RFC 7208 3.4)


def envelope_domain(connector: Connector, domain: str) -> str:
    """The domain in the reverse-path of mail from `domain` that leaves through a connector."""
    return connector.sender.rpartition("@")[2].lower() if connector.sender else domain


def spf_terms(question: Question) -> list[str]:
    """The sources that the domain's record must name: our own addresses where we send directly, and each smart host."""
    terms: list[str] = []
    for connector in question.loaded.settings.connector:
        if not connector.enabled or envelope_domain(connector, question.domain) != question.domain:
            continue
        if connector.mx:
            terms += [f"ip{ipaddress.ip_address(address).version}:{address}" for address in question.addresses]
        elif connector.spf:
            terms.append(connector.spf)
    return list(dict.fromkeys(terms))


def wanted_record(question: Question, present: str = "") -> TxtRecord | None:
    """The SPF record to publish: the present one with what it lacks before its last word, or a new one."""
    terms = spf_terms(question)
    if not terms and not present:
        return None
    words = (present or "v=spf1 -all").split()
    missing = [term for term in terms if term.lower() not in [word.lower().lstrip("+") for word in words]]
    place = next((n for n, word in enumerate(words) if word.lower().lstrip("+-~?") == "all"), len(words))
    return TxtRecord(question.domain, " ".join([*words[:place], *missing, *words[place:]]))


async def spf_lines(question: Question, report: DomainReport) -> AsyncIterator[Line]:
    """The record itself and all that it includes."""
    domain = question.domain
    node = await survey(question.lookups, domain)
    report.spf_tree = list(_tree(node))
    if node.unanswered:
        yield Line("SPF", domain, Grade.UNKNOWN, node.problem, unanswered=True)
        return
    if node.record is None:
        grade = Grade.MISSING if node.missing else Grade.WRONG
        yield Line("SPF", domain, grade, node.problem, wanted_record(question) if grade is Grade.MISSING else None)
        return
    secure = (await question.lookups.ask(domain, "TXT")).secure
    problems = [line for item in node.walk() for line in _problems(item, domain)]
    for text, grade in [*problems, *_limits(node)]:
        yield Line("SPF", domain, grade, text)
    if not any(grade.bad for _, grade in problems):
        used = f"{node.lookups} of {MAX_LOOKUPS} lookups, {node.void} of {MAX_VOID} void"
        yield Line("SPF", domain, Grade.GOOD, f"{node.record.text}  ({used})", secure=secure)


def _problems(node: SpfNode, top: str) -> Iterator[tuple[str, Grade]]:
    where = "" if node.domain == top else f"{node.domain}, which it includes: "
    if node.record is None:
        yield f"{where}{node.problem}", Grade.UNKNOWN if node.unanswered else Grade.WRONG
        return
    for place, text in node.record.problems:
        yield f"{where}at character {place}: {text}", Grade.WRONG
    kinds = {mechanism.kind for mechanism in node.record.mechanisms}
    if any(mechanism.kind == "all" and mechanism.result == "pass" for mechanism in node.record.mechanisms):
        yield f"{where}+all lets anybody send in your name", Grade.WRONG
    if "ptr" in kinds:
        yield f"{where}ptr is slow, and some receivers ignore it (RFC 7208 5.5)", Grade.REMARK
    if len(node.record.text) > LONGEST_RECORD:
        yield f"{where}{len(node.record.text)} octets; over {LONGEST_RECORD} some resolvers lose it", Grade.REMARK
    last = node.record.mechanisms[-1] if node.record.mechanisms else None
    if node.domain == top and not node.record.redirect and (last is None or last.kind != "all"):
        yield "it has no `all` at its end: other senders are neutral, as without a record", Grade.REMARK


def _limits(node: SpfNode) -> Iterator[tuple[str, Grade]]:
    if node.lookups > MAX_LOOKUPS:
        yield f"{node.lookups} lookups, and {MAX_LOOKUPS} are allowed: receivers treat it as an error", Grade.WRONG
    if node.void > MAX_VOID:
        found_nothing = "; ".join(node.voids)
        yield f"{node.void} lookups that find nothing, and {MAX_VOID} are allowed: {found_nothing}", Grade.WRONG


def _tree(node: SpfNode, depth: int = 0, term: str = "") -> Iterator[str]:
    text = node.record.text if node.record is not None else node.problem
    yield f"{'  ' * depth}{term or node.domain}: {text}"
    for child_term, child in node.children:
        yield from _tree(child, depth + 1, child_term)


async def spf_verdicts(question: Question) -> dict[str, tuple[str, str, TxtRecord | None]]:
    """For each enabled connector the SPF result of what leaves through it, why, and the record that would mend it."""
    connectors = [entry for entry in question.loaded.settings.connector if entry.enabled]
    verdicts = await asyncio.gather(*(_verdict(question, entry) for entry in connectors))
    return {entry.name: verdict for entry, verdict in zip(connectors, verdicts, strict=True)}


async def _verdict(question: Question, connector: Connector) -> tuple[str, str, TxtRecord | None]:
    domain = envelope_domain(connector, question.domain)
    if connector.mx:
        return await _from_here(question, domain)
    if not connector.spf:
        why = f"the addresses of {connector.where} are unknown; its provider says what SPF records must include"
        return "unknown", f"{why}: kite connector set {connector.name} spf=include:…", None
    node = await survey(question.lookups, domain)
    if node.unanswered:
        return "temperror", node.problem, None
    if node.record is None:
        return "none", f"{domain}: {node.problem}", wanted_record(question) if domain == question.domain else None
    named = {
        mechanism.text.lower().lstrip("+")
        for each in node.walk()
        if each.record
        for mechanism in each.record.mechanisms
    }
    if connector.spf.lower() in named:
        return "pass", f"the record of {domain} names {connector.spf}", None
    mended = wanted_record(question, node.record.text) if domain == question.domain else None
    return "fail", f"the record of {domain} does not name {connector.spf}", mended


async def _from_here(question: Question, domain: str) -> tuple[str, str, TxtRecord | None]:
    if not question.addresses:
        return "unknown", "set [server] addresses to those that connections from here come from", None
    hello = question.loaded.server_name
    results = [await evaluate(question.lookups, address, domain, hello=hello) for address in question.addresses]
    for address, result in zip(question.addresses, results, strict=True):
        if result.result != "pass":
            by = f" by {result.mechanism} in the record of {result.domain}" if result.mechanism else ""
            node = await survey(question.lookups, domain)
            mended = wanted_record(question, node.usable_text) if domain == question.domain else None
            return (
                result.result,
                f"mail from {address}: {result.result}{by}{': ' * bool(result.why)}{result.why}",
                mended,
            )
    first = results[0]
    return "pass", f"{', '.join(question.addresses)}: pass by {first.mechanism} of {first.domain}", None


async def reverse_names(question: Question) -> AsyncIterator[Line]:
    """The names of our addresses, and whether they lead back to them; likewise the name that we say in EHLO."""
    hello = question.loaded.server_name.lower()
    for line in await asyncio.gather(*(_reverse(question, address, hello) for address in question.addresses)):
        yield line
    if not question.addresses:
        return
    answered = await question.lookups.addresses(hello)
    strange = _missing(question.addresses, answered)
    if not answered:
        yield Line("EHLO name", hello, Grade.MISSING, "it has no address, and receivers check that")
    elif strange:
        yield Line(
            "EHLO name", hello, Grade.WRONG, f"it resolves to {', '.join(answered)}, and not to {', '.join(strange)}"
        )
    else:
        yield Line("EHLO name", hello, Grade.GOOD, ", ".join(answered))


async def _reverse(question: Question, address: str, hello: str) -> Line:
    pointer = ipaddress.ip_address(address).reverse_pointer
    answer = await question.lookups.ask(pointer, "PTR")
    if answer.found is Found.FAILED:
        return Line.no_answer("reverse DNS", address, answer.problem)
    if answer.found is not Found.RECORDS:
        text = f"it has no name, and large receivers refuse such mail; its provider can set {pointer}. IN PTR {hello}."
        return Line("reverse DNS", address, Grade.MISSING, text)
    for name in answer.names[:MAX_NAMES]:
        if not _missing([address], await question.lookups.addresses(name)):
            if name == hello:
                return Line("reverse DNS", address, Grade.GOOD, f"{name}, and back", secure=answer.secure)
            text = f"{name}, and back; EHLO has {hello}, which some receivers reject"
            return Line("reverse DNS", address, Grade.REMARK, text)
    text = f"{', '.join(answer.names)}, which does not resolve to the address"
    return Line("reverse DNS", address, Grade.WRONG, text)


def _missing(addresses: Sequence[str], answered: Sequence[str]) -> list[str]:
    there = {ipaddress.ip_address(address) for address in answered}
    return [address for address in addresses if ipaddress.ip_address(address) not in there]
