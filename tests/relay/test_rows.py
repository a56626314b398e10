"""Rows of the standards that only a running server and a running next hop show."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import hashlib
import re
import smtplib
import socket
import ssl
import struct
import warnings
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles, make_authority
from copper_kite.relay.service import Service
from copper_kite.session.behaviour import Behaviour
from copper_kite.session.staging import stage_stand_in
from copper_kite.session.standin import Rule, StandIn
from copper_kite.settings.load import load_configuration
from copper_kite.settings.server_tls import server_context
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import MECHANISMS, Binding, LoginCredentials, Secret
from copper_kite.words import State
from tests.looping import happens
from tests.relay.test_accounts import WORDS, with_accounts
from tests.relay.test_relay import LETTER, ended, letter, records, talk
from tests.support import PASSWORD, SECONDS, Site, StoppedClock, codes, converse, free_port, scripted, site, write_site

# --- S, W: the listener ----------------------------------------------------------------------------------------------


async def test_the_lengths_that_the_standard_grants_are_taken(folder: Path, authority: CertificateFiles) -> None:
    """S-14: of a local part, a domain, a path and a command line, with what each extension adds; a longer line is one
    refusal, and the rest of it is no command."""
    domain = ".".join(["d" * 63] * 3) + "." + "e" * 60  # the longest that fits into a path
    path = "l" * 64 + "@" + ".".join(["d" * 63] * 2) + "." + "e" * 61  # 254, 256 with its brackets
    long_line = b"NOOP " + b"x" * 505 + b"\r\n"
    everything = (
        f"MAIL FROM:<{path}> SIZE={'0' * 18}99 BODY=8BITMIME SMTPUTF8 RET=HDRS ENVID={'e' * 100}\r\n"
        f"RCPT TO:<{path}> NOTIFY=SUCCESS,FAILURE,DELAY ORCPT=rfc822;{'o' * 500}\r\n"
    ).encode()

    async with site(folder, authority) as here:
        said = b"EHLO t\r\n" + long_line + everything + b"RSET\r\n"
        said += (
            f"MAIL FROM:<a@{domain}>\r\nRSET\r\nMAIL FROM:<{'l' * 65}@x.example>\r\nMAIL FROM:<l{path}>\r\n".encode()
        )
        said += b"NOOP " + b"x" * 3000 + b"RCPT TO:<a@x.example>\r\n" + b"QUIT\r\n"
        assert len(long_line) == 512 and len(path) == 254 and len(domain) == 252
        heard = await converse(here.port, said)
        assert codes(heard) == [
            b"220",
            b"250",
            b"250",
            b"250",
            b"250",
            b"250",
            b"250",
            b"250",
            b"501",
            b"501",
            b"500",
            b"221",
        ]
        assert heard.count(b"501 5.1.7") == 2 and heard.count(b"500 5.5.2") == 1


async def test_nothing_unqualified_is_relayed(folder: Path, authority: CertificateFiles) -> None:
    """S-34: completed where the name is this machine's, refused where it is nobody's; postmaster is the exception."""

    async with site(folder, authority) as here:
        for path in ("tide@localhost", "tide@quay1", "tide"):
            assert b"kept as" in await converse(here.port, talk(letter(f"{path}", sender=path)))
        for wrong in ("u@host", "u@com"):
            heard = await converse(here.port, talk(letter("a@x.example", sender=wrong), letter(wrong)))
            assert b"501 5.1.7" in heard and b"501 5.1.3" in heard and b"kept as" not in heard
        assert b"kept as" in await converse(here.port, talk(letter("postmaster", sender="")))
        caught = await here.until_caught(4)
        assert sorted(message.reverse_path for message in caught) == ["", *["tide@ternferries.example"] * 3]
        assert {message.recipients[0] for message in caught} == {
            "tide@ternferries.example",
            "postmaster@ternferries.example",
        }

    text = here.loaded.path.read_text().replace('domain = "ternferries.example"\n', "")
    here.loaded.path.write_text(text.replace(f"127.0.0.1:{here.port}", f"127.0.0.1:{free_port()}"))
    service = await Service.start(load_configuration(here.loaded.path), StoppedClock())
    endpoints = service.endpoints
    for bare in ("tide@localhost", "tide@quay1", "tide"):
        heard = await converse(endpoints[0].port, talk(letter("a@x.example", sender=bare), letter(bare)))
        assert b"501 5.1.7" in heard and b"501 5.1.3" in heard and b"kept as" not in heard
    await service.stop(1.0)


def end_of_connection(kind: str, sock: socket.socket) -> None:
    if kind == "reset":
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    elif kind == "close_notify" and isinstance(sock, ssl.SSLSocket):
        with contextlib.suppress(ssl.SSLError):  # the server's own end is not waited for
            sock.unwrap()
    sock.close()


@pytest.mark.parametrize(
    "cut",
    [
        b"DATA\r\nSubject: x\r\n\r\nhalf a li",
        b"DATA\r\nSubject: x\r\n\r\nwhole\r\n.",
        b"BDAT 50 LAST\r\nSubject: x\r\n\r\nhalf",
    ],
)
@pytest.mark.parametrize(
    ("tls", "kind"), [(False, "end"), (False, "reset"), (True, "end"), (True, "reset"), (True, "close_notify")]
)
async def test_a_connection_that_is_lost_leaves_nothing(
    folder: Path, authority: CertificateFiles, cut: bytes, tls: bool, kind: str
) -> None:
    """W-15: however it is lost, before the end of content or in a chunk; what was answered before is untouched."""
    first = letter("first@x.example", sender="")

    def client(port: int) -> None:
        sock = socket.create_connection(("127.0.0.1", port), SECONDS)
        if tls:
            sock = ssl.create_default_context(cafile=authority.authority).wrap_socket(sock, server_hostname="localhost")
        login = b"AUTH PLAIN " + base64.b64encode(f"\0ticketing\0{WORDS}".encode()) + b"\r\n" if tls else b""
        sock.sendall(b"EHLO t\r\n" + login)
        sock.sendall(first)
        heard = b""
        while b"kept as" not in heard:
            heard += sock.recv(4096)
        sock.sendall(b"MAIL FROM:<>\r\nRCPT TO:<second@x.example>\r\n")
        sock.recv(4096)
        sock.sendall(cut)
        end_of_connection(kind, sock)

    port = free_port()
    async with site(folder, authority, extra=with_accounts(folder, authority, port, tls="implicit")) as here:
        await asyncio.to_thread(client, port if tls else here.port)
        await here.until(ended(1))
        assert [message.recipients for message in here.caught] == [("first@x.example",)]
        registry = here.service.registry
        await happens(lambda: not len(registry))
        with here.reader() as reader:
            assert not list(reader.stray_content()) and len(reader.queue(tuple(State))) == 1


async def test_an_orderly_stop_tells_each_session_and_keeps_what_it_answers(
    folder: Path, authority: CertificateFiles
) -> None:
    """S-32: between commands, in a transaction, in content; a message that is being written gets its answer."""

    async with site(folder, authority, clock=StoppedClock()) as here:
        opened = []
        for said in (
            b"",
            b"EHLO t\r\n",
            b"EHLO t\r\nMAIL FROM:<>\r\n",
            b"EHLO t\r\nMAIL FROM:<>\r\nRCPT TO:<a@x.example>\r\nDATA\r\nhalf",
        ):
            reader, writer = await asyncio.open_connection("127.0.0.1", here.port)
            writer.write(said)
            opened.append((reader, writer, said.count(b"\r\n") + 1))
        for reader, _, replies in opened:
            while replies:
                replies -= (await reader.readline())[3:4] == b" "
        reader, writer = await asyncio.open_connection("127.0.0.1", here.port)
        await reader.readline()
        writer.write(b"EHLO t\r\n" + letter("last@x.example", sender=""))
        await asyncio.sleep(0)
        await here.service.stop(5.0)
        for told, _, _ in opened:
            assert (await told.read()).startswith(b"421 4.3.2 ")
        heard = b""
        with contextlib.suppress(ConnectionResetError):  # where the server closed before it read everything
            while some := await reader.read(4096):
                heard += some
        with here.reader() as store:
            kept = [row.recipient.address for row in store.queue(tuple(State))]
        assert kept == (["last@x.example"] if b"kept as" in heard else [])
        for _, item, _ in opened:
            item.close()
        writer.close()


# --- A: logins -------------------------------------------------------------------------------------------------------


async def test_nobody_learns_by_time_which_accounts_there_are(
    folder: Path, authority: CertificateFiles, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A-06: the same reply, after the same work, for a wrong password, an unknown and a disabled account."""
    work: list[tuple[object, ...]] = []
    real = hashlib.pbkdf2_hmac

    def counted(digest: str, password: bytes, salt: bytes, iterations: int) -> bytes:
        work.append((digest, iterations))
        return real(digest, password, salt, iterations)

    def client(port: int) -> list[tuple[tuple[int, bytes], list[tuple[object, ...]]]]:
        result = []
        for login, words in (("ticketing", "wrong"), ("nobody", WORDS), ("gone", WORDS)):
            with smtplib.SMTP_SSL(
                "localhost", port, context=ssl.create_default_context(cafile=authority.authority)
            ) as smtp:
                smtp.ehlo()
                work.clear()
                reply = smtp.docmd("AUTH", "PLAIN " + base64.b64encode(f"\0{login}\0{words}".encode()).decode())
                result.append((reply, work.copy()))
        return result

    port = free_port()
    extra = with_accounts(folder, authority, port, tls="implicit").replace("iterations=4096", "")
    async with site(folder, authority, extra=extra) as here:
        monkeypatch.setattr(hashlib, "pbkdf2_hmac", counted)
        result = await asyncio.to_thread(client, port)
        assert [reply for reply, _ in result] == [(535, b"5.7.8 login or password is wrong")] * 3
        assert result[0][1] == result[1][1] == result[2][1] and len(result[0][1]) == 1
        assert here.caught == []


