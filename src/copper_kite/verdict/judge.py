"""A verdict: what happened, on whose side, on what evidence, and the next command to type."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from copper_kite.verdict.data import knowledge
from copper_kite.verdict.explain import find_phrase
from copper_kite.words import MESSAGE_STAGES, Cause, Side, Stage

__all__ = ["Judgement", "Verdict", "judge", "judge_refusal", "side_of"]


@dataclass(frozen=True, slots=True)
class Judgement:
    """What stopped an attempt: the side, the meaning in a sentence, and what to do."""

    side: Side
    meaning: str
    next: str


@dataclass(frozen=True, slots=True)
class Verdict:
    """The end of every command that looks at mail. `side` is None when nobody stopped anything."""

    side: Side | None
    meaning: str
    evidence: str
    next: str


def _keys(stage: Stage, code: int | None, enhanced: str) -> list[str]:
    """Where to look a reply up, the most telling place first."""
    keys = [f"{stage} {code}"]
    if stage not in MESSAGE_STAGES:
        keys.append(f"{stage} {str(code)[0]}")
    if enhanced:
        _, subject, detail = enhanced.split(".")
        keys += [f"{stage} X.{subject}.{detail}", enhanced, f"X.{subject}.{detail}"]
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
    found = next(key for key in _keys(stage, code, enhanced) if key in replies)
    if found in _VAGUE and text and (phrase := find_phrase(code, text)) is not None:
        return phrase.entry
    entry = replies[found]
    same_as = entry.get("same_as")
    if same_as is None:
        return entry
    return known["cause"].get(same_as) or replies[same_as]


class _Facts(dict[str, Any]):
    """Facts to fill a sentence with; what is not known shows as what it would be."""

    def __missing__(self, key: str) -> str:
        return f"({key.replace('_', ' ')})"


def judge(stage: Stage, cause: Cause, code: int | None, enhanced: str, facts: Mapping[str, Any]) -> Judgement:
    """What stopped it, from where it stopped and the reply that did it, if one did.

    `facts` fills the sentences: connector, next_hop, host, port, address, login, text, sender, recipient, names, stage,
    id, config, more; `probe`, the command that looks again, is made from connector or next_hop.
    """
    entry = _entry(stage, cause, code, enhanced, str(facts.get("text", "")))
    known = _Facts({key: value for key, value in facts.items() if value not in ("", None)}, stage=stage.value)
    connector = known.get("connector")
    known["probe"] = f"kite probe --connector {connector}" if connector else f"kite probe {known['next_hop']}"
    known["but_for"] = f", but for {known['names']}" if "names" in known else ""
    known.setdefault("more", f"{known['probe']} --dialogue")
    sentence = entry["next"] if connector else entry.get("alone", entry["next"])
    return Judgement(Side(entry["side"]), entry["meaning"].format_map(known), sentence.format_map(known))


def judge_refusal(reply: str, facts: Mapping[str, Any]) -> Judgement:
    """What one of our own listeners refused, by what its reply says.

    `facts`: who, listener, network, name (of an account), login.
    """
    entries: list[dict[str, str]] = knowledge()["refused"]
    entry = next(entry for entry in entries if entry["says"] in reply)
    known = _Facts({key: value for key, value in facts.items() if value})
    return Judgement(Side(entry["side"]), entry["meaning"].format_map(known), entry["next"].format_map(known))


@lru_cache(maxsize=256)
def side_of(stage: Stage, cause: Cause, code: int | None, enhanced: str, text: str = "") -> Side:
    """On whose side it stopped, for the record of an attempt."""
    return Side(_entry(stage, cause, code, enhanced, text)["side"])
