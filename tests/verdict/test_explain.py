"""What replies mean: the words that servers put their reasons in, the standards' words, and the command that tells."""

from __future__ import annotations

import json
import re

import pytest

from copper_kite.verdict import judge as judge_module
from copper_kite.verdict.data import knowledge
from copper_kite.verdict.explain import _phrases, find_phrase, standard_meaning
from copper_kite.verdict.judge import judge_attempt, side_of
from copper_kite.words import Cause, Side, Stage
from tests.support import kite

SAID = {
    "listed": ["554 Your address 192.0.2.7 is listed at bl.example", "550 5.7.1 refused, blocked using bl.example", "554 on our blacklist",
               "550 5.7.1 this client was blocked by list.example", "554 192.0.2.7 found in the list of bl.example", "550 address in a DNSBL",
               "554 5.7.1 see the block list at list.example", "550 192.0.2.7 is on the deny-list", "521 your host is banned here",
               "550 5.7.1 sending IP address blocked", "550 listed by rbl.example", "554 5.7.1 bl.example has this address",
               "550 5.7.1 mail blocked via list.example"],
    "kind of login": ["535 basic authentication is disabled", "534 an application-specific password is needed", "535 use an app password",
                      "535 a token is required"],
    "reputation": ["421 4.7.0 unsolicited mail from here", "550 5.7.1 looks like spam to us", "554 poor IP reputation"],
    "rate": ["451 4.7.1 rate limit for this sender", "421 too many connections from you", "452 4.7.1 Sending limit exceeded",
             "450 you have exceeded the hourly sending quota", "450 slow down", "421 unusual rate from your network", "421 too much mail in this hour: too many messages"],
    "greylisting": ["450 4.7.1 Greylisted", "451 4.7.1 come back in 300 seconds", "450 grey-listing in action"],
    "reverse DNS": ["550 5.7.1 no PTR record", "554 reverse DNS of 192.0.2.7 missing", "450 4.7.1 cannot find the host name of 192.0.2.7"],
    "authentication of the domain": ["550 5.7.1 rejected by DMARC policy", "550 SPF check failed", "550 5.7.1 unauthenticated email"],
    "login wanted": ["550 5.7.1 authentication is needed", "530 please log in", "550 login required"],
    "sender not allowed": ["550 5.7.1 you are not allowed to send as that address", "553 this sender was refused",
                           "553 5.7.1 address not owned by tern"],
    "relaying denied": ["550 5.7.1 no, relaying is denied", "554 relaying from here is forbidden", "550 unable to relay there", "550 we never relay"],
    "storage": ["452 insufficient storage", "452 no disk space here", "451 not enough room on the server: no system storage"],
    "mailbox full": ["450 mailbox is full", "552 user is over quota"],
    "unknown user": ["550 no such user here", "550 user unknown", "554 that recipient does not exist", "550 invalid recipient"],
    "disabled mailbox": ["550 this account has been disabled", "554 mailbox suspended"],
    "too large": ["554 message too big for the system", "552 message size exceeds the limit"],
    "content": ["554 contains a virus", "550 attachment type not allowed", "554 content refused"],
    "port blocked": ["550 mail from dynamic IP addresses is not taken", "554 dial-up range"],
}  # fmt: skip


@pytest.mark.parametrize(("about", "said"), [(about, said) for about, replies in SAID.items() for said in replies])
def test_the_words_of_a_reply_tell_why(about: str, said: str) -> None:
    """Each phrase by what it is found in, and by no other."""
    result = find_phrase(int(said[:3]), said[4:])
    assert result is not None and result.about == about


def test_every_phrase_is_shown_and_can_be_said() -> None:
    assert {phrase.about for phrase in _phrases()} == SAID.keys()
    facts = {"next_hop": "h", "connector": "c", "recipient": "r", "sender": "s", "id": "i", "text": ""}
    for replies in SAID.values():
        for said in replies:
            judged = judge_attempt(Stage.RECIPIENT, Cause.REPLY, int(said[:3]), "", {**facts, "text": said[4:]})
            assert judged.meaning and judged.next + judged.advice and "{" not in judged.meaning + judged.next


FACTS = {
    "connector": "beacon", "next_hop": "out.example:587", "host": "out.example", "port": "587", "address": "192.0.2.1",
    "login": "tern", "text": "no words", "recipient": "ana@x.example", "sender": "t@y.example", "credential": "keys",
    "names": "a.example", "id": "0DB", "config": "kite.toml", "more": "kite trace --dialogue 0DB", "who": "192.0.2.9",
    "listener": "programs", "name": "rota", "network": "192.0.2.9/32",
}  # fmt: skip
FORMS = (("", ""), ("alone", "alone_advice"), ("mx", "mx_advice"))
PLACEHOLDER = re.compile(r"\b[A-Z]{2,}\b(?<!DNS)")


def entries() -> list[tuple[str, dict[str, str]]]:
    known = knowledge()
    tables = [(f"{table} {key}", entry) for table in ("cause", "reply") for key, entry in known[table].items()]
    tables += [(f"refused {entry['says']}", entry) for entry in known["refused"]]
    return [*tables, *((f"phrase {entry['about']}", entry) for entry in known["phrase"])]