async def test_a_login_bound_to_its_tls_against_a_running_server(folder: Path) -> None:
    """A-15: PLUS is shown under TLS alone; another connection's value, and the flag `y` beside PLUS, are refused."""
    plan = stage_stand_in(
        Behaviour.model_validate({"offers": {"mechanisms": ["SCRAM-SHA-256-PLUS", "SCRAM-SHA-256"]}}),
        folder,
        {"tern": Secret(PASSWORD)},
    )
    assert plan.binding is not None
    right, wrong = plan.binding, Binding(plan.binding.kind, b"another connection")

    async def login(port: int, name: str, bound: Binding | None, plus_offered: bool) -> tuple[bytes, bytes]:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        await reader.readline()
        writer.write(b"EHLO t\r\n")
        clear = await reader.readuntil(b"\r\n250 ") + await reader.readline()
        writer.write(b"STARTTLS\r\n")
        await reader.readline()
        await writer.start_tls(
            ssl.create_default_context(cafile=folder / "tls" / "ca.pem"), server_hostname="localhost"
        )
        writer.write(b"EHLO t\r\n")
        under_tls = await reader.readuntil(b"\r\n250 ") + await reader.readline()
        assert b"AUTH" not in clear and b"AUTH SCRAM-SHA-256-PLUS SCRAM-SHA-256" in under_tls
        client = MECHANISMS[name].client(
            LoginCredentials("tern", Secret(PASSWORD), nonce="abc", binding=bound), plus_offered
        )
        assert client is not None
        writer.write(f"AUTH {name} ".encode() + base64.b64encode(client.first() or b"") + b"\r\n")
        while (line := await reader.readline()).startswith(b"334 "):
            writer.write(base64.b64encode(client.next(base64.b64decode(line[4:]))) + b"\r\n")
        writer.close()
        return line[:9], under_tls

    stand_in = StandIn(plan)
    port = await stand_in.start("127.0.0.1", 0)
    assert (await login(port, "SCRAM-SHA-256-PLUS", right, True))[0] == b"235 2.7.0"
    assert (await login(port, "SCRAM-SHA-256-PLUS", wrong, True))[0] == b"535 5.7.8"
    assert (await login(port, "SCRAM-SHA-256", right, False))[0] == b"535 5.7.8"
    assert (await login(port, "SCRAM-SHA-256", None, True))[0] == b"235 2.7.0"
    await stand_in.stop()


