"""A verdict: what happened, on whose side, on what evidence, and the next command to type."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from string import Formatter
from typing import Any

from copper_kite.verdict.data import knowledge
from copper_kite.verdict.explain import find_phrase
from copper_kite.words import MESSAGE_STAGES, Cause, Side, Stage

__all__ = ["Judgement", "Verdict", "judge_attempt", "judge_refusal", "side_of"]


@dataclass(frozen=True, slots=True)
class Judgement:
    """The judgement on an attempt: the side, the meaning in a sentence, the command to type next (empty where none
    helps), and further advice in words."""

    side: Side
    meaning: str
    next: str = ""
    advice: str = ""

    def verdict(self, meaning: str, evidence: str) -> Verdict:
        """The verdict with this judgement, in these words and on this evidence."""
        return Verdict(self.side, meaning, evidence, self.next, self.advice)


@dataclass(frozen=True, slots=True)
class Verdict:
    """The end of every command that looks at mail. `side` is None when nobody stopped anything; `next` is a command
    that works as it is, or empty, and `advice` is what to do in words."""

    side: Side | None
    meaning: str
    evidence: str
    next: str = ""
    advice: str = ""


def _keys(stage: Stage, code: int | None, enhanced: str) -> list[str]:
    """The keys under which to look a reply up, the most specific first."""
    keys = [f"{stage} {code}"]
    if stage not in MESSAGE_STAGES:
        keys.append(f"{stage} {str(code)[0]}")
    if enhanced:
        _, subject, detail = enhanced.split(".")
        keys = [f"{stage} {enhanced}", f"{stage} X.{subject}.{detail}", *keys, enhanced, f"X.{subject}.{detail}"]
        if detail != "0" or subject != "0":
            keys.append(f"X.{subject}")
    return [*keys, str(code), str(code)[0]]


# Keys that say little: where one of them is all there is, the reply's words may say more.
_VAGUE = frozenset(
    {
        "4",
        "5",
        "421",
        "450",
        "452",
        "500",
        "501",
        "530",
        "552",
        "X.7.1",
        "X.7",
        "X.1",
        "X.2",
        "X.3",
        "X.4",
        "X.5",
        "X.6",
        "4.7.0",
        "4.2.0",
        "4.7.1",
        "5.4.1",
        "X.3.1",
        "login 535",
        "recipient 4.7.1",
        "sender 4.7.1",
    }
    | {"5.7.0", "X.3.4", "recipient X.7.1", "sender X.7.1", "sender 552", "sender 553", "greet 4", "greet 5", "hello 5"}
)


def _entry(stage: Stage, cause: Cause, code: int | None, enhanced: str, text: str = "") -> Mapping[str, str]:
    known = knowledge()
    if cause is Cause.REPLY and code is not None and code // 100 not in (4, 5):
        cause = Cause.OUT_OF_STEP  # a reply that stops nothing, where an attempt ended
    if cause is not Cause.REPLY or code is None:
        causes: Mapping[str, Mapping[str, str]] = known["cause"]
        return causes.get(f"{stage} {cause}") or causes[cause]
    replies: Mapping[str, Mapping[str, str]] = known["reply"]
    result = next(key for key in _keys(stage, code, enhanced) if key in replies)
    entry = replies[result]
    if result in _VAGUE and text and (phrase := find_phrase(code, text)) is not None:
        entry = phrase.entry
    while (same_as := entry.get("same_as")) is not None:
        entry = known["cause"].get(same_as) or replies[same_as]
    return entry


# What stands in a sentence for what nobody named.
_UNNAMED = {
    "connector": "in question", "next_hop": "the next hop", "host": "that host", "recipient": "the recipient",
    "sender": "this sender", "login": "that was given", "text": "no details are known", "names": "other names",
    "pin": "sha256:…", "id": "this message", "who": "a program", "listener": "of this server", "name": "the account",
}  # fmt: skip


def _sentence(template: str, facts: Mapping[str, str]) -> str:
    """A template with its facts; what is not known shows as what it would be."""
    told = template.format_map({**_UNNAMED, **facts})
    return told[:1].upper() + told[1:] if template.startswith("{") and _first_field(template) not in facts else told


def _first_field(template: str) -> str | None:
    return next((name for _, name, _, _ in Formatter().parse(template) if name), None)


def _command(template: str, facts: Mapping[str, str]) -> str:
    """A command with its facts filled in; empty when one of them is unknown, so that nobody types a placeholder."""
    needed = {name for _, name, _, _ in Formatter().parse(template) if name}
    return template.format_map(facts) if needed <= facts.keys() else ""


def judge_attempt(stage: Stage, cause: Cause, code: int | None, enhanced: str, facts: Mapping[str, Any]) -> Judgement:
    """The verdict on a failure, from its stage and the decisive reply, if there is one.

    `facts` fills the sentences: connector, next_hop, host, port, address, login, credential, text, sender, recipient,
    names, pin, id; `mx` says that the connector goes to the exchangers of each domain; `more`, the command that
    shows what was said. `probe`, the command that looks again, is made from connector or next_hop, unless such a look
    is what was asked for (`probing`).
    """
    entry = _entry(stage, cause, code, enhanced, str(facts.get("text", "")))
    known = {key: str(value) for key, value in facts.items() if value not in ("", None, False)}
    known |= {"stage": stage.value, "but_for": f", but for {known['names']}" if "names" in known else ""}
    if "probing" not in known and (probe := _probe(known)):
        known["probe"] = probe
        if "more" not in facts:
            known["more"] = f"{probe} --dialogue"
    kind = "mx" if "mx" in known else "next" if "connector" in known else "alone"
    command, advice = entry.get("next", ""), entry.get("advice", "")
    if kind != "next":
        command, advice = entry.get(kind, command), entry.get(f"{kind}_advice", advice)
    side = entry.get("mx_side", entry["side"]) if kind == "mx" else entry["side"]
    return Judgement(Side(side), _sentence(entry["meaning"], known), _command(command, known), _sentence(advice, known))


def _probe(known: Mapping[str, str]) -> str:
    """The command that looks at the next hop again; empty where nothing is known of it."""
    connector, next_hop = known.get("connector"), known.get("next_hop")
    if connector is None:
        return f"kite probe {next_hop}" if next_hop else ""
    if "mx" in known:
        return f"kite connector test {connector} --to {known['recipient']}" if "recipient" in known else ""
    return f"kite connector test {connector}"


def judge_refusal(reply: str, facts: Mapping[str, Any]) -> Judgement:
    """The verdict on a refusal by one of our own listeners, from its reply.

    `facts`: who, listener, network, name (of an account), login.
    """
    entries: list[dict[str, str]] = knowledge()["refused"]
    entry = next(entry for entry in entries if entry["says"] in reply)
    known = {key: str(value) for key, value in facts.items() if value}
    command, advice = entry.get("next", ""), entry.get("advice", "")
    return Judgement(
        Side(entry["side"]), _sentence(entry["meaning"], known), _command(command, known), _sentence(advice, known)
    )


@lru_cache(maxsize=256)
def side_of(stage: Stage, cause: Cause, code: int | None, enhanced: str, text: str = "", *, mx: bool = False) -> Side:
    """The side that stopped an attempt, for its record; with `mx`, an attempt at a recipient's own exchangers."""
    entry = _entry(stage, cause, code, enhanced, text)
    return Side(entry.get("mx_side", entry["side"]) if mx else entry["side"])
