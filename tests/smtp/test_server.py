"""The server's engine: its table, its answers, its limits. Rows of S, W and A are named where they are shown."""

from __future__ import annotations

import base64
import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from copper_kite.errors import EngineMisuse
from copper_kite.smtp import events
from copper_kite.smtp.commands import plain_mail
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.server import ORDER, Phase, Server, Step

OFFERS = Offers(max_size=1000, starttls=True, logins=("PLAIN",))


class Talk:
    """A session whose owner says yes to everything, or what `refuse` says."""

    def __init__(self, offers: Offers = OFFERS, limits: Limits | None = None, **refuse: Reply) -> None:
        self.engine = Server("quay1.ternferries.example", offers, limits)
        self.refuse = refuse
        self.seen: list[events.Event] = []
        self.engine.greet()
        self.engine.data_to_send()

    def say(self, octets: bytes, step: int = 0) -> bytes:
        out = b""
        for start in range(0, len(octets), step or len(octets)):
            event = self.engine.receive_data(octets[start : start + (step or len(octets))])
            while event is not None:
                self.seen.append(event)
                decision = self.refuse.get(type(event).__name__)
                event = self.engine.answer(decision) if event.asks else self.engine.next_event()
            out += self.engine.data_to_send()
        return out

    def codes(self, octets: bytes) -> list[str]:
        lines = self.say(octets).decode().split("\r\n")[:-1]
        return [" ".join(line.split(" ")[:2]) if "." in line[4:9] else line[:3] for line in lines if line[3] == " "]

    def content(self) -> bytes:
        return b"".join(event.data for event in self.seen if isinstance(event, events.Content | events.ContentEnded))


def ready(**more: object) -> Talk:
    talk = Talk(**more)  # type: ignore[arg-type]
    talk.say(b"EHLO ticketing.example\r\n")
    return talk


HELLO = b"EHLO t.example\r\n"
ENVELOPE = b"MAIL FROM:<a@x.example>\r\nRCPT TO:<b@y.example>\r\n"


def test_every_pair_outside_the_table_is_refused() -> None:
    """S-05, S-06: for each phase and each command that is not listed there, 503 and no change.

    Without an enhanced code before EHLO, whose reply tells of them (RFC 2034 3).
    """
    ways = {
        Phase.FRESH: b"",
        Phase.READY: HELLO,
        Phase.SENDER: HELLO + b"MAIL FROM:<a@x.example>\r\n",
        Phase.RECIPIENTS: HELLO + ENVELOPE,
    }
    commands = {
        Step.MAIL: b"MAIL FROM:<c@x.example>\r\n",
        Step.RCPT: b"RCPT TO:<d@y.example>\r\n",
        Step.DATA: b"DATA\r\n",
        Step.LOGIN: b"AUTH PLAIN\r\n",
        Step.SECURE: b"STARTTLS\r\n",
    }
    unlisted = 0
    for (phase, way), (step, command) in itertools.product(ways.items(), commands.items()):
        talk = Talk(Offers(starttls=True, logins=("PLAIN",), clear_logins=True))
        if way:
            talk.say(way)
        assert talk.engine.phase is phase
        if step not in ORDER[phase]:
            unlisted += 1
            assert talk.codes(command) == ["503" if phase is Phase.FRESH else "503 5.5.1"]
            assert talk.engine.phase is phase
        else:
            assert talk.codes(command)[0][0] in "23"
    assert unlisted == 14


def test_a_message_in_one_segment_and_octet_by_octet() -> None:
    """S-43: the same events and the same replies, however it comes."""
    octets = HELLO + ENVELOPE + b"DATA\r\nhi\r\n..dot\r\n.\r\nQUIT\r\n"
    whole, single = Talk(), Talk()
    heard = whole.say(octets)
    assert heard == single.say(octets, 1)
    assert whole.content() == single.content()
    assert [type(event) for event in whole.seen if not isinstance(event, events.Content)] == [
        events.Hello, events.MailFrom, events.RecipientTo, events.ContentStarted, events.ContentEnded, events.Quit,
    ]  # fmt: skip


