"""The client's engine and one message through it; rows C-01 to C-05, C-07, C-09, C-20, W-09, T-04."""

from __future__ import annotations

import contextlib
import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.errors import EngineMisuse, OutOfStep, ProtocolViolation
from copper_kite.smtp import client as smtp
from copper_kite.smtp.client import EXPECTED, ORDER, Client, Meaning, Phase, Verb, meaning_of
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret
from copper_kite.smtp.transaction import Envelope, Transaction
from copper_kite.words import Stage

COMMANDS = {
    Verb.EHLO: smtp.ehlo("q.example"),
    Verb.HELO: smtp.helo("q.example"),
    Verb.STARTTLS: smtp.starttls(),
    Verb.AUTH: smtp.auth("PLAIN", b"\0u\0p")[0],
    Verb.ANSWER: smtp.answer(b"p"),
    Verb.MAIL: smtp.mail("a@x.example"),
    Verb.RCPT: smtp.rcpt("b@y.example"),
    Verb.DATA: smtp.data(),
    Verb.END: smtp.END_OF_CONTENT,
    Verb.RSET: smtp.reset(),
    Verb.QUIT: smtp.quit_session(),
}
OFFER = b"250-q\r\n250-PIPELINING\r\n250-SIZE 5000\r\n250 8BITMIME\r\n"


def hear(client: Client, octets: bytes) -> list[smtp.Answered]:
    client.receive_data(octets)
    result = []
    while (answered := client.next_reply()) is not None:
        result.append(answered)
    return result


def ready(offer: bytes = OFFER) -> Client:
    client = Client()
    hear(client, b"220 hi\r\n")
    client.send(smtp.ehlo("q.example"))
    hear(client, offer)
    return client


def test_every_pair_outside_the_table_is_our_own_bug() -> None:
    count = 0
    for phase, verb in itertools.product(Phase, COMMANDS):
        client = ready()
        client.phase = phase
        if verb in ORDER[phase]:
            client.send(COMMANDS[verb])
            assert client.phase is ORDER[phase][verb]
        else:
            count += 1
            with pytest.raises(EngineMisuse):
                client.send(COMMANDS[verb])
    assert count == len(Phase) * len(COMMANDS) - sum(len(row) for row in ORDER.values())


def test_nothing_follows_what_ends_a_group() -> None:
    """C-04: nor anything at all without PIPELINING."""
    client = ready()
    client.send(smtp.mail("a@x.example"))
    client.send(smtp.rcpt("b@y.example"))
    client.send(smtp.data())
    for verb in (Verb.END, Verb.RSET, Verb.QUIT):
        assert not client.may_send(verb)
    client = ready(b"250 q\r\n")
    client.send(smtp.mail("a@x.example"))
    assert not client.may_send(Verb.RCPT)


CODES = {
    Meaning.DONE: (200, 220, 250, 299),
    Meaning.ANSWER_CHALLENGE: (334,),
    Meaning.SEND_CONTENT: (354,),
    Meaning.OTHER_INTERMEDIATE: (300, 350, 355, 399),
    Meaning.TRY_LATER: (400, 421, 498),
    Meaning.REFUSED: (500, 550, 599),
}


def waiting_for(verb: Verb) -> Client:
    """A session in which just the reply to `verb` is awaited."""
    if verb is Verb.GREETING:
        return Client()
    client = ready()
    client.say(COMMANDS.get(verb) or smtp.typed_command("XYZZY"))
    return client


@pytest.mark.parametrize("verb", Verb)
def test_every_reply_outside_the_table_is_out_of_step(verb: Verb) -> None:
    """C-05, C-07: all pairs of a command and a class of replies; once out of step, nothing is believed any more."""
    assert set(EXPECTED) == set(Verb) and set(CODES) == set(Meaning)
    for meaning, codes in CODES.items():
        for code in codes:
            assert meaning_of(code) is meaning
            client = waiting_for(verb)
            if meaning in EXPECTED[verb]:
                (answered,) = hear(client, f"{code} x\r\n".encode())
                assert answered.reply.code == code and answered.command.verb is verb
                continue
            for later in (f"{code} x\r\n".encode(), b"250 ok\r\n"):
                with pytest.raises(OutOfStep):
                    hear(client, later)
            assert client.phase is Phase.SPOILT and list(ORDER[client.phase]) == [Verb.QUIT]


