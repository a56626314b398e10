"""Every stop that a probe tells apart, each produced by a stand-in or by the system; no two read alike."""

from __future__ import annotations

import asyncio
import re
import socket
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.opening import connect_as
from copper_kite.net.plan import Plan, Timeouts
from copper_kite.session.behaviour import Behaviour
from copper_kite.session.look import look_at_host
from copper_kite.session.probe import Letter, Probed, run_probe, sweep_ports
from copper_kite.session.staging import stage_stand_in
from copper_kite.session.standin import StandIn
from copper_kite.session.unordered_client import UnorderedSession
from copper_kite.smtp.sasl import Secret
from copper_kite.smtp.transaction import Envelope
from copper_kite.words import Cause, Side, Stage
from tests.looping import happens
from tests.support import OPENING, PASSWORD, free_port, scripted

QUICK = Timeouts(
    resolve=5.0, connect=5.0, secure=2.0, greet=0.5, command=0.5, data=0.5, block=5.0, accept=0.5, quit=0.2
)
LETTER = Letter(Envelope("a@ternferries.example", ("b@x.example",), 1000, False, False), None)
PASSING = Letter(LETTER.envelope, b"Subject: x\r\n\r\n.dot\r\n")


@dataclass(frozen=True)
class Situation:
    """What the stand-in does, how it is met, and what must come of it."""

    stage: Stage
    cause: Cause
    side: Side
    words: str
    tls: dict[str, Any] = field(default_factory=dict)
    offers: dict[str, Any] = field(default_factory=dict)
    rule: dict[str, Any] = field(default_factory=dict)
    plan: dict[str, Any] = field(default_factory=dict)
    letter: Letter | None = None
    logins: bool = True


WITH_LOGIN = {"login": "tern", "password": Secret(PASSWORD)}
R = Cause.REPLY
HERE, PATH, NEXT = Side.HERE, Side.PATH, Side.NEXT_HOP