@settings(max_examples=60)
@given(st.lists(st.sampled_from([HELLO, ENVELOPE, b"DATA\r\n", b"x\r\n.\r\n", b"RSET\r\n", b"NOOP\r\n", b"\r\n",
                                 b"FOO\n", b"AUTH PLAIN\r\n", b"*\r\n", b"\xff\xfe\r\n", b"STARTTLS x\r\n", b"BDAT 4\r\nab\r\n", b"BDAT 2 LAST\r\n\r\n"]),
                max_size=8), st.integers(1, 5))  # fmt: skip
def test_any_talk_is_answered_alike_however_it_is_cut(parts: list[bytes], step: int) -> None:
    octets = b"".join(parts)
    assert Talk().say(octets or b"\r\n") == Talk().say(octets or b"\r\n", step)


def test_greeting_and_hello() -> None:
    """S-01, S-02, S-03, S-25."""
    engine = Server("quay1.ternferries.example", OFFERS)
    engine.greet()
    assert engine.data_to_send().startswith(b"220 quay1.ternferries.example ")
    heard = Talk().say(b"ehlo t.example\r\n").decode()
    assert heard.splitlines() == [
        "250-quay1.ternferries.example", "250-PIPELINING", "250-SIZE 1000", "250-8BITMIME", "250-SMTPUTF8",
        "250-CHUNKING", "250-DSN", "250-LIMITS RCPTMAX=1000", "250-ENHANCEDSTATUSCODES", "250 STARTTLS",
    ]  # fmt: skip
    assert Talk().say(b"HELO t.example\r\n") == b"250 quay1.ternferries.example\r\n"
    assert Talk().codes(b"EHLO\r\nEHLO a b\r\n") == ["501", "501"]


def test_commands_in_any_case() -> None:
    """S-04."""
    talk = Talk()
    codes = talk.codes(
        b"eHlO t\r\nmAiL fRoM:<A.b@example.com> sIzE=10 bOdY=8bitmime\r\nrCpT tO:<CamelCase@example.com>\r\n"
    )
    assert codes == ["250", "250 2.1.0", "250 2.1.5"]
    assert talk.seen[1] == events.MailFrom("A.b@example.com", 10, True, False)
    assert talk.seen[2] == events.RecipientTo("CamelCase@example.com")


def test_commands_that_change_nothing() -> None:
    """S-05, S-07, S-09, S-10."""
    idle = b"NOOP\r\nNOOP x y\r\nHELP\r\nVRFY a\r\nRSET\r\n"
    assert Talk().codes(idle) == ["250", "250", "214", "252", "250"], "RFC 2034 3: before EHLO, without enhanced codes"
    assert ready().codes(idle) == ["250 2.0.0", "250 2.0.0", "214 2.0.0", "252 2.1.0", "250 2.0.0"]
    blanks = b"RSET \r\nRSET\t\r\nNOOP\tx\r\nMAIL\tFROM:<a@x.example>\r\nRSET\tx\r\n"
    assert ready().codes(blanks) == ["250 2.0.0", "250 2.0.0", "250 2.0.0", "250 2.1.0", "501 5.5.4"]
    talk = ready()
    assert talk.codes(ENVELOPE + b"NOOP\r\nFOO\r\nTURN\r\nRSET x\r\nDATA x\r\nQUIT x\r\nDATA\r\n") == [
        "250 2.1.0", "250 2.1.5", "250 2.0.0", "500 5.5.1", "502 5.5.1", "501 5.5.4", "501 5.5.4", "501 5.5.4", "354",
    ]  # fmt: skip


def test_a_second_mail_is_refused_and_the_first_goes_on() -> None:
    """S-06, S-44: and after the end, nothing of the former transaction is left."""
    talk = ready()
    assert talk.codes(ENVELOPE + b"MAIL FROM:<other@x.example>\r\nDATA\r\nx\r\n.\r\nDATA\r\n" + ENVELOPE) == [
        "250 2.1.0", "250 2.1.5", "503 5.5.1", "354", "250 2.0.0", "503 5.5.1", "250 2.1.0", "250 2.1.5",
    ]  # fmt: skip