@pytest.mark.parametrize("verb", Verb)
def test_more_replies_than_commands_are_out_of_step(verb: Verb) -> None:
    """C-07, RFC 2920 3.1: together with the reply or after it, whole or begun; but a server may close at any time."""
    code = b"354" if verb is Verb.DATA else b"250"
    for extra in (b"250 again\r\n", b"550-no\r\n", b"2", b"junk\r\n", b"354 go\r\n", b"4210 x\r\n"):
        with pytest.raises(ProtocolViolation):
            hear(waiting_for(verb), code + b" x\r\n" + extra)
        client = waiting_for(verb)
        hear(client, code + b" x\r\n")
        with contextlib.suppress(ProtocolViolation):
            hear(client, extra)
        assert client.unasked or client.phase is Phase.SPOILT
    for portions in (
        [code + b" x\r\n421 bye\r\n"],
        [code + b" x\r\n", b"421 bye\r\n"],
        [code + b" x\r\n42", b"1 bye\r\n"],
    ):
        if verb is not Verb.STARTTLS:  # there, all that is not under TLS is an attack (RFC 3207 4.2)
            client = waiting_for(verb)
            answered = [item for portion in portions for item in hear(client, portion)]
            assert [item.reply.code for item in answered] == [int(code), 421] and client.phase is Phase.CLOSED


def test_a_tester_judges_the_replies_itself() -> None:
    client = Client(lenient=True)
    assert [item.reply.code for item in hear(client, b"354 a\r\n250 b\r\n")] == [354, 250]


def test_replies_are_paired_in_order() -> None:
    client = ready()
    client.send(smtp.mail("a@x.example"))
    client.send(smtp.rcpt("b@y.example"))
    assert [answered.command.verb for answered in hear(client, b"250 a\r\n550 b\r\n")] == [Verb.MAIL, Verb.RCPT]


def test_a_session_whose_reset_was_refused_is_spoilt() -> None:
    """The transaction before may still be open there."""
    client = ready()
    client.send(smtp.reset())
    hear(client, b"500 what?\r\n")
    assert client.may_send(Verb.QUIT) and not client.may_send(Verb.MAIL)


def test_offers_are_read_in_any_case_and_nonsense_is_ignored() -> None:
    """RFC 5321 4.1.1.1: keywords have no case; digits are those of ASCII; what makes no sense is remarked on."""
    client = ready(b"250-q\r\n250-auth=plain login\r\n250-Auth Login xoauth2\r\n250-size 1000\r\n250 pipelining\r\n")
    offered = client.capabilities
    assert offered.logins == ("PLAIN", "LOGIN", "XOAUTH2") and offered.size == 1000 and "PIPELINING" in offered
    assert not offered.remarks
    for line in ("SIZE ²", "SIZE -1", "SIZE 1e3", "SIZE " + "9" * 21, "LIMITS RCPTMAX=٣", "LIMITS MAILMAX=0"):
        offered = ready(f"250-q\r\n250 {line}\r\n".encode()).capabilities
        assert (offered.size, offered.most_recipients, offered.most_messages) == (None, None, None)
        assert len(offered.remarks) == 1 and offered.remarks[0].isprintable() and "ignored" in offered.remarks[0]
    assert ready(b"250-q\r\n250-SIZE\r\n250 LIMITS RCPTMAX=5 X=y\r\n").capabilities.remarks == ()


def test_what_came_in_clear_is_forgotten() -> None:
    """T-04, W-09."""
    client = ready(b"250-q\r\n250-PIPELINING\r\n250-AUTH PLAIN\r\n250 STARTTLS\r\n")
    client.send(smtp.starttls())
    hear(client, b"220 go\r\n")
    client.tls_established()
    assert client.capabilities.logins == () and client.phase is Phase.GREETED
    client = ready()
    client.send(smtp.starttls())
    with pytest.raises(ProtocolViolation):
        hear(client, b"220 go\r\n250-x\r\n250 AUTH PLAIN\r\n")


def test_a_command_cannot_carry_another() -> None:
    """W-16."""
    with pytest.raises(EngineMisuse):
        smtp.rcpt("a@x.example>\r\nDATA")


def test_a_login_does_not_show() -> None:
    """A-18."""
    command, whole = smtp.auth("PLAIN", b"\0user\0word")
    assert whole and command.shown == "AUTH PLAIN ***" and smtp.answer(b"word").shown == "***"
    command, whole = smtp.auth("OAUTHBEARER", b"x" * 4000)
    assert not whole and command.wire == b"AUTH OAUTHBEARER\r\n", (
        "A-08: what is too long for the line waits for the 334"
    )
    assert "word" not in repr(Secret("word"))


# --- one message ----------------------------------------------------------------------------------------------------


def envelope(*recipients: str, size: int = 100, eight_bit: bool = False) -> Envelope:
    return Envelope("s@x.example", recipients, size, eight_bit, False)


