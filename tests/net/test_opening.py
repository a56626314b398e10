"""Opening a session with a next hop: each kind of login, each kind of trust, TLS as far as it goes; and the impostor."""

from __future__ import annotations

import base64
import ssl
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from copper_kite.errors import EngineMisuse
from copper_kite.net import tls
from copper_kite.net.authority import CertificateFiles, make_authority
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed
from copper_kite.net.opening import open_session
from copper_kite.net.plan import Plan, Timeouts
from copper_kite.net.relaying import RelaySession
from copper_kite.net.tls import LOOK, fingerprint
from copper_kite.session.behaviour import Behaviour
from copper_kite.session.staging import stage_stand_in
from copper_kite.session.standin import Caught, StandIn
from copper_kite.smtp.sasl import MECHANISMS, Binding, Secret
from copper_kite.smtp.transaction import Envelope
from copper_kite.words import Cause, Stage
from tests.support import PASSWORD, scripted

QUICK = Timeouts(resolve=5.0, connect=5.0, secure=5.0, greet=5.0, command=5.0, data=5.0, accept=5.0, quit=0.5)
LETTER = b"Subject: x\r\n\r\nhi\r\n"


class Hop:
    """A stand-in, and what is needed to meet it."""

    def __init__(self, port: int, folder: Path, caught: list[Caught]) -> None:
        self.caught = caught
        self.folder = folder
        self.dialogue = Dialogue(0.0)
        self.port = port

    async def open(self, **more: Any) -> RelaySession:
        trust = str(self.folder / "tls" / "ca.pem")
        known = {"host": "localhost", "port": self.port, "name": "quay1.example", "trust": trust, "timeouts": QUICK}
        return await open_session(Plan(**{**known, **more}), self.dialogue)

    async def relay(self, **more: Any) -> None:
        """One message through it, and an end."""
        session = await self.open(**more)
        envelope = Envelope("a@x.example", ("b@x.example",), len(LETTER), False, False)
        (result,) = await session.relay(envelope, lambda: (LETTER,))
        assert result.reply.positive, result
        await session.close()

    @property
    def certificate(self) -> str:
        """Its own, as a pin."""
        return fingerprint(ssl.PEM_cert_to_DER_cert((self.folder / "tls" / "server.pem").read_text()))


@asynccontextmanager
async def hop(
    folder: Path, *, logins: bool = True, files: CertificateFiles | None = None, port: int = 0, **behaviour: Any
) -> AsyncIterator[Hop]:
    caught: list[Caught] = []
    plan = stage_stand_in(
        Behaviour.model_validate(behaviour), folder, {"tern": Secret(PASSWORD)} if logins else {}, files
    )
    here = StandIn(plan, caught.append)
    port = await here.start("127.0.0.1", port)
    try:
        yield Hop(port, folder, caught)
    finally:
        await here.stop()


@pytest.mark.parametrize("name", MECHANISMS)
async def test_each_mechanism_logs_in(folder: Path, name: str) -> None:
    """A-13, A-15, A-18: by itself, with what it needs; the record names it, and no secret shows."""
    secret = {"token": Secret(PASSWORD)} if "AUTH" in name else {"password": Secret(PASSWORD)}

    async with hop(folder, offers={"mechanisms": [name]}) as here:
        await here.relay(login="tern", **secret)
        assert here.caught[0].login == "tern"
        session = await here.open(login="tern", **secret)
        assert session.mechanism == name and session.stages[-1][2].endswith(f"({name})")
        session.abort()
        wrong = {key: Secret("wrong") for key in secret}
        with pytest.raises(SessionFailed) as refused:
            await here.open(login="tern", **wrong)
        assert refused.value.stage is Stage.LOGIN and refused.value.reply is not None
        assert refused.value.reply.code == 535
        said = str(here.dialogue.export())
        assert PASSWORD not in said and "dGhlLXF1YXk" not in said and f"AUTH {name}" in said