STOPS = {
    "never greets": Situation(Stage.GREET, Cause.TIMED_OUT, NEXT, "never greets", rule={"do": "nothing"}),
    "greets with 4yz": Situation(Stage.GREET, R, NEXT, "greets with a 4yz", rule={"answer": "421 4.3.2 busy"}),
    "greets with 5yz": Situation(Stage.GREET, R, NEXT, "greets with a 5yz", rule={"answer": "554 5.7.1 not you"}),
    "closes before it greets": Situation(Stage.GREET, Cause.LOST, NEXT, "closes it before it greets", rule={"do": "cut"}),
    "is no mail server": Situation(Stage.GREET, Cause.PROTOCOL, HERE, "not a mail server", rule={"do": "garble"}),
    "TLS at once": Situation(Stage.GREET, Cause.SPEAKS_TLS, HERE, "speaks TLS at once", tls={"mode": "implicit"}),
    "no TLS at once": Situation(Stage.SECURE, Cause.SPEAKS_CLEAR, HERE, "begins in clear", plan={"tls": "implicit"}),
    "hello refused": Situation(
        Stage.HELLO, R, HERE, "calls itself", rule={"stage": "hello", "answer": "550 5.7.1 who are you"}
    ),
    "hello put off": Situation(
        Stage.HELLO, R, NEXT, "cannot answer EHLO", rule={"stage": "hello", "answer": "451 4.3.0 no memory"}
    ),
    "drips": Situation(
        Stage.HELLO, Cause.UNFINISHED, NEXT, "does not come to its end", rule={"stage": "hello", "do": "drip"}
    ),
    "never ends a reply": Situation(
        Stage.HELLO, Cause.UNFINISHED, NEXT, "does not come to its end", rule={"stage": "hello", "do": "endless"}
    ),
    "cut in the middle": Situation(Stage.HELLO, Cause.LOST, PATH, "broke at the stage hello", rule={"stage": "hello", "do": "cut"}),
    "garbles": Situation(Stage.HELLO, Cause.PROTOCOL, NEXT, "not SMTP, at the stage hello", rule={"stage": "hello", "do": "garble"}),
    "says nothing": Situation(
        Stage.HELLO, Cause.TIMED_OUT, NEXT, "said nothing in time, at the stage hello", rule={"stage": "hello", "do": "nothing"}
    ),
    "no STARTTLS": Situation(
        Stage.SECURE, Cause.TLS_NOT_OFFERED, NEXT, "does not offer STARTTLS", offers={"withhold": ["STARTTLS"]}
    ),
    "STARTTLS refused": Situation(
        Stage.SECURE, Cause.TLS_REFUSED, NEXT, "then refuses it", rule={"stage": "secure", "answer": "454 4.7.0 no TLS today"}
    ),
    "TLS too old": Situation(Stage.SECURE, Cause.TLS_VERSION, NEXT, "too old", tls={"newest": "1.1"}),
    "no cipher": Situation(Stage.SECURE, Cause.TLS_CIPHER, NEXT, "no cipher in common", tls={"ciphers": "old"}),
    "client certificate": Situation(
        Stage.SECURE, Cause.TLS_CLIENT_CERTIFICATE, HERE, "client certificate", tls={"client_certificate": True}
    ),
    "expired": Situation(Stage.SECURE, Cause.CERTIFICATE_EXPIRED, NEXT, "out of date", tls={"certificate": "expired"}),
    "not yet valid": Situation(
        Stage.SECURE, Cause.CERTIFICATE_NOT_YET_VALID, HERE, "not valid yet", tls={"certificate": "not yet valid"}
    ),
    "wrong name": Situation(
        Stage.SECURE, Cause.CERTIFICATE_WRONG_NAME, HERE, "but for somewhere-else.example", tls={"certificate": "wrong name"}
    ),
    "unknown issuer": Situation(
        Stage.SECURE, Cause.CERTIFICATE_UNTRUSTED, HERE, "leads to nobody that is trusted", plan={"trust": "system"}
    ),
    "self-signed": Situation(
        Stage.SECURE, Cause.CERTIFICATE_SELF_SIGNED, HERE, "signed by itself", tls={"certificate": "self-signed"}
    ),
    "wrong purpose": Situation(Stage.SECURE, Cause.CERTIFICATE_PURPOSE, NEXT, "not one for servers", tls={"certificate": "wrong purpose"}),
    "no intermediate": Situation(
        Stage.SECURE, Cause.CERTIFICATE_INCOMPLETE, NEXT,
        "the certificate of Stand-in intermediate authority, which signs it, is not sent along; it is at http://pki.beaconpost.example/",
        tls={"certificate": "no intermediate"},
    ),
    "weak": Situation(Stage.SECURE, Cause.CERTIFICATE_WEAK, NEXT, "too weak", tls={"certificate": "weak"}),
    "no login mechanism": Situation(
        Stage.LOGIN, Cause.LOGIN_NOT_OFFERED, NEXT, "offered: none; allowed: SCRAM-SHA-256-PLUS, ", plan=WITH_LOGIN, logins=False
    ),
    "no login in clear": Situation(
        Stage.LOGIN, Cause.LOGIN_IN_CLEAR, HERE, "never goes in clear", tls={"mode": "off"}, plan={"tls": "off", **WITH_LOGIN}
    ),
    "wrong password": Situation(
        Stage.LOGIN, R, HERE, "refuses the login tern", plan={"login": "tern", "password": Secret("no")}
    ),
    "logins out of order": Situation(
        Stage.LOGIN, R, NEXT, "cannot check logins", plan=WITH_LOGIN, rule={"stage": "login", "answer": "454 4.7.0 later"}
    ),
    "login missing": Situation(Stage.SENDER, R, HERE, "takes no mail without a login", letter=LETTER),
    "sender refused": Situation(
        Stage.SENDER, R, HERE, "send as a@ternferries.example", plan=WITH_LOGIN, letter=LETTER,
        rule={"stage": "sender", "answer": "550 5.7.1 not yours"},
    ),
    "recipient refused": Situation(
        Stage.RECIPIENT, R, HERE, "does not carry mail for others", plan=WITH_LOGIN, letter=LETTER,
        rule={"stage": "recipient", "answer": "550 5.7.1 we do not relay"},
    ),
    "no such recipient": Situation(
        Stage.RECIPIENT, R, NEXT, "no mailbox of b@x.example", plan=WITH_LOGIN, letter=LETTER,
        rule={"stage": "recipient", "answer": "550 5.1.1 unknown"},
    ),
    "too large": Situation(
        Stage.SENDER, Cause.TOO_LARGE, NEXT, "larger than", plan=WITH_LOGIN, letter=LETTER, offers={"size": 999}
    ),
    "content refused": Situation(
        Stage.ACCEPT, R, NEXT, "does not take the content", plan=WITH_LOGIN, letter=PASSING,
        rule={"stage": "accept", "answer": "554 5.6.0 not this"},
    ),
}  # fmt: skip


