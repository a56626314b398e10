"""What replies mean: the words that servers put their reasons in, the standards' words, and the command that tells."""

from __future__ import annotations

import json

import pytest

from copper_kite.verdict.explain import _phrases, find_phrase, standard_meaning
from copper_kite.verdict.judge import judge, side_of
from copper_kite.words import Cause, Side, Stage
from tests.support import kite

SAID = {
    "listed": ["554 Your address 192.0.2.7 is listed at bl.example", "550 5.7.1 Client host blocked using a DNSBL", "554 on our blacklist"],
    "reputation": ["421 4.7.0 unusual rate of unsolicited mail", "550 5.7.1 looks like spam to us", "554 poor IP reputation"],
    "rate": ["451 4.7.1 rate limit for this sender", "421 too many connections from you", "452 4.7.1 Sending limit exceeded",
             "450 you have exceeded the hourly sending quota", "450 slow down"],
    "greylisting": ["450 4.7.1 Greylisted", "451 4.7.1 Please try again in 300 seconds", "450 grey-listing in action"],
    "reverse DNS": ["550 5.7.1 no PTR record", "554 reverse DNS of 192.0.2.7 missing", "450 4.7.1 cannot find your hostname"],
    "authentication of the domain": ["550 5.7.1 rejected by DMARC policy", "550 SPF check failed", "550 5.7.1 unauthenticated email"],
    "login wanted": ["550 5.7.1 authentication required", "530 Must authenticate first", "550 login required"],
    "sender not allowed": ["550 5.7.1 you are not allowed to send as that address", "553 sender address rejected",
                           "553 5.7.1 not owned by user tern"],
    "relaying denied": ["550 5.7.1 Relaying denied", "554 relay access denied", "550 unable to relay for that domain"],
    "mailbox full": ["450 mailbox is full", "552 user is over quota", "452 Insufficient system storage"],
    "unknown user": ["550 no such user here", "550 user unknown", "554 Recipient address does not exist", "550 invalid recipient"],
    "disabled mailbox": ["550 this account has been disabled", "554 mailbox suspended"],
    "too large": ["554 message too big for the system", "552 message size exceeds the limit"],
    "content": ["554 contains a virus", "550 attachment type not allowed", "554 content rejected"],
    "port blocked": ["550 mail from dynamic IP addresses is not taken", "554 dial-up range"],
}  # fmt: skip


@pytest.mark.parametrize(("about", "said"), [(about, said) for about, replies in SAID.items() for said in replies])
def test_the_words_of_a_reply_tell_why(about: str, said: str) -> None:
    """Each phrase by what it is found in, and by no other."""
    found = find_phrase(int(said[:3]), said[4:])
    assert found is not None and found.about == about


def test_every_phrase_is_shown_and_can_be_said() -> None:
    assert {phrase.about for phrase in _phrases()} == SAID.keys()
    facts = {"next_hop": "h", "connector": "c", "recipient": "r", "sender": "s", "id": "i", "text": ""}
    for replies in SAID.values():
        for said in replies:
            judged = judge(Stage.RECIPIENT, Cause.REPLY, int(said[:3]), "", {**facts, "text": said[4:]})
            assert judged.meaning and judged.next and "{" not in judged.meaning + judged.next


@pytest.mark.parametrize("said", ["", "ok", "the tide is high", "queued as 8F3A", "no", "try again later"])
def test_words_that_tell_nothing_are_not_made_much_of(said: str) -> None:
    assert find_phrase(550, said) is None


def test_codes_that_say_it_are_believed_before_words() -> None:
    """And the record of an attempt has the same side as its verdict."""
    facts = {"text": "rejected: user unknown, see our SPF page", "recipient": "r@x.example", "next_hop": "h"}
    plain = judge(Stage.RECIPIENT, Cause.REPLY, 550, "5.1.1", facts)
    assert plain == judge(Stage.RECIPIENT, Cause.REPLY, 550, "5.1.1", {**facts, "text": ""})
    vague = judge(Stage.RECIPIENT, Cause.REPLY, 550, "5.7.1", {**facts, "text": "rate limit exceeded"})
    assert vague.side is Side.HERE and "takes only so much" in vague.meaning
    assert side_of(Stage.RECIPIENT, Cause.REPLY, 550, "5.7.1", "rate limit exceeded") is Side.HERE
    assert side_of(Stage.RECIPIENT, Cause.REPLY, 550, "5.7.1", "") is Side.NEXT_HOP


def test_the_standards_words() -> None:
    """RFC 3463 3: by subject and detail, else by subject; and nothing for what nobody defined."""
    assert standard_meaning("4.2.2") == "the mailbox is full (failure for now: worth trying again)"
    assert standard_meaning("5.1.99").startswith("something about the address")
    assert standard_meaning("5.9.1") == "" and standard_meaning("3.1.1") == ""


@pytest.mark.parametrize(
    ("words", "side", "standard", "about"),
    [
        (["451", "4.7.1", "Greylisted, try again in 60 seconds"], "next hop", "it is not allowed", "greylisting"),
        (["550-5.1.1 no such user"], "next hop", "the mailbox does not exist", "unknown user"),
        (["535"], "here", None, None),
        (["relaying denied"], "here", None, "relaying denied"),
        (["250", "2.0.0", "queued"], None, None, None),
        (["--stage", "greet", "554", "go away"], "next hop", None, None),
    ],
)
def test_kite_explain(words: list[str], side: str | None, standard: str | None, about: str | None) -> None:
    told = json.loads(kite("explain", "--json", *words).stdout)
    assert (told["verdict"]["side"], told["about"]) == (side, about)
    assert (told["standard"] or "").startswith(standard or "") and told["verdict"]["next"]
    shown = kite("explain", *words)
    assert shown.returncode == 0 and b"Verdict" in shown.stdout


def test_what_is_no_reply_is_not_explained() -> None:
    done = kite("explain", "the", "tide")
    assert done.returncode == 2 and b"a reply begins with a code" in done.stderr


@pytest.mark.parametrize("stage", Stage)
def test_every_reply_that_ends_an_attempt_has_a_verdict(stage: Stage) -> None:
    """Also one that should not have ended it: an old record may hold it."""
    for code in range(200, 600):
        judged = judge(stage, Cause.REPLY, code, "", {"next_hop": "h", "text": "x"})
        assert judged.meaning and judged.next and judged.side is side_of(stage, Cause.REPLY, code, "", "x")
