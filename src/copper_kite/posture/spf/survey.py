"""A record with all that it includes: the lookups it takes, its errors, and what is unwise in it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from copper_kite.net import Found, Lookups
from copper_kite.posture.spf.record import LOOKING_UP, SpfRecord, parse_record, select_record

__all__ = ["SpfNode", "survey"]

MAX_DEPTH = 10
NO_RECORD = "it has no SPF record"
MAX_RECORDS = 60  # looked at altogether: records may include each other without end


@dataclass(slots=True)
class SpfNode:
    """The record of one domain, and those that it leads to, each with the term that does. `lookups` counts all that an
    address costs which nothing matches; `void` those that find nothing. `unanswered`: nobody could tell the record."""

    domain: str
    record: SpfRecord | None = None
    problem: str = ""  # why there is none that can be used
    unanswered: bool = False
    lookups: int = 0
    void: int = 0
    children: list[tuple[str, SpfNode]] = field(default_factory=list)
    voids: list[str] = field(default_factory=list)

    @property
    def missing(self) -> bool:
        """Whether the domain has no record at all."""
        return self.problem == NO_RECORD

    @property
    def usable_text(self) -> str:
        """The text of a record without faults; empty where there is none."""
        return self.record.text if self.record is not None and not self.record.problems else ""

    def walk(self) -> Iterator[SpfNode]:
        """This record, and all that it includes."""
        yield self
        for _, child in self.children:
            yield from child.walk()


async def survey(lookups: Lookups, domain: str, above: tuple[str, ...] = (), seen: list[str] | None = None) -> SpfNode:
    """The record of a domain with all that it includes; terms with macros are counted and not followed.

    `above` are the domains that lead to it, `seen` all that were looked at.
    """
    node, seen = SpfNode(domain), [] if seen is None else seen
    seen.append(domain)
    if len(seen) > MAX_RECORDS:
        node.problem = f"more than {MAX_RECORDS} records are included"
        return node
    answer = await lookups.ask(domain, "TXT")
    texts = select_record(answer.strings)
    if answer.found is Found.FAILED:
        node.problem, node.unanswered = f"no answer from DNS: {answer.problem}", True
        return node
    node.problem = _why_unusable(texts, domain, above)
    if not node.problem:
        node.record = parse_record(texts[0])
        await _follow(lookups, node, (*above, domain), seen)
    return node


def _why_unusable(texts: Sequence[str], domain: str, above: Sequence[str]) -> str:
    if not texts:
        return NO_RECORD
    if len(texts) > 1:
        return f"it has {len(texts)} SPF records, and may have one"
    if domain in above:
        return "it includes itself"
    return "includes go too deep" if len(above) >= MAX_DEPTH else ""


async def _follow(lookups: Lookups, node: SpfNode, above: tuple[str, ...], seen: list[str]) -> None:
    record = node.record
    if record is None:
        return
    further = [(item.text, item.value) for item in record.mechanisms if item.kind == "include"]
    if record.redirect and not any(item.kind == "all" for item in record.mechanisms):
        further.append((f"redirect={record.redirect}", record.redirect))
    for text, target in further:
        node.lookups += 1
        if "%" not in target:
            child = await survey(lookups, target.lower().rstrip("."), above, seen)
            node.children.append((text, child))
            node.lookups += child.lookups
            node.voids += child.voids
    for mechanism in record.mechanisms:
        if mechanism.kind not in LOOKING_UP or mechanism.kind == "include":
            continue
        node.lookups += 1
        name = mechanism.value or node.domain
        if mechanism.kind in ("a", "mx") and "%" not in name and await _finds_nothing(lookups, name, mechanism.kind):
            node.voids.append(f"{mechanism.text} in the record of {node.domain}")
    node.void = len(node.voids)


async def _finds_nothing(lookups: Lookups, name: str, kind: str) -> bool:
    kinds = ("MX",) if kind == "mx" else ("A", "AAAA")
    answers = [await lookups.ask(name, item) for item in kinds]
    return all(answer.found in (Found.NONE, Found.NO_NAME) for answer in answers)