@asynccontextmanager
async def stand_in(folder: Path, stop: Situation) -> AsyncIterator[tuple[int, str]]:
    """A stand-in that produces the stop; its port, and the file of its authority."""
    rules = [{"stage": "greet", **stop.rule}] if stop.rule else []
    behaviour = Behaviour.model_validate({"tls": stop.tls, "offers": stop.offers, "rule": rules})
    here = StandIn(stage_stand_in(behaviour, folder, {"tern": Secret(PASSWORD)} if stop.logins else {}))
    port = await here.start("127.0.0.1", 0)
    fault = stop.tls.get("certificate", "").replace(" ", "-")
    try:
        yield port, str(folder / "tls" / (f"{fault}-ca.pem" if fault else "ca.pem"))
    finally:
        await here.stop()


async def meet(folder: Path, stop: Situation) -> Probed:
    async with stand_in(folder, stop) as (port, authority):
        trust = "system" if stop.tls.get("mode") == "off" else authority
        known = {"tls": "starttls", "trust": trust, "timeouts": QUICK, **stop.plan}
        return await run_probe(
            Plan(host="localhost", port=port, name="quay1.ternferries.example", **known), {}, stop.letter
        )


def bare(found: Probed) -> str:
    """What the verdict says, without what is different at every run."""
    return re.sub(r"localhost:\d+", "HOP", found.verdict.meaning)


@pytest.mark.parametrize("name", STOPS)
async def test_each_stop_has_its_verdict(folder: Path, name: str) -> None:
    """P-19: stage, cause, side, words, and a next step that names a command or a person."""
    stop = STOPS[name]
    result = await meet(folder, stop)
    assert result.failure is not None, result.stages
    assert (result.failure.stage, result.failure.cause) == (stop.stage, stop.cause), result.failure.text
    assert result.verdict.side is stop.side and stop.words in result.verdict.meaning
    assert result.verdict.next or result.verdict.advice
    said = str([result.dialogue.export(), result.verdict, result.stages, result.failure])
    assert PASSWORD not in said and "dGVybg" not in said
    assert said.isprintable(), "what a peer says never reaches a terminal as it is"


async def test_no_two_causes_read_alike(folder: Path) -> None:
    async def live() -> list[Probed]:
        return await asyncio.gather(*(meet(folder / name.replace(" ", "-"), stop) for name, stop in STOPS.items()))

    meanings: dict[str, str] = {}
    for name, result in zip(STOPS, await live(), strict=True):
        meaning = bare(result)
        if name == "never ends a reply":  # the same cause as a drip: a reply begun and not ended
            assert meanings[meaning] == "drips"
            continue
        assert meaning not in meanings, f"{name} reads like {meanings.get(meaning)}"
        meanings[meaning] = name


@contextmanager
def full_backlog() -> Iterator[int]:
    """A port whose queue is full: the system answers no more, as behind a firewall that drops."""
    with socket.socket() as listening, socket.socket() as first, socket.socket() as second:
        listening.bind(("127.0.0.1", 0))
        listening.listen(0)
        for sock in (first, second):
            sock.setblocking(False)
            sock.connect_ex(listening.getsockname())
        yield listening.getsockname()[1]


def met(host: str, port: int, **more: Any) -> Probed:
    plan = Plan(host=host, port=port, name="quay1.ternferries.example", timeouts=replace(QUICK, connect=0.3))
    return asyncio.run(run_probe(plan, more))


