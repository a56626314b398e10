"""Records to publish for a configuration, and published records compared with the expected ones."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from copper_kite.errors import InputError
from copper_kite.mail import KeyUnusable, key_record
from copper_kite.net import Found, Lookups
from copper_kite.posture.domain.authenticity import find_dmarc, first_policy
from copper_kite.posture.domain.model import Question, TxtRecord
from copper_kite.posture.domain.outbound import wanted_record
from copper_kite.posture.spf import survey
from copper_kite.settings import Loaded, Signing, key_of

__all__ = ["Difference", "compare_published", "key_records", "records_to_publish"]


class Difference(NamedTuple):
    """A name and kind of which something else is published than was expected; `why` where DNS gives no answer."""

    name: str
    kind: str
    expected: tuple[str, ...]
    published: tuple[str, ...]
    why: str = ""


def key_records(loaded: Loaded, entries: Iterable[Signing]) -> list[TxtRecord]:
    """The records of signing keys; those whose key cannot be read are left out."""
    records = []
    for entry in entries:
        try:
            records.append(TxtRecord(entry.record_name, key_record(key_of(loaded.path, entry))))
        except KeyUnusable:
            continue
    return records


async def records_to_publish(questions: Sequence[Question]) -> list[str]:
    """Lines of a zone file with all that the configuration needs; what is published already and is good stays in it."""
    lines: list[str] = []
    for question in questions:
        node = await survey(question.lookups, question.domain)
        wanted = wanted_record(question, node.usable_text)
        records = [wanted] if wanted is not None else []
        own = [entry for entry in question.loaded.settings.signing if entry.domain == question.domain]
        records += key_records(question.loaded, own)
        policy = await find_dmarc(question, question.domain)
        if policy is None or policy.problem:
            records.append(first_policy(question.domain))
        lines += [f"; {question.domain}", *(record.line for record in records)]
    return lines


async def compare_published(file: Path, lookups: Lookups) -> tuple[list[Difference], int]:
    """The differences from a zone file with full names, and the number of its record sets."""
    wanted = _record_sets(file)
    answers = await asyncio.gather(*(lookups.ask(name, kind) for name, kind, _ in wanted))
    differences = []
    for (name, kind, expected), answer in zip(wanted, answers, strict=True):
        published = tuple(sorted(map(_plain, answer.records)))
        if answer.found is Found.FAILED:
            differences.append(Difference(name, kind, expected, (), f"no answer from DNS: {answer.problem}"))
        elif published != expected:
            differences.append(Difference(name, kind, expected, published))
    return differences, len(wanted)


def _record_sets(file: Path) -> list[tuple[str, str, tuple[str, ...]]]:
    """Name, kind and records of all sets in a zone file, but for what signing a zone adds. Raises InputError."""
    from dns.exception import DNSException
    from dns.rdatatype import RRSIG, SOA, to_text
    from dns.zone import from_text

    try:
        zone = from_text(file.read_text("utf-8"), origin=".", relativize=False, check_origin=False)
    except (DNSException, UnicodeDecodeError) as error:
        raise InputError(f"{file} is not a zone file: {error}") from error
    return [
        (str(name).rstrip("."), to_text(records.rdtype), tuple(sorted(map(_plain, records))))
        for name, node in zone.nodes.items()
        for records in node.rdatasets
        if records.rdtype not in (SOA, RRSIG)
    ]


def _plain(record: object) -> str:
    """A record without the ways in which the same can be written."""
    strings = getattr(record, "strings", None)
    if strings is not None:
        return b"".join(strings).decode("utf-8", "replace")
    return str(record).lower()
