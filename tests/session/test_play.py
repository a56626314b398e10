"""Session scripts: the language, each expectation, and the scripts that kite ships with, against good and bad servers."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from importlib import resources
from pathlib import Path
from typing import Any

import pytest

from copper_kite.errors import InputError, SettingsError
from copper_kite.net.authority import CertificateFiles
from copper_kite.net.plan import Plan, Timeouts
from copper_kite.session.behaviour import Behaviour
from copper_kite.session.play import Played, play_script
from copper_kite.session.script import parse_script
from copper_kite.session.staging import stage_stand_in
from copper_kite.session.standin import StandIn
from copper_kite.settings.secrets import Credential
from copper_kite.smtp.sasl import Secret
from copper_kite.words import Side
from tests.relay.test_accounts import WORDS, with_accounts
from tests.support import PASSWORD, free_port, site

TIMES = Timeouts(resolve=5.0, connect=5.0, secure=5.0, greet=5.0, command=5.0, data=5.0, accept=5.0, quit=0.3)
CREDENTIALS = {"tern": Credential("tern", "tern", Secret(PASSWORD))}
OPENING = "connect\nhello\nexpect 250\nsecure\nlogin tern\n"
MAIL = "say MAIL FROM:<a@x.example>\nexpect 250\nsay RCPT TO:<b@x.example>\nexpect 250 2.1.5\n"


@asynccontextmanager
async def standing(folder: Path, behaviour: Mapping[str, Any]) -> AsyncIterator[Plan]:
    """A stand-in that behaves so, and the plan to meet it."""
    here = StandIn(stage_stand_in(Behaviour.model_validate(behaviour), folder, {"tern": Secret(PASSWORD)}))
    port = await here.start("127.0.0.1", 0)
    authority = folder / "tls" / "ca.pem"
    trust = str(authority) if authority.exists() else "system"
    login = {"login": "tern", "password": Secret(PASSWORD)}
    try:
        yield Plan(host="localhost", port=port, name="quay1.ternferries.example", trust=trust, timeouts=TIMES, **login)
    finally:
        await here.stop()


def played(folder: Path, text: str, behaviour: Mapping[str, Any] | None = None, **given: str) -> Played:
    script = parse_script(folder / "a.session", text)

    async def live() -> Played:
        async with standing(folder, behaviour or {}) as plan:
            return await play_script(script, plan, given, CREDENTIALS, {})

    return asyncio.run(live())


def test_a_whole_session_reads_like_one(folder: Path) -> None:
    """TLS, login, content, capabilities, time, variables: all green, and the message is there."""
    text = (
        "# a comment\ntitle a whole session\nlet to = b@x.example\nlet whom = <${to}>\n\n" + OPENING
        + "expect TLS\nexpect offer AUTH PLAIN\nexpect no offer STARTTLS\n"
        + "say MAIL FROM:<a@x.example>\nexpect 2yz\nexpect within 4s\nsay RCPT TO:${whom}\nexpect 250 or 251\n"
        + "say DATA\nexpect 354\ncontent\n| Subject: hi\n|\n| .dot\n| ${to}\nexpect 250 2.0.0\nexpect text \"taken as\"\n"
        + 'expect no text "refused"\nsay NOOP\nexpect 25z\nsay QUIT\nexpect 221\nexpect closed\n'
    )  # fmt: skip
    result = played(folder, text)
    assert result.good and result.script.title == "a whole session", result.failed
    (kept,) = folder.glob("*.eml")
    assert kept.read_bytes() == b"Subject: hi\r\n\r\n.dot\r\nb@x.example\r\n"
    said = str(result.dialogue.export())
    assert PASSWORD not in said and "dGVybg" not in said


@pytest.mark.parametrize(
    ("text", "line", "came"),
    [
        (OPENING + MAIL + "expect 550", 10, "250 2.1.5 recipient taken"),
        (OPENING + MAIL + "expect 250 2.9.9", 10, "250 2.1.5 recipient taken"),
        (OPENING + 'expect text "x"', 6, "no reply"),
        (OPENING + MAIL + 'expect text "refused"', 10, "250 2.1.5 recipient taken"),
        (OPENING + MAIL + 'expect no text "taken"', 10, "250 2.1.5 recipient taken"),
        (OPENING + "expect offer BINARYMIME", 6, "BINARYMIME is not offered"),
        (OPENING + "expect offer AUTH CRAM-MD5", 6, "AUTH SCRAM-SHA-256 PLAIN LOGIN is offered"),
        (OPENING + "expect no offer SIZE", 6, "SIZE 104857600 is offered"),
        (OPENING + "expect no TLS", 6, "TLSv1.3"),
        ("connect\nexpect TLS", 2, "no TLS"),
        (OPENING + "expect TLS 1.2", 6, "TLSv1.3"),
        (OPENING + "say NOOP\nexpect within 0s", 7, "it took 0.0"),
        (OPENING + "expect closed", 6, "the line is open"),
        (OPENING + 'octets "NOOP\\r\\n"\nexpect silence 5s', 7, "250 2.0.0 done"),
        (OPENING + "say NOOP\nexpect stop at hello", 7, "it went on"),
        ("connect\nhello\nlogin tern\nexpect 235", 3, "stopped at login"),
        ("connect\nhello\nlogin tern\nexpect stop at secure", 4, "stop at login: login in clear"),
        ("connect\nsecure", 2, "stopped at secure: STARTTLS is not offered"),
        ("connect\nsay DATA\nexpect 354", 3, "503 not now"),
    ],
)
def test_what_does_not_come_is_told_with_its_line(folder: Path, text: str, line: int, came: str) -> None:
    result = played(folder, text)
    assert not result.good and result.failed is not None and result.verdict is not None
    assert result.failed.step.line == line and came in result.failed.came
    assert result.verdict.meaning and result.verdict.next


async def test_a_credential_may_hold_a_command_or_a_token(folder: Path) -> None:
    """`login NAME` takes all that a credential has, and nothing of the command line's login."""
    script = parse_script(folder / "a.session", "connect\nhello\nsecure\nlogin renewed\nexpect no offer STARTTLS\n")
    held = {"token_command": f"echo {PASSWORD}"}, {"token": Secret(PASSWORD)}, {"password_command": f"echo {PASSWORD}"}

    async with standing(folder, {"offers": {"mechanisms": ["OAUTHBEARER", "PLAIN"]}}) as plan:
        plan = plan.logging_in_as(Credential("", "tern", password=Secret("another, and wrong")))
        for item in held:
            credentials = {"renewed": Credential("renewed", "tern", **item)}  # type: ignore[arg-type]
            result = await play_script(script, plan, {}, credentials, {})
            assert result.good, result.failed