def run_replies(client: Client, transaction: Transaction, replies: bytes) -> None:
    for answered in hear(client, replies):
        transaction.take(answered)
    if transaction.wants_content:
        transaction.wants_content = False
        client.send(smtp.END_OF_CONTENT)


def run(client: Client, transaction: Transaction, *replies: bytes) -> list[bytes]:
    """Play the server's replies; what the client sent for each."""
    sent = [transaction.start()]
    for reply in replies:
        out = b""
        for answered in hear(client, reply):
            out += transaction.take(answered)
        if transaction.wants_content:
            transaction.wants_content = False
            out += (b"" if transaction.empty else b"<content>") + client.send(smtp.END_OF_CONTENT)
        sent.append(out)
    return sent


def outcome(transaction: Transaction) -> dict[str, tuple[Stage, int]]:
    return {result.recipient: (result.stage, result.reply.code) for result in transaction.results}


def test_each_recipient_has_its_own_result() -> None:
    """C-01: the content goes once, for those that were accepted."""
    client = ready()
    transaction = Transaction(client, envelope("a@y", "b@y", "c@y"))
    sent = run(client, transaction, b"250 s\r\n250 a\r\n550 5.1.1 b\r\n451 c\r\n354 go\r\n", b"250 ok\r\n")
    assert sent == [
        b"MAIL FROM:<s@x.example> SIZE=100\r\nRCPT TO:<a@y>\r\nRCPT TO:<b@y>\r\nRCPT TO:<c@y>\r\nDATA\r\n",
        b"<content>.\r\n",
        b"",
    ]
    assert outcome(transaction) == {
        "a@y": (Stage.ACCEPT, 250), "b@y": (Stage.RECIPIENT, 550), "c@y": (Stage.RECIPIENT, 451),
    }  # fmt: skip
    assert transaction.finished


def test_all_refused_and_354_all_the_same() -> None:
    """C-02: just the end goes, and its reply counts for nobody."""
    client = ready()
    transaction = Transaction(client, envelope("a@y"))
    sent = run(client, transaction, b"250 s\r\n550 a\r\n354 go\r\n", b"250 ok\r\n")
    assert sent[1] == b".\r\n"
    assert transaction.finished and outcome(transaction) == {"a@y": (Stage.RECIPIENT, 550)}


def test_the_refusal_of_mail_decides() -> None:
    """C-03: not the 503s behind it; and the session can be used again after RSET."""
    client = ready()
    transaction = Transaction(client, envelope("a@y", "b@y"))
    sent = run(client, transaction, b"451 4.3.2 later\r\n503 a\r\n503 b\r\n503 d\r\n", b"250 reset\r\n")
    assert sent[1] == b"RSET\r\n"
    assert set(outcome(transaction).values()) == {(Stage.SENDER, 451)}
    assert transaction.finished and client.phase is Phase.READY


def test_data_refused_means_no_content() -> None:
    """C-02."""
    client = ready()
    transaction = Transaction(client, envelope("a@y"))
    sent = run(client, transaction, b"250 s\r\n250 a\r\n554 no\r\n", b"250 reset\r\n")
    assert sent[1] == b"RSET\r\n"
    assert outcome(transaction) == {"a@y": (Stage.CONTENT, 554)}


def test_without_pipelining_each_command_waits() -> None:
    """C-04, C-20: and no parameter that was not offered."""
    client = ready(b"250 q\r\n")
    transaction = Transaction(client, envelope("a@y", "b@y", eight_bit=True))
    sent = run(client, transaction, b"250 s\r\n", b"550 a\r\n", b"250 b\r\n", b"354 go\r\n", b"250 ok\r\n")
    assert sent == [
        b"MAIL FROM:<s@x.example>\r\n", b"RCPT TO:<a@y>\r\n", b"RCPT TO:<b@y>\r\n", b"DATA\r\n", b"<content>.\r\n", b"",
    ]  # fmt: skip
    transaction = Transaction(client, envelope("a@y"))
    assert run(client, transaction, b"250 s\r\n", b"550 a\r\n", b"250 reset\r\n")[2] == b"RSET\r\n"
    assert transaction.finished


def test_what_was_not_answered_is_undecided() -> None:
    """C-09, C-10: a lost session decides nobody."""
    client = ready()
    transaction = Transaction(client, envelope("a@y", "b@y"))
    run(client, transaction, b"250 s\r\n250 a\r\n550 b\r\n354 go\r\n")
    assert outcome(transaction) == {"b@y": (Stage.RECIPIENT, 550)}
    assert not transaction.finished