# --- T: TLS ----------------------------------------------------------------------------------------------------------

REFUSED_CIPHERS = ("NULL", "aNULL", "EXPORT", "RC4", "3DES", "kRSA")
SSLV2_HELLO = bytes.fromhex("802e0100020015001000000000000010") + bytes(range(32))


async def test_what_a_listener_negotiates(folder: Path, authority: CertificateFiles) -> None:
    """T-06: versions, ciphers, compression, renegotiation; and no weak key of its own."""

    def attempt(port: int, newest: ssl.TLSVersion = ssl.TLSVersion.TLSv1_2, ciphers: str = "") -> str:
        context = ssl.create_default_context(cafile=authority.authority)
        context.minimum_version = ssl.TLSVersion.MINIMUM_SUPPORTED
        context.options &= ~ssl.OP_NO_COMPRESSION
        if ciphers:
            context.set_ciphers(f"{ciphers}:@SECLEVEL=0")
        with warnings.catch_warnings(action="ignore", category=DeprecationWarning):  # of the old versions asked for
            context.maximum_version = newest
        with socket.create_connection(("127.0.0.1", port), SECONDS) as plain:
            try:
                with context.wrap_socket(plain, server_hostname="localhost") as sock:
                    assert sock.compression() is None and sock.recv(4) == b"220 "
                    return f"{sock.version()} {sock.cipher()[0]}"  # type: ignore[index]
            except ssl.SSLError as error:
                return error.reason or ""

    def client(port: int) -> None:
        for newest in (ssl.TLSVersion.TLSv1, ssl.TLSVersion.TLSv1_1):
            assert attempt(port, newest=newest, ciphers="ALL").endswith("ALERT_PROTOCOL_VERSION")
        assert attempt(port).startswith("TLSv1.2 ECDHE-") and attempt(port, newest=ssl.TLSVersion.TLSv1_3).startswith(
            "TLSv1.3"
        )
        for ciphers in REFUSED_CIPHERS:
            try:
                said = attempt(port, ciphers=ciphers)
            except ssl.SSLError:
                continue  # the library here has none of them any more
            assert said.endswith("HANDSHAKE_FAILURE"), (ciphers, said)
        assert attempt(port, ciphers="ECDHE+AESGCM").startswith("TLSv1.2 ECDHE-ECDSA-AES")
        with socket.create_connection(("127.0.0.1", port), SECONDS) as plain:
            plain.sendall(SSLV2_HELLO)
            assert b"220" not in plain.recv(100)

    port = free_port()
    async with site(folder, authority, extra=with_accounts(folder, authority, port, tls="implicit")):
        await asyncio.to_thread(client, port)
    context = server_context(str(authority.certificate), str(authority.key))
    assert context.options & ssl.OP_NO_RENEGOTIATION
    weak = make_authority(folder / "weak", ["localhost"], "weak")
    with pytest.raises(ssl.SSLError, match="KEY_TOO_SMALL"):
        server_context(str(weak.certificate), str(weak.key))


