"""Submissions that listeners refused: grouped by client and reason, with a verdict on what happens most."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.store import JournalEntry
from copper_kite.verdict.judge import Verdict, judge_refusal

__all__ = ["Refused", "group_refused", "refused_verdict"]


@dataclass(slots=True, kw_only=True)
class Refused:
    """One reason for one client. `first` and `last` in seconds since 1970; `example` is what the last one was like."""

    listener: str
    who: str
    stage: str
    reply: str
    count: int
    first: float
    last: float
    example: dict[str, str]


def group_refused(entries: Sequence[JournalEntry]) -> list[Refused]:
    """The groups, that which happened last first."""
    groups: dict[tuple[str, ...], Refused] = {}
    for entry in entries:
        facts = dict(entry.facts)
        listener, who, stage, reply = key = tuple(facts.pop(name) for name in ("listener", "who", "stage", "reply"))
        count = facts.pop("count")
        known = groups.get(key)
        if known is None:
            groups[key] = Refused(
                listener=listener,
                who=who,
                stage=stage,
                reply=reply,
                count=count,
                first=entry.at,
                last=entry.at,
                example=facts,
            )
        else:
            known.count, known.last, known.example = known.count + count, entry.at, facts
    return sorted(groups.values(), key=lambda one: (-one.last, one.who, one.stage))


def refused_verdict(groups: Sequence[Refused], since: str) -> Verdict:
    """On the reason that was met most."""
    if not groups:
        return Verdict(None, f"No submission was refused in the last {since}.", "the journal", "kite status")
    most = max(groups, key=lambda one: one.count)
    total = sum(one.count for one in groups)
    facts = {
        "who": most.who,
        "listener": most.listener,
        "network": _network(most.who),
        "name": most.who.removeprefix("account "),
        "login": most.example.get("login", ""),
    }
    found = judge_refusal(most.reply, facts)
    evidence = f"{most.reply}, {most.count} of {total} refusals in the last {since}"
    return Verdict(found.side, found.meaning, evidence, found.next)


def _network(who: str) -> str:
    try:
        return str(ipaddress.ip_network(who.partition("%")[0]))
    except ValueError:
        return "NETWORK"