def test_a_stop_may_be_expected(folder: Path) -> None:
    """At its stage and for its cause; the script goes on behind it."""
    text = "connect\nhello\nsecure\nexpect stop at secure: self-signed\nconnect\nhello\nexpect 250\n"
    assert played(folder, text, {"tls": {"certificate": "self-signed"}}).good
    wrong = played(folder, text.replace("self-signed", "out of date"), {"tls": {"certificate": "self-signed"}})
    assert wrong.failed is not None and wrong.failed.step.line == 4 and "self-signed" in wrong.failed.came
    behaviour = {"rule": [{"stage": "hello", "do": "cut", "turns": "1"}]}
    assert played(folder, "connect\nhello\nexpect stop at hello\nconnect\nhello\nexpect 250", behaviour).good


def test_a_known_fault_is_told_when_it_is_gone(folder: Path) -> None:
    known = "known fault the next release will fix it\nconnect\nexpect "
    still, gone = played(folder, known + "5yz"), played(folder, known + "220")
    assert (still.outcome, still.good, gone.outcome, gone.good) == ("known", True, "mended", False)


def test_blocks(folder: Path) -> None:
    """Repetition with turns, pipelined commands, conditions, and sessions side by side."""
    text = (
        OPENING + "say MAIL FROM:<a@x.example>\nrepeat 3\nsay RCPT TO:<r${turn}@x.example>\nexpect 250\nend\nsay RSET\n"
        "together\nsay MAIL FROM:<a@x.example>\nsay RCPT TO:<b@x.example>\nsay RSET\nend\n"
        "hear\nexpect 250 2.1.0\nhear\nexpect 250 2.1.5\nhear\nexpect 250\n"
        "if offer NOSUCH\nexpect 599\nend\nif login\nsay NOOP\nend\nclose\n"
        "at once 8\nconnect\nexpect 220\nhello\nexpect 250\nclose\nend\n"
    )
    result = played(folder, text)
    assert result.good and result.expectations == 1 + 3 + 3 + 16, result.failed
    dialogue = str(result.dialogue.export())
    assert "<r3@x.example>" in dialogue and dialogue.count("220 localhost ESMTP") == 9
    bad = played(folder, "at once 3\nconnect\nexpect 5yz\nend")
    assert bad.failed is not None and bad.failed.step.line == 3


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("conect", 1, "did you mean 'connect'?"),
        ("connect\nexpect gold", 2, "nothing to expect"),
        ("expect stop at noon", 1, "'noon' is no stage"),
        ("repeat 3\nhello", 1, "repeat has no end"),
        ("hello\nend", 2, "nothing to end"),
        ("repeat many\nend", 1, "takes a number"),
        ("content\nhello", 1, "content has no lines"),
        ("together\nhello\nend", 1, "only say stands in together"),
        ("say", 1, "say needs something"),
        ("secure now", 1, "nothing may follow secure"),
        ("let a b", 1, "NAME = VALUE"),
        ("otherwise x", 1, "after an expect"),
        ("if closed\nend", 1, "if asks for what is known"),
        ("| text", 1, "belong below content"),
    ],
)
def test_mistakes_in_scripts_are_told_with_their_line(text: str, line: int, words: str) -> None:
    with pytest.raises(SettingsError) as caught:
        parse_script(Path("a.session"), text)
    (finding,) = caught.value.findings
    assert finding.line == line and words in str(finding)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("connect\nsay ${nobody}", "--set nobody="),
        ("needs to a recipient\nconnect", "--set to=… (a recipient)"),
        ("say NOOP", "connect first"),
        ("connect\nlogin nobody", "no credential 'nobody' (there are: tern)"),
        ("connect\ncontent from nowhere.eml", "nowhere.eml"),
        ("connect\nrepeat ${n}\nend", "is no number"),
    ],
)
def test_scripts_that_cannot_be_played(folder: Path, text: str, words: str) -> None:
    with pytest.raises(InputError, match=r"(?s).*") as caught:
        played(folder, text, n="0")
    assert words in str(caught.value)