def no_such_name(*args: object, **more: object) -> list[Any]:
    raise socket.gaierror(socket.EAI_NONAME, "Name or service not known")


def no_resolver(*args: object, **more: object) -> list[Any]:
    raise socket.gaierror(socket.EAI_AGAIN, "Temporary failure in name resolution")


@pytest.mark.parametrize(
    ("answer", "cause", "side", "words"),
    [
        (no_such_name, Cause.NAME_NOT_FOUND, HERE, "does not exist in DNS"),
        (no_resolver, Cause.NAME_LOOKUP_FAILED, PATH, "could not be looked up"),
    ],
)
def test_names(
    monkeypatch: pytest.MonkeyPatch, answer: Callable[..., Any], cause: Cause, side: Side, words: str
) -> None:
    monkeypatch.setattr(socket, "getaddrinfo", answer)
    result = met("out.beaconpost.example", 587)
    assert result.failure is not None and (result.failure.stage, result.failure.cause) == (Stage.RESOLVE, cause)
    assert result.verdict.side is side and words in result.verdict.meaning


def test_the_way_there() -> None:
    """Refused, no answer, no route: three verdicts, all of them on the way."""
    refused, unroutable = met("127.0.0.1", free_port()), met("224.0.0.1", 25)  # nobody connects to a multicast address
    with full_backlog() as port:
        silent = met("127.0.0.1", port)
    result = {item.failure.cause: item for item in (refused, unroutable, silent) if item.failure}
    assert list(result) == [Cause.CONNECTION_REFUSED, Cause.UNREACHABLE, Cause.CONNECTION_TIMED_OUT]
    assert {item.verdict.side for item in result.values()} == {PATH}
    assert "refused at once" in refused.verdict.meaning and "no route" in unroutable.verdict.meaning
    assert "does not answer" in silent.verdict.meaning and "465,587,2525" in silent.verdict.next


async def test_all_addresses_are_tried(monkeypatch: pytest.MonkeyPatch, folder: Path) -> None:
    """IPv6 first, refused; then IPv4, which answers: both are told."""

    async def live() -> Probed:
        async with stand_in(folder, Situation(Stage.QUIT, R, HERE, "")) as (port, authority):
            real = socket.getaddrinfo

            def both(host: str, *args: object, **more: object) -> Any:
                if host != "localhost":
                    return real(host, *args, **more)  # type: ignore[arg-type]
                kind = (socket.SOCK_STREAM, 6, "")
                return [
                    (socket.AF_INET6, *kind, ("::1", port, 0, 0)), (socket.AF_INET, *kind, ("127.0.0.1", port))
                ]  # fmt: skip

            monkeypatch.setattr(socket, "getaddrinfo", both)
            return await run_probe(
                Plan(host="localhost", port=port, name="q.example", trust=authority, timeouts=QUICK), {}
            )

    result = await live()
    assert result.passed and result.address == "127.0.0.1"
    assert [item.address for item in result.tried] == ["::1"]
    assert result.stages[0][2] == "::1, 127.0.0.1"


async def test_what_went_well_is_told(folder: Path) -> None:
    """Stages in order, both EHLOs, the certificate, the login; with content, the message arrives."""
    stop = Situation(Stage.QUIT, R, HERE, "", plan=WITH_LOGIN, letter=PASSING)
    result = await meet(folder, stop)
    assert [stage.value for stage, _, _ in result.stages] == [
        *OPENING,
        "sender",
        "recipient",
        "content",
        "accept",
        "quit",
    ]
    assert result.in_clear is not None and "STARTTLS" in result.in_clear and "AUTH" not in result.in_clear
    assert result.keywords["AUTH"] == ("SCRAM-SHA-256", "PLAIN", "LOGIN") and result.offers.size == 100 * 1024 * 1024
    assert result.chain[0].names[0] == "localhost" and result.chain[0].days_left(result.at) in (363, 364)
    assert "answers for it from here" in result.verdict.meaning
    (kept,) = folder.glob("*.eml")
    assert kept.read_bytes() == PASSING.content
    without = await meet(folder, replace(stop, letter=LETTER))
    assert "no message was sent" in without.verdict.meaning and len(list(folder.glob("*.eml"))) == 1


