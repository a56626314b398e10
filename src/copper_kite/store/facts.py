"""The parts of an attempt's record that are kept as JSON: its results and its session."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from json.encoder import encode_basestring
from typing import Any, NamedTuple

from copper_kite.words import State

__all__ = [
    "AttemptFacts",
    "PassedOverHop",
    "RecipientResult",
    "SessionFacts",
    "StageTook",
    "TriedAddress",
    "facts_text",
    "read_facts",
]

_dumps = json.JSONEncoder(separators=(",", ":"), ensure_ascii=False).encode
_text = encode_basestring  # as JSON has it


class RecipientResult(NamedTuple):
    """The result of one recipient: its state, its stage, and the whole reply, where one decided it."""

    address: str
    state: str
    stage: str
    reply: str


class StageTook(NamedTuple):
    """A stage of a session, the seconds that it took, and what the other side said."""

    stage: str
    seconds: float
    said: str


class PassedOverHop(NamedTuple):
    """A next hop that was not tried, since it was known to be down from an instant (seconds since 1970) on, and why."""

    next_hop: str
    address: str
    stage: str
    cause: str
    said: str
    since: float


class TriedAddress(NamedTuple):
    """An address that gave no session, and why."""

    next_hop: str
    address: str
    stage: str
    cause: str
    said: str


class SessionFacts(NamedTuple):
    """The session that an attempt went by. What opened it is kept with its first message alone: `stages`, and the
    addresses `tried` before it. `message_of_session` counts from 1; 0 where no session was opened.

    From `tls` on: as it stands for all messages of the session, or nearly all.
    """

    stages: Sequence[StageTook] = ()
    tried: Sequence[TriedAddress] = ()
    message_of_session: int = 0
    tls: str = ""  # version
    cipher: str = ""
    resumed: bool = False
    login: str = ""
    mechanism: str = ""
    mode: str = ""
    trust: str = ""
    policy: str = ""  # of the next hop, by which TLS was demanded: see `net.Demand`
    signed: str = ""  # by whom the message was signed, with which selectors
    passed_over: tuple[PassedOverHop, ...] = ()

    def text(self) -> str:
        """The facts as JSON without its braces; empty ones are left out, except the stages."""
        stages, tried, count, *standing = self
        opening = f'"stages":{_dumps(stages) if stages else "[]"}'
        if tried:
            opening += f',"tried":{_dumps(tried)}'
        if count:
            opening += f',"message_of_session":{count}'
        return opening + _standing_text(*standing)


_STANDING = SessionFacts._fields[3:]


@lru_cache(maxsize=256)  # it is the same for nearly all messages of a session
def _standing_text(*values: Any) -> str:
    kept = {name: value for name, value in zip(_STANDING, values, strict=True) if value}
    return f",{_dumps(kept)[1:-1]}" if kept else ""


_NO_SESSION = SessionFacts()


@dataclass(frozen=True, slots=True)
class AttemptFacts:
    """The results of an attempt, its session, and what of the message was `changed` for it, in words."""

    results: Sequence[RecipientResult] = ()
    session: SessionFacts = _NO_SESSION
    changed: str = ""

    @property
    def relayed(self) -> int:
        """How many recipients it relayed to."""
        return sum(result.state == State.RELAYED for result in self.results)


def facts_text(results: Iterable[tuple[str, str, str, str]], session: str, changed: str = "") -> str:
    """The facts as they are kept; `session` is `SessionFacts.text`."""
    if changed:
        session = f'"changed":{_text(changed)},{session}'
    told = [f"[{_text(to)},{_text(state)},{_text(stage)},{_text(reply)}]" for to, state, stage, reply in results]
    return f'{{"results":[{",".join(told)}],{session}}}'


def read_facts(text: str) -> AttemptFacts:
    """The facts of a record."""
    kept = json.loads(text)
    session = SessionFacts(
        [StageTook._make(stage) for stage in kept.get("stages", ())],
        [TriedAddress._make(tried) for tried in kept.get("tried", ())],
        **{name: kept[name] for name in SessionFacts._fields[2:-1] if name in kept},
        passed_over=tuple(PassedOverHop._make(hop) for hop in kept.get("passed_over", ())),
    )
    results = [RecipientResult._make(result) for result in kept.get("results", ())]
    return AttemptFacts(results, session, kept.get("changed", ""))
