"""The signatures of a received message, checked with the keys in DNS (RFC 6376 6, RFC 8617)."""

from __future__ import annotations

import asyncio
from typing import NamedTuple

from copper_kite.mail import (
    BadTags,
    Signature,
    SignatureResult,
    SignedMessage,
    author_domain,
    check_signature,
    header_fields,
    parse_signatures,
    parse_tags,
)
from copper_kite.net import Found, Lookups
from copper_kite.verdict import Verdict
from copper_kite.words import Side

__all__ = ["SignatureChecks", "check_signatures", "signatures_verdict"]


class SignatureChecks(NamedTuple):
    """The result of each signature of a message, the newest first; the domain of its From; and the domains that sealed
    it (ARC), in order: seals are shown, and not checked."""

    results: list[SignatureResult]
    author_domain: str
    sealed_by: list[str]


async def check_signatures(content: bytes, lookups: Lookups, now: float) -> SignatureChecks:
    """Check all signatures of a message; lines may end with LF alone. `now` in seconds since 1970."""
    if b"\r\n" not in content:
        content = content.replace(b"\n", b"\r\n")
    message = SignedMessage(content)
    signatures = parse_signatures(message)
    results = list(await asyncio.gather(*(_check(message, signature, lookups, now) for signature in signatures)))
    header = b"\r\n".join([*message.fields, b""])
    return SignatureChecks(results, author_domain(header), _seals(header))


async def _check(message: SignedMessage, signature: Signature, lookups: Lookups, now: float) -> SignatureResult:
    if signature.problem:
        return check_signature(message, signature, [], now)
    answer = await lookups.ask(signature.key_name, "TXT")
    if answer.found is Found.FAILED:
        return SignatureResult(signature, "temperror", f"its key cannot be looked up: {answer.problem}")
    return await asyncio.to_thread(check_signature, message, signature, answer.strings, now)


def _seals(header: bytes) -> list[str]:
    """The domains in ARC-Seal fields, by their instance."""
    seals = []
    for name, value in header_fields(header):
        if name == "arc-seal":
            try:
                tags = parse_tags(value)
            except BadTags:
                continue
            seals.append((int(tags["i"]) if tags.get("i", "").isdecimal() else 0, tags.get("d", "?")))
    return [domain for _, domain in sorted(seals)]


NOT_SIGNED = Verdict(Side.HERE, "It is not signed.", "no DKIM-Signature field in its header", "kite signing list")


def signatures_verdict(checks: SignatureChecks) -> Verdict:
    """Whether receivers know who the message is from, and what stands against it."""
    domain, results = checks.author_domain, checks.results
    passing = [result for result in results if result.result == "pass"]
    own = [result for result in passing if _is_of(domain, result.signature.domain)]
    if own:
        signer = own[0].signature
        return Verdict(
            None, f"It is signed by {signer.domain}, the domain that it is from.", f"selector {signer.selector}"
        )
    if passing:
        signer = passing[0].signature
        author = domain or "an unknown domain"
        meaning = f"It is signed by {signer.domain}, and from {author}: that proves nothing about its author."
        return Verdict(Side.HERE, meaning, f"selector {signer.selector}", "kite signing list")
    return _verdict_of_failed(results[0]) if results else NOT_SIGNED


def _verdict_of_failed(result: SignatureResult) -> Verdict:
    domain, evidence = result.signature.domain, "; ".join(filter(None, (result.why, result.changed)))
    if result.result == "temperror":
        return Verdict(Side.PATH, "Its signature cannot be checked now.", evidence, "cat /etc/resolv.conf")
    if result.result == "fail" and result.changed:
        advice = "a server on its way changed it after it was signed"
        return Verdict(Side.BEYOND, f"The signature of {domain} does not hold.", evidence, "", advice)
    worth = "does not hold" if result.result == "fail" else "cannot be used"
    command = f"kite domain {domain}" if domain else "kite signing list"
    return Verdict(Side.HERE, f"The signature of {domain or 'an unknown domain'} {worth}.", evidence, command)


def _is_of(author: str, signer: str) -> bool:
    return author == signer or author.endswith("." + signer)
