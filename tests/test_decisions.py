"""Pure decisions: which connector, what a reply makes of a recipient, when to try again, what it all means."""

from __future__ import annotations

from pathlib import Path

import pytest

from copper_kite.relay.decide import Retry, classify, retry_at
from copper_kite.routing.choose import Router, choose_connector
from copper_kite.settings.model import Connector
from copper_kite.smtp.replies import Reply
from copper_kite.verdict import judge_attempt, side_of
from copper_kite.words import Cause, Side, Stage, State


def connector(name: str, *recipients: str, preference: int = 20) -> Connector:
    return Connector(name=name, recipients=list(recipients), hosts=["h.example"], preference=preference)


CONNECTORS = [
    connector("general", "*"),
    connector("late", "*", preference=30),
    connector("port", "port.example", "*.port.example"),
    connector("deep", "*.deep.port.example"),
    connector("ana", "ana@port.example"),
]


@pytest.mark.parametrize(
    ("recipient", "name"),
    [
        ("bo@elsewhere.example", "general"), ("bo@port.example", "port"), ("bo@PORT.example", "port"),
        ("ana@port.example", "ana"), ("Ana@port.example", "port"), ("bo@a.port.example", "port"),
        ("bo@x.deep.port.example", "deep"), ("bo@airport.example", "general"),
    ],
)  # fmt: skip
def test_the_closest_pattern_wins(recipient: str, name: str) -> None:
    choice = choose_connector(CONNECTORS, recipient)
    assert choice.connector is not None and choice.connector.name == name
    assert dict(choice.reasons)[name].endswith("fits best")
    assert [reason[0] for reason in choice.reasons] == ["general", "late", "port", "deep", "ana"]


def test_reasons() -> None:
    assert dict(choose_connector(CONNECTORS, "bo@port.example").reasons) == {
        "general": "* fits less closely", "late": "* fits less closely", "port": "port.example fits best",
        "deep": "no recipient pattern fits", "ana": "no recipient pattern fits",
    }  # fmt: skip
    assert dict(choose_connector(CONNECTORS[:2], "bo@x.example").reasons)["late"] == "comes after by preference"
    assert choose_connector(CONNECTORS[2:], "bo@x.example").connector is None


@pytest.mark.parametrize(
    ("stage", "code", "state"),
    [
        (Stage.ACCEPT, 250, State.RELAYED), (Stage.ACCEPT, 451, State.DELAYED), (Stage.ACCEPT, 554, State.FAILED),
        (Stage.RECIPIENT, 550, State.FAILED), (Stage.RECIPIENT, 450, State.DELAYED), (Stage.SENDER, 550, State.FAILED),
        (Stage.CONTENT, 554, State.FAILED), (Stage.GREET, 554, State.DELAYED), (Stage.LOGIN, 535, State.DELAYED),
        (Stage.HELLO, 550, State.DELAYED), (Stage.SECURE, 554, State.DELAYED), (Stage.SENDER, 530, State.DELAYED),
        (Stage.RECIPIENT, 598, State.FAILED), (Stage.RECIPIENT, 498, State.DELAYED), (Stage.QUIT, 421, State.DELAYED),
        (Stage.RECIPIENT, 250, State.DELAYED),
    ],
)  # fmt: skip
def test_replies_make_states(stage: Stage, code: int, state: State) -> None:
    """C-05, C-10: a refusal of the session is not a refusal of the message."""
    assert classify(stage, Reply(code, "", "x")) is state


def test_retries_follow_the_waits_and_end_with_one_last_attempt() -> None:
    """Q-08, Q-09, Q-10."""
    retry = Retry([60, 300, 900], jitter=0.1)
    assert [retry_at(1000, attempts, 9e9, retry, 0.0) for attempts in (1, 2, 3, 4, 50)] == [
        1060, 1300, 1900, 1900, 1900,
    ]  # fmt: skip
    assert retry_at(1000, 1, 9e9, retry, 0.5) == pytest.approx(1063)
    assert retry_at(1000, 3, 1500, retry, 0.0) == 1500
    assert retry_at(1500, 4, 1500, retry, 0.0) is None


def test_every_cause_has_a_verdict() -> None:
    for cause in Cause:
        if cause is Cause.REPLY:
            continue
        judgement = judge_attempt(Stage.CONNECT, cause, None, "", {"next_hop": "h:587", "connector": "beacon"})
        assert judgement.meaning and judgement.next + judgement.advice
        assert "{" not in judgement.meaning + judgement.next


@pytest.mark.parametrize(
    ("stage", "code", "enhanced", "side", "words"),
    [
        (Stage.RECIPIENT, 550, "5.1.1", Side.NEXT_HOP, "no mailbox of ana@x.example"),
        (Stage.RECIPIENT, 452, "4.2.2", Side.BEYOND, "is full"),
        (Stage.LOGIN, 535, "5.7.8", Side.HERE, "refuses the login tern"),
        (Stage.LOGIN, 535, "", Side.HERE, "refuses the login tern"),
        (Stage.SENDER, 550, "5.7.1", Side.HERE, "does not let it send as"),
        (Stage.SENDER, 530, "5.7.0", Side.HERE, "takes no mail without a login"),
        (Stage.GREET, 421, "", Side.NEXT_HOP, "not ready for a session"),
        (Stage.ACCEPT, 554, "5.6.99", Side.NEXT_HOP, "content"),
        (Stage.ACCEPT, 599, "", Side.NEXT_HOP, "for good"),
        (Stage.ACCEPT, 499, "4.0.0", Side.NEXT_HOP, "at the moment"),
    ],
)
def test_replies_have_verdicts(stage: Stage, code: int, enhanced: str, side: Side, words: str) -> None:
    facts = {"recipient": "ana@x.example", "next_hop": "h:587", "login": "tern"}
    judgement = judge_attempt(stage, Cause.REPLY, code, enhanced, facts)
    assert judgement.side is side and words in judgement.meaning
    assert side_of(stage, Cause.REPLY, code, enhanced) is side


def test_the_protocol_does_no_input_or_output() -> None:
    """The floors are kept by import-linter; this one is checked wherever tests run."""
    import ast

    import copper_kite.smtp

    for path in Path(copper_kite.smtp.__path__[0]).rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            assert not {"socket", "asyncio", "ssl", "time", "logging"} & set(names), path


def test_the_sender_decides_among_recipients_that_fit_as_closely() -> None:
    by_sender = Connector(name="rota", hosts=["h.example"], senders=["rota@ternferries.example"], preference=90)
    closer = Connector(name="crew", hosts=["h.example"], recipients=["crew.example"], preference=99)
    general = Connector(name="general", hosts=["h.example"])
    every = [general, by_sender, closer]
    for sender, recipient, name in (
        ("rota@ternferries.example", "a@x.example", "rota"),
        ("other@ternferries.example", "a@x.example", "general"),
        ("", "a@x.example", "general"),
        ("rota@ternferries.example", "a@crew.example", "crew"),
    ):
        result = choose_connector(every, recipient, sender)
        assert result.connector is not None and result.connector.name == name
        assert Router(every).carrier(recipient, sender) == name
    reasons = dict(choose_connector(every, "a@x.example", "other@ternferries.example").reasons)
    assert reasons == {
        "general": "* fits best", "rota": "* fits, but the sender does not", "crew": "no recipient pattern fits"
    }  # fmt: skip
