"""Whether receivers believe who mail is from: DKIM keys (RFC 6376, 8463) and DMARC (RFC 7489)."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator
from typing import NamedTuple

from copper_kite.mail import (
    GOOD_RSA_BITS,
    BadTags,
    KeyUnusable,
    PublishedKey,
    SigningKey,
    key_record,
    parse_key_record,
    parse_tags,
)
from copper_kite.net import DnsAnswer, Found
from copper_kite.posture.domain.model import Grade, Line, Question, TxtRecord
from copper_kite.posture.domain.outbound import envelope_domain
from copper_kite.settings import Connector, Signing, key_of, signing_domain

__all__ = [
    "DmarcRecord",
    "alignment",
    "check_key",
    "dkim_lines",
    "dmarc_lines",
    "find_dmarc",
    "first_policy",
    "signing_entries",
]

LABELS = 8  # of a name, up to which DMARC records are looked for
_MAILTO = re.compile(r"mailto:[^@\s]+@([^!\s]+)(?:!\d+[kmgt]?)?", re.I)


def signing_entries(question: Question) -> list[Signing]:
    """The keys that sign for a domain: its own, or those of the nearest domain above it."""
    entries = question.loaded.settings.signing
    owner = signing_domain(question.domain, {entry.domain for entry in entries})
    return [entry for entry in entries if entry.domain == owner]


async def check_key(question: Question, entry: Signing) -> Line:
    """Whether the key of an entry is published as it is."""
    name = entry.record_name
    try:
        key = key_of(question.loaded.path, entry)
    except KeyUnusable as error:
        return Line("DKIM", name, Grade.WRONG, str(error))
    wanted = TxtRecord(name, key_record(key))
    answer = await question.lookups.ask(name, "TXT")
    line = _published(answer, name, wanted)
    if isinstance(line, Line):
        return line
    if (line.kind, line.octets) != (key.kind, key.public_octets):
        return Line("DKIM", name, Grade.WRONG, "another key is published than the one that signs", wanted)
    return _judged(line, name, answer, key)


def _published(answer: DnsAnswer, name: str, wanted: TxtRecord | None) -> PublishedKey | Line:
    if answer.found is Found.FAILED:
        return Line.no_answer("DKIM", name, answer.problem)
    if answer.found is not Found.RECORDS:
        return Line("DKIM", name, Grade.MISSING, "no key is published", wanted)
    if len(answer.strings) > 1:
        return Line("DKIM", name, Grade.WRONG, f"{len(answer.strings)} records, and there may be one", wanted)
    try:
        key = parse_key_record(answer.strings[0])
        if not key.revoked:
            key.public()
    except KeyUnusable as error:
        return Line("DKIM", name, Grade.WRONG, str(error), wanted)
    if key.revoked:
        return Line("DKIM", name, Grade.WRONG, "the key is revoked (p= is empty)", wanted)
    return key


def _judged(published: PublishedKey, name: str, answer: DnsAnswer, key: SigningKey | None) -> Line:
    kind = f"{published.kind} of {published.bits} bits" if published.kind == "rsa" else published.kind
    text = f"{kind}, {'the one that signs' if key else 'published'}"
    if published.kind == "rsa" and published.bits < GOOD_RSA_BITS:
        return Line("DKIM", name, Grade.REMARK, f"{text}; receivers ask for {GOOD_RSA_BITS} bits (RFC 8301)")
    if published.testing:
        return Line("DKIM", name, Grade.REMARK, f"{text}; t=y marks it as a test: remove that")
    return Line("DKIM", name, Grade.GOOD, text, secure=answer.secure)


async def dkim_lines(question: Question) -> AsyncIterator[Line]:
    """Our keys, and those of the selectors that were named."""
    entries = signing_entries(question)
    for line in await asyncio.gather(*(check_key(question, entry) for entry in entries)):
        yield line
    ours = {entry.record_name for entry in entries}
    for selector in question.selectors:
        name = f"{selector}._domainkey.{question.domain}"
        if name not in ours:
            answer = await question.lookups.ask(name, "TXT")
            key = _published(answer, name, None)
            yield key if isinstance(key, Line) else _judged(key, name, answer, None)
    if not entries and not question.selectors:
        text = f"nothing is signed: kite signing add {question.domain}; or name the selector of a smart host that signs"
        yield Line("DKIM", question.domain, Grade.MISSING, text)


class DmarcRecord(NamedTuple):
    """A DMARC record and the domain that has it; `tags` are empty where it cannot be read, and `problem` says why."""

    domain: str
    tags: dict[str, str]
    problem: str = ""
    secure: bool = False
    unanswered: bool = False

    def policy(self, domain: str) -> str:
        """The policy for mail from `domain`."""
        own = self.tags.get("p", "none").lower()
        return own if domain == self.domain else self.tags.get("sp", own).lower()


async def find_dmarc(question: Question, domain: str) -> DmarcRecord | None:
    """The record that counts for a domain: its own, or the nearest one above it. A failed lookup has a problem."""
    labels = domain.split(".")[-LABELS:]
    for place in range(len(labels) - 1):
        name = ".".join(labels[place:])
        answer = await question.lookups.ask(f"_dmarc.{name}", "TXT")
        if answer.found is Found.FAILED:
            return DmarcRecord(name, {}, answer.problem, unanswered=True)
        texts = [text for text in answer.strings if re.match(r"v\s*=\s*DMARC1\s*(;|$)", text)]
        if len(texts) > 1:
            return DmarcRecord(name, {}, f"{len(texts)} records, so that none counts")
        if texts:
            try:
                return DmarcRecord(name, parse_tags(texts[0]), secure=answer.secure)
            except BadTags as error:
                return DmarcRecord(name, {}, f"it cannot be read: {error}")
        if place == 0 and answer.strings:
            return DmarcRecord(name, {}, "the record does not begin with v=DMARC1")
    return None


def first_policy(domain: str) -> TxtRecord:
    """The record to begin with: no mail is refused, and reports show who sends in the domain's name."""
    return TxtRecord(f"_dmarc.{domain}", f"v=DMARC1; p=none; rua=mailto:postmaster@{domain}")