# --- C, D: next hops, and what is told of them -----------------------------------------------------------------------

BROKEN = {
    b"hello\r\n": "4.5.0", b"25 ok\r\n": "4.5.0", b"999 what\r\n": "4.5.0", b"\x00\xff\x16\r\n": "4.5.0",
    b"250" + b"x" * 100_000: "4.5.0", b"250-and so on\r\n" * 400: "4.5.0", b"250 ok\r\n250 again\r\n": "4.5.0",
    b"": "4.4.2",
}  # fmt: skip


@pytest.mark.parametrize("reply", BROKEN, ids=lambda reply: reply[:12].hex())
@pytest.mark.parametrize("before", [[b"220 x\r\n", b"250 ok\r\n"], [b"220 x\r\n", b"250 ok\r\n", b"250 ok\r\n"]])
async def test_what_is_no_reply_puts_mail_off_and_decides_nobody(
    folder: Path, reply: bytes, before: list[bytes | None]
) -> None:
    """C-07: the connection is dropped, and the sender hears of 4.5.0 or 4.4.2 when the message has become late."""

    async with scripted([*before, reply or None]) as (port, _):
        clock = StoppedClock()
        config = write_site(folder, port, tls="off", extra='[retry]\nnotice_after = "1h"\n')
        service = await Service.start(load_configuration(config), clock)
        endpoints = service.endpoints
        here = Site(load_configuration(config), None, [], service, endpoints[0].port)  # type: ignore[arg-type]
        await converse(here.port, talk(letter("a@x.example", "b@x.example")))
        await here.until(lambda reader: all(row.recipient.attempts for row in reader.queue()))
        (record, *_) = records(here)
        assert {recipient.state for recipient in record.recipients} == {State.DELAYED}
        clock.time += 3700.0
        await here.service.reload(load_configuration(config))
        await here.until(lambda reader: any(row.message.reverse_path == "" for row in reader.queue()))
        with here.reader() as reader:
            notice = next(row.message.id for row in reader.queue() if row.message.reverse_path == "")
            content = b"".join(reader.content(notice))
        assert f"Status: {BROKEN[reply]}\r\n".encode() in content or b"Status: 4.4.1\r\n" in content
        await service.stop(1.0)