def test_a_new_ehlo_drops_the_transaction() -> None:
    """S-05."""
    talk = ready()
    assert talk.codes(ENVELOPE + HELLO + b"DATA\r\n")[-1] == "503 5.5.1"
    assert events.Reset() in talk.seen


@pytest.mark.parametrize(
    ("command", "code"),
    [
        (b"MAIL FROM:<a@example.com> FOO=1", "555 5.5.4"),  # S-11
        (b"MAIL FROM:<a@example.com> REQUIRETLS", "555 5.5.4"),  # T-15: not in clear
        (b"MAIL FROM:<a@example.com> ret=hdrs envid=QQ314159", "250 2.1.0"),  # S-29
        (b"MAIL FROM:<a@example.com> RET=FOO", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> RET", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> RET=FULL RET=FULL", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> ENVID=" + b"q" * 100, "250 2.1.0"),
        (b"MAIL FROM:<a@example.com> ENVID=" + b"q" * 101, "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> ENVID=a+2Bb+3Dc", "250 2.1.0"),  # D-12
        (b"MAIL FROM:<a@example.com> ENVID=a+2bb", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> ENVID=a+", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> ENVID=a=b", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> ENVID=a+0D+0Ab", "501 5.5.4"),  # it will stand in a header field
        (b"MAIL FROM:a@example.com", "501 5.1.7"),  # S-12
        (b"MAIL TO:<a@example.com>", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> SIZE=1000", "250 2.1.0"),  # S-17
        (b"MAIL FROM:<a@example.com> SIZE=1001", "552 5.3.4"),
        (b"MAIL FROM:<a@example.com> SIZE=abc", "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> SIZE=" + b"1" * 21, "501 5.5.4"),
        (b"MAIL FROM:<a@example.com> SIZE=0", "250 2.1.0"),
        (b"MAIL FROM:<a@example.com> BODY=FOO", "501 5.5.4"),  # S-24
        (b"MAIL FROM:<a@example.com> SMTPUTF8=1", "501 5.5.4"),  # S-25
        ("MAIL FROM:<é@example.com>".encode(), "553 5.6.7"),
        ("MAIL FROM:<é@example.com> SMTPUTF8".encode(), "250 2.1.0"),
        (b"MAIL FROM:<\xff@example.com>", "501 5.5.2"),
        (b"MAIL FROM:<a@example.com> AUTH=e+3Dmc2@example.com", "250 2.1.0"),
        (b"MAIL FROM:<a@example.com> AUTH=+zz", "501 5.5.4"),
        (b"MAIL FROM:<>", "250 2.1.0"),  # S-20
        (b"MAIL FROM:<a\0b@example.com>", "500 5.5.2"),  # W-07
        (b"GET / HTTP/1.1", "500 5.5.1"),
    ],
)
def test_mail_commands(command: bytes, code: str) -> None:
    assert ready().codes(command + b"\r\n") == [code]


def test_recipients_are_bounded_and_the_rest_go_on() -> None:
    """S-15."""
    talk = ready(limits=Limits(recipients=100))
    talk.say(b"MAIL FROM:<a@x.example>\r\n")
    codes = talk.codes(b"".join(b"RCPT TO:<r%d@y.example>\r\n" % n for n in range(101)) + b"DATA\r\n")
    assert codes == ["250 2.1.5"] * 100 + ["452 4.5.3", "354"]


def test_a_bare_lf_ends_no_line() -> None:
    """W-01: one bad line, one reply."""
    talk = ready()
    assert talk.say(b"NOOP\n") == b""
    assert talk.codes(b"RSET\r\n") == ["500 5.5.2"]


def test_an_endless_line_costs_one_reply_and_no_memory() -> None:
    """W-10, S-14."""
    talk = ready()
    for _ in range(100):
        assert talk.say(b"x" * 65536) == b""
        assert talk.engine.buffered < 4
    assert talk.codes(b"\r\nNOOP\r\n") == ["500 5.5.2", "250 2.0.0"]


def test_patience_ends() -> None:
    """W-12, W-13: also when it is spent on RSET; a session in good use keeps it."""
    talk = ready(limits=Limits(patience=5))
    codes = talk.codes(b"RSET\r\nFOO\r\n" * 5)
    assert codes[-1] == "421 4.7.0" and len(codes) == 7
    assert talk.engine.phase is Phase.CLOSED
    talk = ready(limits=Limits(patience=5))
    for _ in range(20):
        assert "421 4.7.0" not in talk.codes(b"NOOP\r\n" * 4), "as time passes, they are forgiven"
        talk.engine.forgive(4)
    talk = ready(limits=Limits(patience=5))
    assert "421 4.7.0" not in talk.codes((ENVELOPE + b"DATA\r\nx\r\n.\r\nRSET\r\n") * 20)


def test_what_follows_from_a_refusal_of_ours_costs_no_patience() -> None:
    """W-12: a group of commands whose MAIL was put off, the RSET behind it, and content that found no room."""
    put_off = Reply(452, "4.3.1", "no room")
    talk = ready(limits=Limits(patience=5), MailFrom=put_off)
    group = ENVELOPE + b"RCPT TO:<c@y.example>\r\nDATA\r\nRSET\r\n"
    assert talk.codes(group * 20) == ["452 4.3.1", "503 5.5.1", "503 5.5.1", "503 5.5.1", "250 2.0.0"] * 20
    del talk.refuse["MailFrom"]
    talk.refuse["ContentEnded"] = put_off
    whole = ["250 2.1.0", "250 2.1.5", "354", "452 4.3.1", "250 2.0.0"]
    assert talk.codes((ENVELOPE + b"DATA\r\nx\r\n.\r\nRSET\r\n") * 20) == whole * 20
    assert talk.codes(b"RCPT TO:<c@y.example>\r\n" * 7)[-1] == "421 4.7.0", "but those that follow from none do"


def test_faulty_content_is_refused_once_and_the_session_goes_on() -> None:
    """W-03: nothing is handed on for keeping."""
    talk = ready()
    assert talk.codes(ENVELOPE + b"DATA\r\na\nb\r\n.\r\nNOOP\r\n")[2:] == ["354", "550 5.6.0", "250 2.0.0"]
    assert not any(isinstance(event, events.ContentEnded) for event in talk.seen)


def test_refusals_by_the_owner() -> None:
    talk = ready(RecipientTo=Reply(550, "5.7.1", "no"))
    assert talk.codes(ENVELOPE + b"DATA\r\n") == ["250 2.1.0", "550 5.7.1", "503 5.5.1"]
    talk = ready(ContentEnded=Reply(452, "4.3.1", "full"))
    assert talk.codes(ENVELOPE + b"DATA\r\nx\r\n.\r\n" + ENVELOPE)[3:] == ["452 4.3.1", "250 2.1.0", "250 2.1.5"]
    with pytest.raises(EngineMisuse):
        talk.engine.answer()


def test_octets_behind_starttls_are_gone() -> None:
    """W-08, T-02, T-03."""
    talk = ready()
    assert talk.codes(b"STARTTLS\r\nMAIL FROM:<e@x.test>\r\n") == ["220 2.0.0"]
    talk.engine.tls_established()
    assert talk.codes(b"MAIL FROM:<a@x.example>\r\n") == ["503"]
    heard = talk.say(HELLO)
    assert b"STARTTLS" not in heard and b"AUTH PLAIN" in heard
    assert talk.codes(b"STARTTLS\r\n") == ["503 5.5.1"]


def plain(login: str, password: str) -> bytes:
    return base64.b64encode(f"\0{login}\0{password}".encode())


def secured(**refuse: Reply) -> Talk:
    talk = Talk(**refuse)
    talk.engine.secure = True
    talk.say(HELLO)
    return talk


def test_logins() -> None:
    """A-01 to A-05, A-10."""
    assert ready().codes(b"AUTH PLAIN " + plain("u", "p") + b"\r\n") == ["538 5.7.11"]
    assert secured().codes(b"AUTH\r\nAUTH FOO\r\n") == ["501 5.5.4", "504 5.5.4"]
    assert secured().codes(b"auth plain\r\n" + plain("u", "p") + b"\r\nAUTH PLAIN\r\n") == [
        "334", "235 2.7.0", "503 5.5.1",
    ]  # fmt: skip
    assert secured().codes(b"AUTH PLAIN =\r\n") == ["501 5.5.2"]
    assert secured().codes(b"AUTH PLAIN\r\n*\r\nAUTH PLAIN\r\nnot base64\r\n") == [
        "334",
        "501 5.7.0",
        "334",
        "501 5.5.2",
    ]
    for bad in (b"a\0b", b"\0u\0p\0x", b"\0\0p", b"\0u\0", b"\0u\0\xff"):
        assert secured().codes(b"AUTH PLAIN " + base64.b64encode(bad) + b"\r\n") == ["501 5.5.2"]
    talk = secured(LoginAsked=Reply(535, "5.7.8", "no"))
    assert talk.codes(b"AUTH PLAIN " + plain("u", "p") + b"\r\nMAIL FROM:<>\r\n") == ["535 5.7.8", "250 2.1.0"]
    assert not talk.engine.logged_in
    assert "p" not in repr(talk.seen[1]).split("password=")[1]


def test_an_over_long_login_answer() -> None:
    """A-08."""
    talk = secured()
    assert talk.codes(b"AUTH PLAIN\r\n" + b"A" * 12000 + b"\r\n") == ["334", "501 5.5.2"]
    assert talk.codes(b"AUTH PLAIN\r\n" + b"A" * 20000 + b"\r\nNOOP\r\n") == ["334", "500 5.5.6", "250 2.0.0"]


def test_quit_and_closing() -> None:
    """S-08, S-32."""
    talk = ready()
    assert talk.codes(ENVELOPE + b"QUIT\r\nNOOP\r\n") == ["250 2.1.0", "250 2.1.5", "221 2.0.0"]
    assert talk.seen[-2:] == [events.Reset(), events.Quit()]
    talk = ready()
    talk.engine.close(Reply(421, "4.3.2", "stopping"))
    assert talk.engine.data_to_send() == b"421 4.3.2 stopping\r\n"
    assert talk.say(b"NOOP\r\n") == b""


# --- RFC 3461, RFC 9422, RFC 8689 -----------------------------------------------------------------------------------


# --- chunks (RFC 3030) ----------------------------------------------------------------------------------------------


def test_logins_that_fail_end_the_session() -> None:
    """A-09: after the fifth; what goes well in between does not forgive them."""
    talk = ready(offers=Offers(logins=("PLAIN",), clear_logins=True), LoginAsked=Reply(535, "5.7.8", "no"))
    login = b"AUTH PLAIN AGEAYg==\r\n"
    assert talk.codes(login * 4) == ["535 5.7.8"] * 4
    assert talk.codes(ENVELOPE + b"DATA\r\nx\r\n.\r\n" + login + b"NOOP\r\n")[-2:] == ["535 5.7.8", "421 4.7.0"]


def test_no_mail_in_clear_where_tls_is_demanded() -> None:
    """T-05, A-01: everything that leads to TLS, or out, works."""
    talk = ready(offers=Offers(starttls=True, demands_tls=True, logins=("PLAIN",)))
    mail = b"MAIL FROM:<a@x.example>\r\nmail from:<a@x.example>\r\nRCPT TO:<b@y.example>\r\nDATA\r\n"
    assert talk.codes(mail + b"BDAT 3\r\nabcAUTH PLAIN AGEAYg==\r\n") == ["530 5.7.0"] * 4 + ["503 5.5.1", "538 5.7.11"]
    assert talk.codes(HELLO + b"NOOP\r\nSTARTTLS\r\n") == ["250", "250 2.0.0", "220 2.0.0"]
    talk.engine.tls_established()
    assert talk.codes(HELLO + ENVELOPE + b"QUIT\r\n") == ["250", "250 2.1.0", "250 2.1.5", "221 2.0.0"]


SEGMENTS = [
    b"EHLO t.example\r\n", b"MAIL FROM:<a@x.example>\r\n", b"MAIL FROM:<a@x.example> SIZE=2000\r\n",
    b"mail from:<> size=9\r\n", b"RCPT TO:<b@y.example>\r\n", b"RCPT TO:<c@y.example>\r\nDATA\r\n", b"DATA\r\n", b"RSET\r\n",
    b"Subject: x\r\n\r\ny\r\n.\r\n", b"..\r\n.x\r\n.\r\nNOOP\r\n", b"\r\n..dots\r\n.\r\n", b".\r\n", b"a\nb\r\n.\r\n",
    b"x" * 999 + b"\r\n.\r\n", b"y" * 1100 + b"\r\n.\r\n", b"half a li", b"ne\r\n", b"BDAT 3 LAST\r\nabc", b"BDAT 9\r\n", b"NOOP\r\n",
    b"STARTTLS\r\n", b"QUIT\r\n", b"caf\xc3\xa9\r\n.\r\n", b"\0\r\n.\r\n", b"RCPT TO:<\"q q\"@y.example>\r\n",
]  # fmt: skip


@pytest.mark.parametrize(
    ("command", "path"),
    [
        (b"MAIL FROM: <a@b.example>", "a@b.example"),
        (b"MAIL FROM:< a@b.example >", "a@b.example"),
        (b"mail from : a@b.example SIZE=9", "a@b.example"),
        (b"MAIL FROM:a@b.example", "a@b.example"),
        (b"MAIL FROM:<>", ""),
        (b"MAIL FROM:a@b.example>", None),
        (b"MAIL FROM:<a@b.example", None),
        (b"MAIL FROM:a b@c.example", None),
        (b"MAIL FROM:<a@b.example> <c@d.example>", None),
        (b"MAIL a@b.example", None),
    ],
)
def test_what_is_slightly_off_is_taken_where_it_means_one_thing(command: bytes, path: str | None) -> None:
    """And by a strict server, refused, but for the one blank that everybody takes."""
    for hello in (b"EHLO my_host", b"HELO 2001:db8::1", b"EHLO h.example"):
        lenient = Talk(limits=Limits(lenient=True))
        assert lenient.codes(hello + b"\r\n" + command + b"\r\n")[-1][:3] == ("501" if path is None else "250")
        result = [event.path for event in lenient.seen if isinstance(event, events.MailFrom)]
        assert result == ([] if path is None else [path])
    strict = Talk()
    strict.say(b"EHLO h.example\r\n" + command + b"\r\n")
    taken = [event.path for event in strict.seen if isinstance(event, events.MailFrom)]
    assert taken == ([path] if command in (b"MAIL FROM: <a@b.example>", b"MAIL FROM:<>") else [])


def test_what_is_remembered_of_lines_stays_small() -> None:
    """W-10: whole segments of noise are not kept, however many come."""
    talk = ready(limits=Limits(patience=1000))
    before = plain_mail.cache_info().currsize
    for number in range(100):
        talk.say(b"MAIL FROM:<%d@x.example>" % number + b"x" * 5000 + b"\r\n")
    assert plain_mail.cache_info().currsize == before


@given(st.lists(st.sampled_from(SEGMENTS), max_size=25), st.booleans(), st.sampled_from([0, 0, 2]))
@settings(max_examples=400)
def test_the_short_way_comes_to_the_same(segments: list[bytes], refuses: bool, messages: int) -> None:
    """What comes as one whole command needs no buffer: the answers, and what the owner hears, are the same."""
    refuse = {"RecipientTo": Reply(550, "5.1.1", "no"), "ContentEnded": Reply(452, "4.3.1", "full")} if refuses else {}
    limits = Limits(messages=messages, patience=8)
    long, short = (Talk(limits=limits, **refuse) for _ in range(2))
    long.engine._whole = lambda data: None  # type: ignore[method-assign]
    heard = b"".join([long.say(segment) for segment in segments])
    assert b"".join([short.say(segment) for segment in segments]) == heard
    assert short.seen == long.seen and short.engine.phase is long.engine.phase