async def dmarc_lines(question: Question) -> AsyncIterator[Line]:
    """The policy, and whether reports about the domain can arrive."""
    domain = question.domain
    record = await find_dmarc(question, domain)
    name = f"_dmarc.{record.domain if record else domain}"
    if record is None:
        text = "none; large receivers require one from bulk senders"
        yield Line("DMARC", name, Grade.MISSING, text, first_policy(domain))
        return
    if record.unanswered:
        yield Line.no_answer("DMARC", name, record.problem)
        return
    if record.problem:
        yield Line("DMARC", name, Grade.WRONG, record.problem)
        return
    for line in _policy_lines(record, name, domain):
        yield line
    for tag in ("rua", "ruf"):
        for target in filter(None, record.tags.get(tag, "").split(",")):
            if (about := await _report_address(question, record, name, tag, target.strip())) is not None:
                yield about


def _policy_lines(record: DmarcRecord, name: str, domain: str) -> list[Line]:
    policies = ("none", "quarantine", "reject")
    if record.tags.get("p", "").lower() not in policies or record.tags.get("sp", "none").lower() not in policies:
        return [Line("DMARC", name, Grade.WRONG, f"p= and sp= are one of {', '.join(policies)}")]
    policy = record.policy(domain)
    text = "; ".join(f"{tag}={value}" for tag, value in record.tags.items())
    if policy == "none":
        return [Line("DMARC", name, Grade.REMARK, f"{text}  (p=none: mail that fails is still accepted)")]
    return [Line("DMARC", name, Grade.GOOD, text, secure=record.secure)]


async def _report_address(question: Question, record: DmarcRecord, name: str, tag: str, target: str) -> Line | None:
    match = _MAILTO.fullmatch(target)
    if match is None:
        return Line("DMARC", name, Grade.WRONG, f"{tag}={target[:80]} is not a mailto: address")
    other = match[1].lower().rstrip(".")
    if _related(other, record.domain):
        return None
    wanted = f"{record.domain}._report._dmarc.{other}"
    answer = await question.lookups.ask(wanted, "TXT")
    if any(text.startswith("v=DMARC1") for text in answer.strings):
        return Line("DMARC", name, Grade.GOOD, f"{other} agrees to receive its reports")
    text = f"{other} does not agree to receive reports about it (RFC 7489 7.1): it must publish a record"
    return Line("DMARC", name, Grade.WRONG, text, TxtRecord(wanted, "v=DMARC1"))


def _related(signer: str, other: str) -> bool:
    """Whether they are of one owner, as far as names tell: the same, or one below the other."""
    return signer == other or signer.endswith("." + other) or other.endswith("." + signer)


async def _aligned(question: Question, signer: str, mode: str) -> bool:
    """Identifier alignment (RFC 7489 3.1); the owner's domain is where the DMARC record above a name stands."""
    domain = question.domain
    if signer == domain:
        return True
    if mode == "s":
        return False
    above, other = await find_dmarc(question, domain), await find_dmarc(question, signer)
    if above is None or other is None:
        return _related(signer, domain)
    return above.domain == other.domain


async def alignment(question: Question, spf: dict[str, str], keys: dict[str, Line]) -> AsyncIterator[Line]:
    """For each connector, whether what leaves through it passes DMARC. `spf` holds the SPF result of each, `keys` the
    line of each DKIM key by its record's name."""
    record = await find_dmarc(question, question.domain)
    tags = record.tags if record else {}
    good = {name for name, line in keys.items() if line.grade in (Grade.GOOD, Grade.REMARK)}
    for connector in question.loaded.settings.connector:
        if connector.enabled:
            yield await _alignment_of(question, connector, spf[connector.name], tags, good)


async def _alignment_of(
    question: Question, connector: Connector, spf: str, tags: dict[str, str], good: set[str]
) -> Line:
    envelope = envelope_domain(connector, question.domain)
    author = envelope if connector.sender else question.domain
    reasons = []
    if spf == "pass" and await _aligned(question, envelope, tags.get("aspf", "r")):
        reasons.append("SPF")
    ours = [entry for entry in signing_entries(question) if entry.use == "sign" and entry.record_name in good]
    signs = connector.sign is not False and [e for e in ours if _in_domain(author, e.domain, tags.get("adkim", "r"))]
    theirs = [name for name in good if name.split("._domainkey.")[0] in question.selectors]
    if signs or theirs:
        reasons.append("DKIM" if signs else "DKIM, as the smart host signs")
    topic, of = "passes DMARC", f"through {connector.name}"
    if reasons:
        return Line(topic, of, Grade.GOOD, f"yes: {' and '.join(reasons)}")
    spf_says = f"SPF: {spf if spf != 'pass' else f'pass for {envelope}, which is another domain'}"
    signed = "DKIM: not signed" if connector.sign is False or not ours else "DKIM: signed by another domain"
    grade = Grade.UNKNOWN if spf == "unknown" else Grade.WRONG
    return Line(topic, of, grade, f"{'unknown' if grade is Grade.UNKNOWN else 'no'}: {spf_says}; {signed}")


def _in_domain(author: str, signer: str, mode: str) -> bool:
    return author == signer or (mode != "s" and author.endswith("." + signer))