def test_the_next_message_may_go_with_the_end_of_this_one() -> None:
    """RFC 2920 3.1."""
    client = ready()
    first = Transaction(client, envelope("a@y"))
    run(client, first, b"250 s\r\n250 a\r\n354 go\r\n")
    second = Transaction(client, envelope("b@y"))
    assert second.start().endswith(b"DATA\r\n")
    for answered in hear(client, b"250 first\r\n"):
        first.take(answered)
    assert first.finished and not second.content_begun and not second.results


def test_parameters_follow_the_offer() -> None:
    client = ready()
    wire = Transaction(client, envelope("a@y", eight_bit=True)).start()
    assert wire.startswith(b"MAIL FROM:<s@x.example> SIZE=100 BODY=8BITMIME\r\n")
    assert Reply(250, "", "x") == Reply(250, "", "x")


def test_an_original_recipient_goes_on_in_ascii_where_it_must() -> None:
    """RFC 6533 3."""
    asked = "ORCPT=utf-8;grå@y.example"
    for offered, utf8, sent in ((b"SMTPUTF8", True, asked), (b"SMTPUTF8", False, None), (b"8BITMIME", True, None)):
        client = ready(b"250-q\r\n250-DSN\r\n250-PIPELINING\r\n250 " + offered + b"\r\n")
        item = Envelope("s@x.example", ("a@y",), 9, True, utf8, "", (asked,))
        wire = Transaction(client, item).start().decode()
        assert f"RCPT TO:<a@y> {sent or asked.replace('å', chr(92) + 'x{E5}')}\r\n" in wire


def test_what_stands_when_a_session_gets_out_of_step() -> None:
    """RFC 2920 3.1: refusals before a 354, which no other command has, and nothing without it."""
    for replies, stands in (
        (b"250 s\r\n550 a\r\n250 b\r\n354 go\r\n", {"a@y": (Stage.RECIPIENT, 550)}),
        (b"250 s\r\n550 a\r\n250 b\r\n250 what\r\n", {}),
        (b"250 s\r\n250 a\r\n250 a\r\n550 b\r\n", {}),
    ):
        client = ready()
        transaction = Transaction(client, envelope("a@y", "b@y"))
        run(client, transaction, b"")
        with contextlib.suppress(OutOfStep):
            run_replies(client, transaction, replies)
            run_replies(client, transaction, b"354 and again\r\n")
            raise AssertionError("in step")
        assert {item.recipient: (item.stage, item.reply.code) for item in transaction.certain} == stands


def test_a_group_that_went_well_is_taken_at_once() -> None:
    """The short way is gone where one was refused, or anything came in behind the 354."""
    for replies, accepted in (
        (b"250 s\r\n250 a\r\n354 go\r\n", [250, 250, 354]),
        (b"250 s\r\n550 a\r\n354 go\r\n", []),
        (b"250 s\r\n250 a\r\n354 go\r\n2", []),
        (b"250 s\r\n250 a\r\n", []),
    ):
        client = ready()
        Transaction(client, envelope("a@y")).start()
        client.receive_data(replies)
        assert [reply.code for reply in client.accepted_group()] == accepted


@given(st.lists(st.sampled_from([b"250 a\r\n", b"354 b\r\n", b"250-c\r\n250 c\r\n", b"451 d\r\n", b"550 e\r\n", b"25"]),
                min_size=1, max_size=6))  # fmt: skip
def test_replies_taken_together_come_to_the_same(replies: list[bytes]) -> None:
    """C-01, C-02: by the short way of a group that went well, or one by one."""
    ended = []
    for together in (False, True):
        client = ready()
        transaction = Transaction(client, envelope("a@y", "b@y"))
        transaction.start()
        client.receive_data(b"".join(replies))
        if together and client.accepted_group():
            assert len(replies) == 4 and all(reply[:1] in b"23" for reply in replies)
            transaction.take_accepted_group()
        with contextlib.suppress(ProtocolViolation):
            while not transaction.wants_content and (answered := client.next_reply()) is not None:
                transaction.take(answered)
        ready_for_content = transaction.wants_content and client.phase is Phase.CONTENT
        if ready_for_content and not client.unasked:
            client.send(smtp.END_OF_CONTENT)
            client.receive_data(b"250 ok\r\n")
            with contextlib.suppress(ProtocolViolation):
                while not transaction.finished and (answered := client.next_reply()) is not None:
                    transaction.take(answered)
        ended.append((ready_for_content, outcome(transaction), transaction.certain, transaction.finished, client.phase))
    assert ended[0] == ended[1]
