"""The behaviour of a stand-in as a file describes it: what it offers, and what it does when (docs/stand-ins.md)."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fnmatch import fnmatchcase
from hashlib import blake2b
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from copper_kite.settings import AllowanceOf, Duration, Size, Table, read_file
from copper_kite.smtp import EXTENSIONS, MECHANISMS, Reply
from copper_kite.words import Stage

__all__ = ["STAGES", "Behaviour", "Judge", "Misbehaviour", "Rule", "read_behaviour"]

# Where a stand-in can be told what to do: after each of these it would answer.
STAGES = (
    Stage.GREET, Stage.HELLO, Stage.SECURE, Stage.LOGIN, Stage.SENDER, Stage.RECIPIENT, Stage.CONTENT, Stage.ACCEPT
)  # fmt: skip
_REPLY = re.compile(r"([2-5][0-9][0-9])(?: ([245]\.\d{1,3}\.\d{1,3}))?(?: (.*))?")
_TURNS = re.compile(r"(\d+)(?:(-)(\d*))?")


class Misbehaviour(StrEnum):
    """The kinds of misbehaviour of a rule, besides waiting."""

    ANSWER = "answer"
    CUT = "cut"  # the line, without a word
    GARBLE = "garble"  # octets that are no reply
    DRIP = "drip"  # one octet of a reply a second, for ever
    ENDLESS = "endless"  # lines of one reply, for ever
    NOTHING = "nothing"  # the line stays open, and silent


@dataclass(frozen=True, slots=True)
class Rule:
    """A rule: what to do at `stage` when all conditions match; `*` and `?` in patterns are wildcards.

    `turns` are the first and the last turn (None: for ever) for which it holds, counted for each recipient, sender or
    login by itself, and elsewhere over all sessions; `share` of those, by chance; `wait` in seconds comes first.
    """

    pattern: str = "*"  # of the recipient
    reply: Reply | None = None
    times: int | None = None  # only the first so many turns
    stage: Stage = Stage.RECIPIENT
    sender: str = "*"
    login: str = "*"
    client: str = "*"
    turns: tuple[int, int | None] = (1, None)
    share: float = 1.0
    wait: float = 0.0
    misbehaviour: Misbehaviour = Misbehaviour.ANSWER


class Judge:
    """Decides by rules, in their order; the first that fits counts. The same seed and turns give the same decisions."""

    def __init__(self, rules: tuple[Rule, ...], seed: int = 0) -> None:
        self._rules = rules
        self._seed = seed
        self._turns: dict[tuple[int, str], int] = {}

    def decide(self, stage: Stage, facts: Mapping[str, str], recipients: Sequence[str] = ()) -> Rule | None:
        """The rule for this moment, None for the usual answer. `facts`: recipient, sender, login, client; `recipients`
        are those of the message, where the content is at stake: one of them is enough."""
        each: list[Mapping[str, str]] = [{**facts, "recipient": recipient} for recipient in recipients] or [facts]
        for place, rule in enumerate(self._rules):
            fits = rule.stage is stage and any(_fits(rule, item) for item in each)
            if fits and self._is_turn(place, rule, _whose(stage, facts)):
                return rule
        return None

    def _is_turn(self, place: int, rule: Rule, whose: str) -> bool:
        turn = self._turns[place, whose] = self._turns.get((place, whose), 0) + 1
        first, last = rule.turns if rule.times is None else (1, rule.times)
        if turn < first or (last is not None and turn > last):
            return False
        return rule.share >= 1 or self._chance(place, whose, turn) < rule.share

    def _chance(self, place: int, whose: str, turn: int) -> float:
        """A number in [0, 1) from the seed and the turn alone, so that parallel sessions change nothing."""
        digest = blake2b(f"{self._seed} {place} {whose} {turn}".encode(), digest_size=8).digest()
        return int.from_bytes(digest) / 2**64


def _fits(rule: Rule, facts: Mapping[str, str]) -> bool:
    wanted = {"recipient": rule.pattern, "sender": rule.sender, "login": rule.login, "client": rule.client}
    return all(
        pattern == "*" or fnmatchcase(facts.get(name, "").lower(), pattern.lower()) for name, pattern in wanted.items()
    )


def _whose(stage: Stage, facts: Mapping[str, str]) -> str:
    names = {Stage.RECIPIENT: "recipient", Stage.SENDER: "sender", Stage.LOGIN: "login"}
    return facts.get(names.get(stage, ""), "").lower()


# --- the file --------------------------------------------------------------------------------------------------------


def parse_reply(value: object) -> Reply:
    """`452 4.2.2 the mailbox is full` as a reply. Raises ValueError."""
    match = _REPLY.fullmatch(value.strip()) if isinstance(value, str) else None
    if match is None or (match[2] and match[2][0] != match[1][0]):
        raise ValueError(f"{value!r} is no reply; write it as 452 4.2.2 the mailbox is full")
    return Reply(int(match[1]), match[2] or "", match[3] or "")


def _parse_turns(value: object) -> tuple[int, int | None]:
    match = _TURNS.fullmatch(value.strip()) if isinstance(value, str) else None
    if match is None or not int(match[1]):
        raise ValueError(f"{value!r} are no turns; write them as 1, 1-3 or 4-")
    first = int(match[1])
    last = (int(match[3]) if match[3] else None) if match[2] else first
    if last is not None and last < first:
        raise ValueError(f"{value!r} ends before it begins")
    return first, last


class TlsTable(Table):
    """`[tls]`."""

    mode: Literal["starttls", "implicit", "off"] = "starttls"
    certificate: Literal[
        "good", "expired", "not yet valid", "wrong name", "self-signed", "weak", "wrong purpose", "no intermediate"
    ] = "good"
    newest: Literal["1.1", "1.2", "1.3"] = "1.3"
    ciphers: Literal["usual", "old"] = "usual"
    client_certificate: bool = False


def _one_of(known: Collection[str]) -> AfterValidator:
    def check(name: str) -> str:
        if name not in known:
            raise ValueError(f"{name!r} is none of {', '.join(known)}")
        return name

    return AfterValidator(check)


Keyword = Annotated[str, _one_of(EXTENSIONS)]
Sasl = Annotated[str, _one_of(MECHANISMS)]


class OffersTable(Table):
    """`[offers]`."""

    size: Size = 100 * 1024 * 1024
    keeps_size: bool = True
    withhold: list[Keyword] = Field(default_factory=list)
    mechanisms: tuple[Sasl, ...] | list[Sasl] = ("SCRAM-SHA-256", "PLAIN", "LOGIN")
    login: Literal["required", "optional"] = "required"
    login_in_clear: bool = False
    recipients: Annotated[int, Field(ge=1)] = 1000
    messages: Annotated[int, Field(ge=0)] = 0
    loose_end: bool = False


_KNOWN_SINCE = {"recipient": Stage.RECIPIENT, "sender": Stage.SENDER, "login": Stage.LOGIN}


class RuleTable(Table):
    """One `[[rule]]`."""

    stage: Literal["greet", "hello", "secure", "login", "sender", "recipient", "content", "accept"]
    client: str = "*"
    sender: str = "*"
    recipient: str = "*"
    login: str = "*"
    turns: Annotated[tuple[int, int | None], BeforeValidator(_parse_turns)] = (1, None)
    share: Annotated[float, Field(gt=0, le=1)] = 1.0
    wait: Duration = 0.0
    answer: Annotated[Reply, BeforeValidator(parse_reply)] | None = None
    do: Literal["cut", "garble", "drip", "endless", "nothing"] | None = None

    @model_validator(mode="after")
    def _does_something(self) -> RuleTable:
        if self.answer is not None and self.do is not None:
            raise ValueError("a rule has an answer or something to do, not both")
        if self.answer is None and self.do is None and not self.wait:
            raise ValueError("a rule needs answer, do or wait")
        place = STAGES.index(Stage(self.stage))
        for key, since in _KNOWN_SINCE.items():
            if getattr(self, key) != "*" and place < STAGES.index(since):
                raise ValueError(f"nothing is known of a {key} at stage {self.stage}, so the rule would never fit")
        return self

    def rule(self) -> Rule:
        """The rule that it says."""
        return Rule(
            pattern=self.recipient,
            reply=self.answer,
            stage=Stage(self.stage),
            sender=self.sender,
            login=self.login,
            client=self.client,
            turns=self.turns,
            share=self.share,
            wait=self.wait,
            misbehaviour=Misbehaviour(self.do) if self.do else Misbehaviour.ANSWER,
        )


class Behaviour(Table):
    """A whole file."""

    name: str = "localhost"
    seed: int = 0
    allowance: AllowanceOf | None = None
    put_off_first: bool = False
    tls: TlsTable = TlsTable()
    offers: OffersTable = OffersTable()
    rule: list[RuleTable] = Field(default_factory=list)

    def rules(self) -> tuple[Rule, ...]:
        """The rules in their order; to put off first tries comes after them."""
        results = [table.rule() for table in self.rule]
        if self.put_off_first:
            results.append(Rule(reply=Reply(450, "4.2.0", "not at the first try; come back"), turns=(1, 1)))
        return tuple(results)


def read_behaviour(path: Path) -> Behaviour:
    """The file at `path`. Raises SettingsError with every finding."""
    return read_file(path, Behaviour)
