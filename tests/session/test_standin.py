"""What a stand-in decides, and what it keeps."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from copper_kite.errors import SettingsError
from copper_kite.session.behaviour import Judge, Misbehaviour, Rule, read_behaviour
from copper_kite.session.captures import read_captures
from copper_kite.session.lenient_reader import LenientReader
from copper_kite.session.standin import StandIn, StandInPlan
from copper_kite.smtp.replies import Reply, visible
from copper_kite.words import Stage
from tests.support import codes, converse

LATER, NO = Reply(451, "4.3.0", "later"), Reply(550, "5.1.1", "no")
LETTER = b"EHLO x\r\nMAIL FROM:<a@x>\r\nRCPT TO:<b@x.example>\r\nDATA\r\nSubject: x\r\n\r\nhi\r\n.\r\nQUIT\r\n"


def facts(**more: str) -> dict[str, str]:
    return {"recipient": "b@x.example", "sender": "a@x.example", "login": "tern", "client": "quay1", **more}


def test_the_first_rule_that_fits_decides() -> None:
    """By stage, recipient, sender, login and client, in any case; else the usual answer."""
    judge = Judge((
        Rule("full@*", LATER), Rule(reply=NO, sender="BAD@*"), Rule(reply=NO, login="nobody", client="q*"),
        Rule(stage=Stage.GREET, misbehaviour=Misbehaviour.CUT, client="203.0.113.?"),
    ))  # fmt: skip

    def decided(stage: Stage = Stage.RECIPIENT, **more: str) -> Reply | Misbehaviour | None:
        rule = judge.decide(stage, facts(**more))
        return None if rule is None else rule.reply or rule.misbehaviour

    assert decided() is None
    assert decided(recipient="Full@x.example") == LATER and decided(sender="bad@x.example") == NO
    assert decided(login="nobody") == NO and decided(login="nobody", client="other") is None
    assert decided(Stage.GREET, client="203.0.113.9") is Misbehaviour.CUT and decided(Stage.GREET) is None


def test_turns_are_counted_for_each_recipient_and_elsewhere_for_all() -> None:
    judge = Judge((Rule(reply=LATER, turns=(2, 3)), Rule(reply=NO, stage=Stage.ACCEPT, turns=(2, None))))

    def turns(stage: Stage, *whom: str) -> list[bool]:
        return [judge.decide(stage, facts(recipient=who)) is not None for who in whom]

    assert turns(Stage.RECIPIENT, "a", "b", "a", "a", "a", "b") == [False, False, True, True, False, True]
    assert turns(Stage.ACCEPT, "a", "b", "c") == [False, True, True]


def test_the_same_seed_gives_the_same_run() -> None:
    """However recipients follow each other; about the share that was asked for; another seed gives another run."""
    names = [f"r{number}" for number in range(400)]

    def run(seed: int, order: list[str]) -> set[str]:
        judge = Judge((Rule(reply=LATER, share=0.25),), seed)
        return {name for name in order if judge.decide(Stage.RECIPIENT, facts(recipient=name))}

    assert run(7, names) == run(7, names[::-1]) != run(8, names)
    assert 60 < len(run(7, names)) < 140


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ('[[rule]]\nstage = "sender"', 1, "needs answer, do or wait"),
        ('[[rule]]\nstage = "sender"\nanswer = "250"\ndo = "cut"', 1, "not both"),
        ('[[rule]]\nstage = "sender"\nanswer = "no"', 3, "write it as 452 4.2.2"),
        ('[[rule]]\nstage = "sender"\nanswer = "450 5.1.1 x"', 3, "no reply"),
        ('[[rule]]\nstage = "sender"\ndo = "cut"\nturns = "0"', 4, "write them as 1, 1-3 or 4-"),
        ('[tls]\ncertificat = "expired"', 2, "did you mean 'certificate'?"),
        ('[offers]\nwithhold = ["TLS"]', 2, "is none of"),
        ("seed = [", 1, "not TOML"),
    ],
)
def test_mistakes_in_a_behaviour_are_told_with_their_line(folder: Path, text: str, line: int, words: str) -> None:
    path = folder / "b.toml"
    path.write_text(text)
    with pytest.raises(SettingsError) as caught:
        read_behaviour(path)
    assert [finding.line for finding in caught.value.findings] == [line] and words in str(caught.value)


async def test_two_of_them_keep_apart_in_one_folder(folder: Path) -> None:
    """Numbers are never given twice, and a message cut off leaves nothing behind."""

    plan = StandInPlan(name="x.example", folder=folder, tls="off")
    item, two = StandIn(plan), StandIn(plan)
    ports = [await item.start("127.0.0.1", 0), await two.start("127.0.0.1", 0)]
    for port in (*ports, *ports):
        assert codes(await converse(port, LETTER))[-2:] == [b"250", b"221"]
    assert b"554" in codes(await converse(ports[0], LETTER.replace(b"hi", b"h\x00")))
    await item.stop()
    await two.stop()
    assert [capture.number for capture in read_captures(folder)] == [1, 2, 3, 4]
    assert {path.name[:6] for path in folder.iterdir()} == {f"{n:06}" for n in range(1, 5)}
    assert json.loads((folder / "000003.json").read_text())["hello"] == "x"


def test_a_loose_end_is_what_smuggling_needs() -> None:
    for ending in (b"\n.\n", b"\r\n.\n", b"\n.\r\n", b"\r.\rX"):
        content, rest = LenientReader().feed(b"one" + ending + b"MAIL FROM:<b@x>\r\n")
        assert content == b"one\r\n" and rest is not None and rest.endswith(b"MAIL FROM:<b@x>\r\n")


def test_what_is_shown_cannot_steer_a_terminal() -> None:
    assert visible("höher → \x1b[31m\u202e\x9b\n") == "höher → \\x1b[31m\\u202e\\x9b\\n"