async def test_only_what_a_next_hop_said_is_quoted(folder: Path, authority: CertificateFiles) -> None:
    """D-06: its enhanced code where the class agrees, else the class; nothing of a host that was not reached."""
    rules = (
        Rule("agrees@x.*", Reply(550, "5.1.1", "no mailbox")),
        Rule("none@x.*", Reply(550, "", "plainly no")),
        Rule("other@x.*", Reply(550, "", "4.2.1 says something else")),
    )

    async with site(folder, authority, rules=rules, max_size=10_000) as here:
        for who in ("agrees", "none", "other"):
            await converse(here.port, talk(letter(f"{who}@x.example", sender=f"{who}@y.example")))
        await converse(
            here.port, talk(letter("large@x.example", sender="large@y.example", content=LETTER + b"x\r\n" * 5000))
        )
        texts = {
            message.recipients[0]: message.file.read_text() for message in await here.until_caught(4) if message.file
        }

        def field(who: str, name: str) -> str | None:
            result = re.search(rf"(?m)^{name}: (.*)$", texts[f"{who}@y.example"])
            return result[1].strip() if result else None

        assert field("agrees", "Status") == "5.1.1" and field("none", "Status") == field("other", "Status") == "5.0.0"
        assert field("agrees", "Diagnostic-Code") == "smtp; 550 5.1.1 no mailbox"
        assert field("other", "Diagnostic-Code") == "smtp; 550 4.2.1 says something else"
        assert field("agrees", "Remote-MTA") == "dns; localhost (127.0.0.1)"
        assert field("large", "Status") == "5.3.4"
        assert field("large", "Diagnostic-Code") is None and field("large", "Remote-MTA") is None


async def test_mail_of_eight_bits_to_a_next_hop_of_seven(folder: Path, authority: CertificateFiles) -> None:
    """C-21: converted to valid MIME, or failed with a code that says why; never as it is."""
    without = frozenset({"8BITMIME", "SMTPUTF8"})
    cases = {
        "body": "Subject: x\r\n\r\nhöher\r\n",
        "header": "Subject: höher\r\n\r\nhi\r\n",
        "signed": 'Content-Type: multipart/signed; boundary="b"\r\n\r\n--b\r\n\r\nhöher\r\n--b--\r\n',
    }

    async with site(folder, authority, withheld=without) as here:
        for who, content in cases.items():
            await converse(
                here.port, talk(letter(f"{who}@x.example", sender=f"{who}@y.example", content=content.encode()))
            )
        said = b"MAIL FROM:<utf8@y.example> SMTPUTF8\r\nRCPT TO:<\xc3\xb6@x.example>\r\nRCPT TO:<ascii@x.example>\r\nDATA\r\n"
        await converse(here.port, talk(said + LETTER + b".\r\n"))
        caught = {
            message.recipients[0]: message.file.read_bytes() for message in await here.until_caught(5) if message.file
        }
        assert all(octets.isascii() for octets in caught.values())
        assert (
            b"Subject: =?utf-8?b?aMO2aGVy?=" in caught["header@x.example"] and b"h=C3=B6her" in caught["body@x.example"]
        )
        assert b"Status: 5.6.3\r\n" in caught["signed@y.example"] and b"Status: 5.6.7\r\n" in caught["utf8@y.example"]
        assert caught["ascii@x.example"].endswith(LETTER)