def test_each_sentence_reads_well_whatever_is_not_known() -> None:
    """With any one fact missing, and with all of them; a command with a fact that is missing is none."""
    for name, entry in entries():
        for template in (entry.get(key) for key in ("meaning", "advice", "alone_advice", "mx_advice")):
            for known in (FACTS, {}, *({key: FACTS[key] for key in FACTS if key != gone} for gone in FACTS)):
                if template:
                    told = judge_module._sentence(template, {**known, "stage": "login", "but_for": ""})
                    assert not re.search(
                        r"[{}]|\b(of|to|for|the|a) (of|to|the the|a the)\b|  |\(\)|the the|login (the|this)|connector the|listener the",
                        told,
                    ), (
                        name,
                        told,
                    )
                    assert template is not entry.get("meaning") or (told[0].isupper() or told[0] in "o1"), (name, told)
        for template in (entry.get(key) for key in ("next", "alone", "mx")):
            for word in (template or "").split(" "):
                assert not PLACEHOLDER.search(word), f"{name}: {template} has a word to be filled in"
            for gone in re.findall(r"{(\w+)}", template or ""):
                assert (
                    judge_module._command(template or "", {key: FACTS.get(key, "x") for key in FACTS if key != gone})
                    == ""
                )
        assert "same_as" in entry or entry.get("next") or entry.get("advice"), f"{name}: nothing to do?"


@pytest.mark.parametrize("code", ["450", "451", "452", "550", "552", "554", "535", "534", "421"])
def test_no_verdict_recommends_what_cannot_be_typed(code: str) -> None:
    """By a connector, by one that uses MX, and without one."""
    for more in ({"connector": "beacon"}, {"connector": "direct", "mx": True}, {}):
        for stage in Stage:
            known = {"next_hop": "out.example:587", "recipient": "ana@x.example", **more}
            command = judge_attempt(stage, Cause.REPLY, int(code), "", known).next
            assert "--connector direct" not in command and not command.startswith(
                "kite connector test direct --dialogue"
            )
            assert not PLACEHOLDER.search(command)


@pytest.mark.parametrize(
    ("stage", "said", "side", "words"),
    [
        ("sender", "452 4.3.1 insufficient system storage", Side.NEXT_HOP, "its own disk"),
        ("recipient", "550 5.4.1 access denied", Side.NEXT_HOP, "denies access to ana@x.example"),
        ("login", "535 5.7.139 basic authentication is disabled", Side.HERE, "has turned logins by password off"),
        ("login", "534 5.7.9 application password needed", Side.HERE, "a password made for applications"),
        ("recipient", "451 4.7.1 try later", Side.NEXT_HOP, "greylisting"),
        ("accept", "552 it does not fit", Side.NEXT_HOP, "too large, or the mailbox of ana@x.example is full"),
        ("accept", "552 5.2.2 over quota", Side.BEYOND, "is full"),
        ("greet", "421 4.7.0 too many sessions", Side.HERE, "only so much in a time"),
        ("recipient", "550 5.7.1 relaying denied", Side.HERE, "does not carry mail for others"),
        ("sender", "530 5.7.0 log in", Side.HERE, "takes no mail without a login"),
    ],
)
def test_codes_and_text_together(stage: str, said: str, side: Side, words: str) -> None:
    code, _, rest = said.partition(" ")
    enhanced = rest.partition(" ")[0] if rest[1:2] == "." else ""
    facts = {"next_hop": "out.example:587", "recipient": "ana@x.example", "text": rest}
    judged = judge_attempt(Stage(stage), Cause.REPLY, int(code), enhanced, facts)
    assert judged.side is side and words in judged.meaning, judged


def test_a_broken_exchanger_is_no_fault_of_ours() -> None:
    """A name that a connector has is ours to mend; one that a recipient's domain has is not."""
    facts = {"connector": "direct", "host": "mx.gone.example", "recipient": "ana@gone.example"}
    assert judge_attempt(Stage.RESOLVE, Cause.NAME_NOT_FOUND, None, "", facts).side is Side.HERE
    judged = judge_attempt(Stage.RESOLVE, Cause.NAME_NOT_FOUND, None, "", {**facts, "mx": True})
    assert judged.side is Side.BEYOND and judged.next == "kite connector test direct --to ana@gone.example"
    assert side_of(Stage.RESOLVE, Cause.NAME_NOT_FOUND, None, "", mx=True) is Side.BEYOND


@pytest.mark.parametrize("said", ["", "ok", "the tide is high", "queued as 8F3A", "no", "try again later"])
def test_words_that_tell_nothing_are_not_made_much_of(said: str) -> None:
    assert find_phrase(550, said) is None


def test_codes_that_say_it_are_believed_before_words() -> None:
    """And the record of an attempt has the same side as its verdict."""
    facts = {"text": "rejected: user unknown, see our SPF page", "recipient": "r@x.example", "next_hop": "h"}
    plain = judge_attempt(Stage.RECIPIENT, Cause.REPLY, 550, "5.1.1", facts)
    assert plain == judge_attempt(Stage.RECIPIENT, Cause.REPLY, 550, "5.1.1", {**facts, "text": ""})
    vague = judge_attempt(Stage.RECIPIENT, Cause.REPLY, 550, "5.7.1", {**facts, "text": "rate limit exceeded"})
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
    assert (told["standard"] or "").startswith(standard or "") and told["verdict"]["advice"]
    shown = kite("explain", *words)
    assert shown.returncode == 0 and b"Verdict" in shown.stdout


def test_what_is_no_reply_is_not_explained() -> None:
    done = kite("explain", "the", "tide")
    assert done.returncode == 2 and b"a reply begins with a code" in done.stderr


@pytest.mark.parametrize("stage", Stage)
def test_every_reply_that_ends_an_attempt_has_a_verdict(stage: Stage) -> None:
    """Also one that should not have ended it: an old record may hold it."""
    for code in range(200, 600):
        judged = judge_attempt(stage, Cause.REPLY, code, "", {"next_hop": "h", "text": "x"})
        assert (
            judged.meaning and judged.next + judged.advice and judged.side is side_of(stage, Cause.REPLY, code, "", "x")
        )