def test_a_server_is_named_as_a_command_takes_it() -> None:
    named = [
        Plan(host=host, port=25, path=path, name="q").where
        for host, path in (("::1", ""), ("h.example", ""), ("", "/s"))
    ]
    assert named == ["[::1]:25", "h.example:25", "unix:/s"]
    assert "[::1]:" in met("::1", free_port()).verdict.meaning


async def test_init_knows_which_faults_another_trust_may_mend(folder: Path) -> None:
    """Whatever is wrong with a certificate alone, self-signed ones included."""

    async def live() -> list[bool]:
        async with stand_in(folder, Situation(Stage.QUIT, R, HERE, "", tls={"certificate": "self-signed"})) as (
            port,
            _,
        ):
            return [seen.distrusted for seen in await look_at_host("localhost", port, "q.example", "system")]

    assert await live() == [False, True]


async def test_a_sweep_finds_the_way_of_each_port(folder: Path, authority: CertificateFiles) -> None:
    """Each port in its usual way of TLS, then in the other: which answers, and which does not."""

    async def live() -> list[Probed]:
        at_once = Situation(Stage.GREET, R, HERE, "", tls={"mode": "implicit"})
        async with (
            stand_in(folder, Situation(Stage.QUIT, R, HERE, "")) as (clear, file),
            stand_in(folder, at_once) as (implicit, _),
        ):
            plan = Plan(host="localhost", port=1, name="q.example", trust=file, timeouts=QUICK)
            return await sweep_ports(plan, [free_port(), clear, implicit], {})

    refused, clear, implicit = await live()
    assert refused.failure is not None and refused.failure.cause is Cause.CONNECTION_REFUSED
    assert clear.passed and clear.plan.tls == "starttls"
    assert implicit.passed and implicit.plan.tls == "implicit"


async def test_a_handshake_that_never_ends_is_cut() -> None:
    async def live() -> Probed:
        async with scripted([b"220 x\r\n", b"250-x\r\n250 STARTTLS\r\n", b"220 go\r\n", b"", b""]) as (port, _):
            times = replace(QUICK, secure=0.2)
            return await run_probe(Plan(host="localhost", port=port, name="q.example", timeouts=times), {})

    result = await live()
    assert result.failure is not None and (result.failure.stage, result.failure.cause) == (
        Stage.SECURE,
        Cause.TIMED_OUT,
    )
    assert "does not bring the handshake to its end" in result.verdict.meaning


async def test_a_flood_is_not_taken_in() -> None:
    """What comes while nobody reads is bounded; then the line counts as lost."""

    async with scripted([b"220 x\r\n" + b"250 again\r\n" * 300_000]) as (port, _):
        plan = Plan(host="localhost", port=port, name="q.example", timeouts=QUICK)
        session = await connect_as(UnorderedSession, plan, Dialogue(0.0))
        await session.read_reply(5.0)
        await happens(lambda: session.closed)
        session.abort()


async def test_octets_behind_the_go_ahead_for_tls_are_a_fault() -> None:
    """W-09: what stands in clear behind the 220 is not taken for a reply under TLS, nor for TLS at once."""

    async def live(behind: bytes) -> Probed:
        says = [b"220 x\r\n", b"250-x\r\n250 STARTTLS\r\n", b"220 go\r\n" + behind, None]
        async with scripted(says) as (port, _):
            return await run_probe(Plan(host="localhost", port=port, name="q.example", timeouts=QUICK), {})

    for behind, cause in (
        (b"250 injected\r\n", Cause.OUT_OF_STEP),
        (b"\x16\x03\x01 garbage\r\n", Cause.OUT_OF_STEP),
        (b"\x16\x03\x01", Cause.OUT_OF_STEP),
    ):
        result = await live(behind)
        assert result.failure is not None and (result.failure.stage, result.failure.cause) == (Stage.SECURE, cause)