async def test_a_binding_that_the_server_does_not_know_is_left_out(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """RFC 5802 6, 7: the login is tried once more without; where no PLUS is offered, the server hears that we could."""

    login = {"login": "tern", "password": Secret(PASSWORD)}
    async with hop(folder, offers={"mechanisms": ["SCRAM-SHA-256-PLUS", "SCRAM-SHA-256"]}) as here:
        session = await here.open(**login)
        assert session.mechanism == "SCRAM-SHA-256-PLUS"
        session.abort()
        monkeypatch.setattr(tls, "end_point_binding", lambda der: Binding("tls-exporter", b"x"))
        await here.relay(**login)
        assert here.caught[-1].login == "tern"
        session = await here.open(**login)
        assert session.mechanism == "SCRAM-SHA-256" and "does not know this kind of binding" in str(
            here.dialogue.export()
        )
        session.abort()
        with pytest.raises(SessionFailed) as refused:
            await here.open(login="tern", password=Secret("wrong"))
        assert refused.value.reply is not None and refused.value.reply.code == 535


async def test_the_plan_narrows_the_mechanisms(folder: Path) -> None:

    async with hop(folder) as here:
        login = {"login": "tern", "password": Secret(PASSWORD)}
        session = await here.open(**login, mechanisms=("LOGIN",))
        assert session.mechanism == "LOGIN"
        session.abort()
        with pytest.raises(SessionFailed) as stopped:
            await here.open(**login, mechanisms=("CRAM-MD5",))
        assert stopped.value.cause is Cause.LOGIN_NOT_OFFERED and "allowed: CRAM-MD5" in stopped.value.text


async def test_a_secret_may_come_from_a_command(folder: Path) -> None:
    """Fetched for each session; when it fails, that is told, without what it said."""

    async with hop(folder, offers={"mechanisms": ["XOAUTH2", "PLAIN"]}) as here:
        await here.relay(login="tern", token_command=f"printf '{PASSWORD}\\nmore\\n'")
        await here.relay(login="tern", password_command=f"echo {PASSWORD}")
        for command in ("echo secret-on-the-way >&2; exit 3", "true"):
            with pytest.raises(SessionFailed) as stopped:
                await here.open(login="tern", password_command=command)
            assert stopped.value.cause is Cause.SECRET_UNAVAILABLE and "secret-on-the-way" not in str(stopped.value)


async def test_a_server_that_cannot_prove_itself_gets_no_mail() -> None:
    """A-13: a 235 with no valid `v=` before it; a challenge that is no base64 is answered by giving up."""

    for says, words in (
        ([b"220 x\r\n", b"250-x\r\n250 AUTH SCRAM-SHA-256\r\n", b"235 welcome\r\n", None], "without proving"),
        ([b"220 x\r\n", b"250-x\r\n250 AUTH SCRAM-SHA-256\r\n", b"334 !!\r\n", b"501 ok\r\n", None], "not base64"),
    ):
        async with scripted(says) as (port, heard):
            plan = Plan(
                host="localhost", port=port, name="q.example", tls="off", login="tern", password=Secret(PASSWORD),
                login_in_clear=True, timeouts=QUICK,
            )  # fmt: skip
            with pytest.raises(SessionFailed, match=words) as stopped:
                await open_session(plan, Dialogue(0.0))
            assert stopped.value.cause is Cause.LOGIN_UNPROVEN and not any(b"MAIL" in line for line in heard)


async def test_a_server_that_repeats_the_password_does_not_put_it_on_record() -> None:
    """In its refusal of the login, as it was sent or decoded; and in what it says later."""

    word = base64.b64encode(b"\0tern\0" + PASSWORD.encode())
    for refusal in (
        b"535 5.7.8 bad: AUTH PLAIN " + word,
        b"535 5.7.8 bad: " + PASSWORD.encode(),
        b"500 " + word[4:],
    ):
        says = [b"220 h\r\n", b"250-h\r\n250 AUTH PLAIN\r\n", refusal + b"\r\n", b"221 bye\r\n"]
        async with scripted(says) as (port, heard):
            plan = Plan(
                host="127.0.0.1", port=port, name="q.example", tls="off", login="tern", password=Secret(PASSWORD),
                login_in_clear=True,
            )  # fmt: skip
            dialogue = Dialogue(0.0)
            with pytest.raises(SessionFailed) as failed:
                await open_session(plan, dialogue)
        assert word in b"".join(heard), "it was really sent"
        said = f"{failed.value} {failed.value.reply} {failed.value.seen} {dialogue.export()}"
        assert "***" in said and PASSWORD not in said and word.decode()[4:16] not in said


async def test_a_private_authority_and_its_impostor(folder: Path) -> None:
    """By a file and by a folder of authorities; another authority's certificate is not believed."""
    impostor = make_authority(folder / "impostor", ["localhost"])

    async with hop(folder / "right", logins=False) as here:
        await here.relay()
        authorities = folder / "authorities"
        authorities.mkdir()
        pem = (here.folder / "tls" / "ca.pem").read_text()
        (authorities / f"{subject_hash(pem)}.0").write_text(pem)
        await here.relay(trust=str(authorities))
    async with hop(folder / "right", logins=False, files=impostor) as here:
        for trust in (str(here.folder / "tls" / "ca.pem"), str(folder / "authorities")):
            with pytest.raises(SessionFailed) as stopped:
                await here.open(trust=trust)
            assert stopped.value.cause is Cause.CERTIFICATE_UNTRUSTED and not here.caught


def subject_hash(pem: str) -> str:
    """The name that the library looks a file up by in a folder: as `openssl rehash` gives it."""
    import subprocess

    done = subprocess.run(
        ["openssl", "x509", "-noout", "-subject_hash"], input=pem.encode(), capture_output=True, check=True
    )
    return done.stdout.decode().strip()


async def test_a_pin_and_its_impostor(folder: Path) -> None:
    """The certificate itself is believed, whoever signed it and whatever its name; no other one is, and no login goes."""

    async with hop(folder, tls={"certificate": "self-signed"}) as here:
        pin = fingerprint(ssl.PEM_cert_to_DER_cert((folder / "tls" / "self-signed-server.pem").read_text()))
        login = {"login": "tern", "password": Secret(PASSWORD)}
        await here.relay(trust=f"sha256:{'0' * 64} {pin}", **login)
        with pytest.raises(SessionFailed) as stopped:
            await here.open(trust=f"sha256:{'0' * 64}", **login)
        assert stopped.value.cause is Cause.CERTIFICATE_NOT_PINNED and pin in stopped.value.text
        assert sent(here).count("AUTH SCRAM") == 1


async def test_a_client_certificate_and_its_impostor(folder: Path) -> None:
    """A next hop that asks for one lets in who has it; without, the stop says so."""
    ours = {"certificate": str(folder / "tls" / "server.pem"), "key": str(folder / "tls" / "server.key")}

    async with hop(folder, logins=False, tls={"client_certificate": True}) as here:
        await here.relay(**ours)
        foreign = make_authority(folder / "foreign", ["localhost"])
        for more in ({}, {"certificate": str(foreign.certificate), "key": str(foreign.key)}):
            with pytest.raises(SessionFailed) as stopped:
                await here.open(**more)
            assert stopped.value.cause is Cause.TLS_CLIENT_CERTIFICATE
        assert len(here.caught) == 1


async def test_ciphers_can_be_narrowed(folder: Path) -> None:

    async with hop(folder, logins=False, tls={"newest": "1.2"}) as here:
        session = await here.open(ciphers="ECDHE-ECDSA-AES128-GCM-SHA256")
        assert session.cipher == "ECDHE-ECDSA-AES128-GCM-SHA256" and session.tls_version == "TLSv1.2"
        session.abort()


@pytest.mark.parametrize(
    ("tls", "secure"),
    [({"certificate": "expired"}, True), ({"certificate": "wrong name"}, True), ({"newest": "1.1"}, False), ({"mode": "off"}, False)],
)  # fmt: skip
async def test_opportunistic_goes_as_far_as_it_goes(folder: Path, tls: dict[str, str], secure: bool) -> None:
    """T-13: unverified TLS, else a new connection in clear, never the failed one; what was reached is recorded."""

    async with hop(folder, logins=False, tls=tls) as here:
        await here.relay(tls="opportunistic")
        assert here.caught[0].secure is secure and bool(here.caught[0].tls) is secure
        again = "trying again in clear" in str(here.dialogue.export())
        assert again is (tls.get("newest") == "1.1")


async def test_no_login_where_nobody_was_verified(folder: Path) -> None:
    """T-14: neither under opportunistic TLS nor in clear; only where the plan says so in so many words."""
    login = {"login": "tern", "password": Secret(PASSWORD)}

    async with hop(folder) as here:
        with pytest.raises(SessionFailed) as stopped:
            await here.open(tls="opportunistic", **login)
        assert stopped.value.cause is Cause.LOGIN_IN_CLEAR and "AUTH SCRAM-SHA-256 " not in sent(here)
        await here.relay(tls="opportunistic", login_in_clear=True, **login)
    async with hop(folder / "clear", tls={"mode": "off"}) as here:
        with pytest.raises(SessionFailed):
            await here.open(tls="off", **login)
        assert "AUTH SCRAM-SHA-256 " not in sent(here)


async def test_what_is_opened_to_look_carries_nothing(folder: Path) -> None:
    """The trust that believes anybody is for seeing a certificate: no login and no message goes under it."""

    async with hop(folder, tls={"certificate": "wrong name"}) as here:
        with pytest.raises(SessionFailed):
            await here.open(trust=LOOK, login="tern", password=Secret(PASSWORD))
        with pytest.raises(EngineMisuse):
            await here.relay(trust=LOOK)
        assert not here.caught and "AUTH" not in sent(here) and "MAIL" not in sent(here)


def sent(here: Hop) -> str:
    return "\n".join(str(text) for _, mark, text in here.dialogue.export() if mark == "client")


# --- what is said, and how long an answer may take --------------------------------------------------------------------


TO_CONTENT = [b"220 hi\r\n", b"250-ok\r\n250 8BITMIME\r\n", b"250 s\r\n", b"250 r\r\n", b"354 go\r\n"]


async def one_message(port: int, timeouts: Timeouts = QUICK, octets: bytes = LETTER) -> RelaySession:
    plan = Plan(host="localhost", port=port, name="quay1.ternferries.example", tls="off", timeouts=timeouts)
    session = await open_session(plan, Dialogue(0.0))
    await session.relay(Envelope("a@x.example", ("b@x.example",), len(octets), True, False), lambda: (octets,))
    return session


def test_answers_may_take_as_long_as_the_standard_says() -> None:
    """C-08: greeting, MAIL and RCPT 5 min, DATA 2 min, each block 3 min, the end 10 min."""
    bounds = Timeouts()
    assert (bounds.greet, bounds.command, bounds.data, bounds.block, bounds.accept) == (300, 300, 120, 180, 600)


@pytest.mark.parametrize(
    ("heard", "bound", "stage"),
    [(0, "greet", "greet"), (1, "command", "hello"), (2, "command", "sender"), (3, "command", "recipient"),
     (4, "data", "content"), (5, "accept", "accept")],
)  # fmt: skip
async def test_silence_ends_a_session_at_its_step(heard: int, bound: str, stage: str) -> None:
    """C-08: by the bound of that step, whatever the others are."""

    async with scripted([*TO_CONTENT[:heard], *[b""] * 9]) as (port, _):
        with pytest.raises(SessionFailed) as stopped:
            await one_message(port, replace(QUICK, **{bound: 0.05}))
        assert (stopped.value.cause, stopped.value.stage) == (Cause.TIMED_OUT, Stage(stage))


async def test_helo_where_ehlo_is_not_known() -> None:
    """C-19: our full name; and then nothing of any extension."""

    says = [
        b"220 hi\r\n",
        b"502 what\r\n",
        b"250 hello\r\n",
        b"250 s\r\n",
        b"250 r\r\n",
        b"354 go\r\n",
        b"250 ok\r\n",
    ]
    async with scripted([*says, b"221 bye\r\n"]) as (port, heard):
        session = await one_message(port)
        await session.close()
        assert heard[:5] == [
            b"EHLO quay1.ternferries.example\r\n", b"HELO quay1.ternferries.example\r\n",
            b"MAIL FROM:<a@x.example>\r\n", b"RCPT TO:<b@x.example>\r\n", b"DATA\r\n",
        ]  # fmt: skip
        assert heard[-1] == b"QUIT\r\n"


async def test_quit_changes_nothing() -> None:
    """C-23: RSET comes behind a transaction that failed; an answer to QUIT is waited for, but not for long."""

    refusal = [*TO_CONTENT[:3], b"550 no\r\n", b"250 reset\r\n", b""]
    async with scripted(refusal) as (port, heard):
        session = await one_message(port, replace(QUICK, quit=0.05))
        assert heard[-1] == b"RSET\r\n" and session.usable
        await session.close()
        assert heard[-1] == b"QUIT\r\n" and not session.usable
