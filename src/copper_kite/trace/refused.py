"""Submissions that listeners refused, grouped by client and reason, with a verdict on the largest group."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass

from copper_kite.store import JournalEntry
from copper_kite.verdict import Verdict, judge_refusal

__all__ = ["Refused", "group_refused", "matching_refusals", "refused_verdict"]


@dataclass(slots=True, kw_only=True)
class Refused:
    """The refusals of one client for one reason. `first`, `last` in seconds since 1970; `example` is the last one."""

    listener: str
    who: str
    stage: str
    account: str
    reply: str
    count: int
    first: float
    last: float
    example: dict[str, str]


def group_refused(entries: Sequence[JournalEntry]) -> list[Refused]:
    """The groups, the most recent first."""
    groups: dict[tuple[str, ...], Refused] = {}
    for entry in entries:
        facts = dict(entry.facts)
        account = facts.pop("account", "") or facts.pop("login", "")
        listener, who, stage, reply = (facts.pop(name) for name in ("listener", "who", "stage", "reply"))
        key, count = (listener, who, stage, account, reply), facts.pop("count")
        known = groups.get(key)
        if known is None:
            groups[key] = Refused(
                listener=listener,
                who=who,
                stage=stage,
                account=account,
                reply=reply,
                count=count,
                first=entry.at,
                last=entry.at,
                example=facts,
            )
        else:
            known.count, known.last, known.example = known.count + count, entry.at, facts
    return sorted(groups.values(), key=lambda group: (-group.last, group.who, group.stage))


def matching_refusals(groups: Sequence[Refused], *, who: str, reason: str, sender: str, to: str) -> list[Refused]:
    """The refusals that match a client or account, text in the reply, and addresses of the last example."""
    return [
        group
        for group in groups
        if (not who or who in (group.who, group.account, f"account {who}"))
        and reason in group.reply
        and sender.lower() in (group.example.get("sender", "") + group.example.get("command", "")).lower()
        and to.lower() in (group.example.get("recipient", "") + group.example.get("command", "")).lower()
    ]


def refused_verdict(groups: Sequence[Refused], since: str) -> Verdict:
    """The verdict on the most frequent reason."""
    if not groups:
        return Verdict(None, f"No submission was refused in the last {since}.", "the journal", "kite status")
    most = max(groups, key=lambda group: group.count)
    total = sum(group.count for group in groups)
    facts = {
        "who": most.who,
        "listener": most.listener,
        "network": _network(most.who),
        "name": most.who.removeprefix("account "),
        "login": most.account,
        "reply": most.reply,
    }
    refusal = judge_refusal(most.reply, facts)
    evidence = f"{most.reply}, {most.count} of {total} refusals in the last {since}"
    return refusal.verdict(refusal.meaning, evidence)


def _network(who: str) -> str:
    """The address of a client; empty for another kind of sender."""
    try:
        return str(ipaddress.ip_network(who.partition("%")[0]))
    except ValueError:
        return ""