# --- those that kite ships with --------------------------------------------------------------------------------------

SHIPPED = sorted(Path(str(resources.files("copper_kite.session") / "scripts")).glob("*.session"))

# Against this one each of them fails, on the line whose expectation is about the fault.
BAD = {
    "offers": {"login": "optional", "login_in_clear": True, "keeps_size": False, "recipients": 20, "loose_end": True}
}
FAILS_AT = {
    "end-of-content": "expect silence 0.3s",
    "login-in-clear": "expect 500 or 502 or 503 or 504 or 530 or 538",
    "recipients": "expect 250 or 251 or 252",
    "size": "expect 552 or 452 or 554",
    "strangers": "expect 5yz",
    "tls-before-login": "expect no offer AUTH",
}


def shipped(path: Path) -> Any:
    return parse_script(path, path.read_text())


@pytest.mark.parametrize("name", FAILS_AT)
def test_each_shipped_script_fails_against_a_bad_server(folder: Path, name: str) -> None:
    (path,) = (item for item in SHIPPED if item.stem == name)
    result = played(folder, path.read_text(), BAD)
    assert result.failed is not None and result.verdict is not None
    assert str(result.failed.step) == FAILS_AT[name] and result.failed.step.otherwise in result.verdict.meaning
    assert result.verdict.side is Side.NEXT_HOP


async def test_the_order_is_checked_against_one_that_takes_everything() -> None:
    class YesMan(asyncio.Protocol):
        def connection_made(self, transport: asyncio.BaseTransport) -> None:
            self._transport = transport
            transport.write(b"220 yes\r\n")  # type: ignore[attr-defined]

        def data_received(self, data: bytes) -> None:
            self._transport.write(b"250 yes\r\n" * data.count(b"\n"))  # type: ignore[attr-defined]

    async def live() -> Played:
        server = await asyncio.get_running_loop().create_server(YesMan, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        (path,) = (item for item in SHIPPED if item.stem == "order")
        result = await play_script(
            shipped(path), Plan(host="localhost", port=port, name="q", timeouts=TIMES), {}, {}, {}
        )
        server.close()
        return result

    result = await live()
    assert result.failed is not None and result.failed.step.line == 7
    assert "before anybody has said hello" in str(result.verdict)


async def test_all_shipped_scripts_are_green_against_our_own_server(folder: Path, authority: CertificateFiles) -> None:
    async def live() -> list[Played]:
        port = free_port()
        async with site(folder, authority, extra=with_accounts(folder, authority, port, tls="starttls")):
            plan = Plan(
                host="localhost", port=port, name="ticketing.example", trust=str(authority.authority), timeouts=TIMES,
                login="ticketing", password=Secret(WORDS),
            )  # fmt: skip
            return [await play_script(shipped(path), plan, {}, {}, {}) for path in SHIPPED]

    result = await live()
    assert len(result) == 7 and [item.script.path.stem for item in result if not item.good] == []
