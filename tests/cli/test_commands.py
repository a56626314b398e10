"""The built program, in a temporary folder: as an administrator and a script meet it."""

from __future__ import annotations

import asyncio
import json
import shutil
import smtplib
import socket
import subprocess
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.server_tls import server_context
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret
from tests.support import PASSWORD, SECONDS, free_port, kite, running, write_site


@asynccontextmanager
async def smart_host(
    folder: Path, authority: CertificateFiles, *rules: Rule
) -> AsyncIterator[tuple[int, asyncio.Queue[Caught]]]:
    """A stand-in with TLS and a login, in this process; yields its port and what it catches."""
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    caught: asyncio.Queue[Caught] = asyncio.Queue()
    plan = StandInPlan(
        name="localhost",
        folder=folder / "caught",
        context=server_context(str(authority.certificate), str(authority.key)),
        logins={"tern": Secret(PASSWORD)},
        rules=rules,
    )
    stand_in = StandIn(plan, caught.put_nowait)
    port = await stand_in.start("127.0.0.1", 0)
    try:
        yield port, caught
    finally:
        await stand_in.stop()


async def take(caught: asyncio.Queue[Caught]) -> Caught:
    return await asyncio.wait_for(caught.get(), SECONDS)


def port_of(config: Path) -> int:
    return int(config.read_text().partition('bind = ["127.0.0.1:')[2].partition('"')[0])


EVERY_OCTET = b"".join(bytes([n]) for n in range(1, 256) if n not in (10, 13))
CONTENT = (
    b"Date: Mon, 23 Nov 2026 10:00:00 +0000\r\nMessage-ID: <c@x>\r\nFrom: ticketing@ternferries.example\r\nSubject: every octet\r\nMIME-Version: 1.0\r\n\r\n"
    + EVERY_OCTET + b"\r\n.\r\n..\r\n.dot\r\n" + b"." + b"x" * 997 + b"\r\n" + b"y" * 998 + b"\r\n"
)  # fmt: skip


def without_trace(message: bytes) -> bytes:
    """`message` without its first field, which must be a Received: field."""
    assert message.startswith(b"Received: ")
    lines = message.split(b"\r\n")
    end = next(n for n, line in enumerate(lines) if n and not line.startswith(b"\t"))
    return b"\r\n".join(lines[end:])


async def test_common_clients_hand_in_mail_that_arrives_as_it_was(folder: Path, authority: CertificateFiles) -> None:
    """smtplib and curl: every octet but NUL, lines that start with dots, lines of 998 octets."""

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        with running(config):
            port = port_of(config)

            def with_smtplib() -> None:
                with smtplib.SMTP("127.0.0.1", port) as client:
                    client.sendmail("a@x.example", ["b@passenger.example"], CONTENT, ["BODY=8BITMIME"])

            await asyncio.to_thread(with_smtplib)
            first = await take(caught)
            assert first.file is not None and without_trace(first.file.read_bytes()) == CONTENT
            if shutil.which("curl") is None:
                pytest.skip("no curl here")
            (folder / "mail.eml").write_bytes(CONTENT)
            command = [
                "curl", "-sS", f"smtp://127.0.0.1:{port}", "--mail-from", "a@x.example",
                "--mail-rcpt", "c@passenger.example", "-T", str(folder / "mail.eml"),
            ]  # fmt: skip
            done = await asyncio.to_thread(subprocess.run, command, capture_output=True, timeout=30, check=False)
            assert done.returncode == 0, done.stderr
            second = await take(caught)
            assert second.file is not None and without_trace(second.file.read_bytes()) == CONTENT


async def test_a_script_hands_in_mail_and_can_follow_it(folder: Path, authority: CertificateFiles) -> None:
    """pipe, queue list, trace and status, as text and as JSON; no secret in any of it."""
    rules = (Rule("later@*", Reply(450, "4.2.1", "not now")), Rule("gone@*", Reply(550, "5.1.1", "no mailbox")))

    async with smart_host(folder, authority, *rules) as (hop, caught):
        config = write_site(folder, hop)
        seen = []
        with running(config) as server:

            async def run(*words: object, stdin: bytes = b"") -> subprocess.CompletedProcess[bytes]:
                done = await asyncio.to_thread(kite, *words, stdin=stdin, config=config)
                seen.append(done.stdout + done.stderr)
                return done

            assert (await run("pipe", "ana@passenger.example", stdin=b"Subject: hi\n\nhello\n.\n")).returncode == 0
            message = await take(caught)
            assert message.file is not None
            text = message.file.read_bytes()
            assert b"\r\nFrom: <root@ternferries.example>\r\n" in text or b"@ternferries.example>\r\n" in text
            assert b"\r\nDate: " in text and b"\r\nMessage-ID: <" in text and text.endswith(b"\r\nhello\r\n.\r\n")
            assert b"local socket user " in text

            recipients = ("later@passenger.example", "gone@passenger.example")
            assert (await run("pipe", "--from", "rota@ternferries.example", *recipients, stdin=b"x\n")).returncode == 0
            notice = await take(caught)
            assert notice.reverse_path == "" and notice.recipients == ("rota@ternferries.example",)

            listed = await run("queue", "list")
            assert b"later@passenger" in listed.stdout and b"450 4.2.1" in listed.stdout
            assert b"gone@" not in listed.stdout and b"\x1b" not in listed.stdout
            (row,) = json.loads((await run("queue", "list", "--json")).stdout)
            assert row["state"] == "delayed" and row["attempts"] == 1 and row["last_reply"] == "450 4.2.1 not now"
            assert row["next_try"].endswith("+00:00")

            told = await run("trace", row["id"])
            for words in (b"accepted", b"delayed", b"failed", b"notice", b"Verdict", b"550 5.1.1", b"next hop"):
                assert words in told.stdout
            story = json.loads((await run("trace", row["id"], "--json")).stdout)
            assert story["verdict"]["side"] == "next hop" and story["verdict"]["advice"]
            assert [recipient["state"] for recipient in story["recipients"]] == ["delayed", "failed"]
            dialogue = await run("trace", row["id"], "--dialogue")
            assert (
                b"C: AUTH SCRAM-SHA-256 ***" in dialogue.stdout
                and b"C: RCPT TO:<gone@passenger.example>" in dialogue.stdout
            )

            status = await run("status")
            assert status.returncode == 0 and b"running since" in status.stdout and b"1 delayed" in status.stdout
            facts = json.loads((await run("status", "--json")).stdout)
            assert facts["running"] and facts["queue"]["recipients"] == {"delayed": 1}
            assert facts["connectors"][0]["last_success"] and facts["connectors"][0]["last_failure"] is None
            assert facts["connectors"][0]["relayed_last_hour"] == facts["flow"]["last_day"]["relayed"] >= 1
            outcomes = {outcome: facts["flow"]["hours"][-1][outcome] for outcome in ("accepted", "delayed", "failed")}
            assert outcomes == {"accepted": 3, "delayed": 1, "failed": 1} and facts["disk"]["free"] > 0
            row = next(line for line in status.stdout.decode().splitlines() if line.startswith("delayed"))
            assert row.split() == ["delayed", "1", "1", "·" * 23 + "▇"]

            server.terminate()
            assert await asyncio.to_thread(server.wait, 15) == 0
            assert server.stderr is not None
            seen.append(server.stderr.read())
            assert (await run("status")).returncode == 1
            assert b"later@passenger" in (await run("queue", "list")).stdout, "readers work without the server"
            late = await run("pipe", "x@passenger.example", stdin=b"x\n")
            assert (late.returncode, late.stderr) == (0, b""), "it waits in the drop folder"
        everything = b"".join([*seen, *(file.read_bytes() for file in folder.glob("queue/queue.sqlite"))])
        for secret in (PASSWORD.encode(), b"AHRlcm4A"):  # the password, and how its base64 form begins
            assert secret not in everything


def test_pipe_refuses_what_is_no_message(folder: Path) -> None:
    config = write_site(folder, free_port(), tls="off")
    assert kite("pipe", stdin=b"x", config=config).returncode == 64
    assert kite("pipe", "a@x.example", stdin=b"", config=config).returncode == 65
    assert kite("pipe", "a@x.example\r\nDATA", stdin=b"x", config=config).returncode == 64
    assert kite("pipe", "a@x.example", stdin=b"x", config=folder / "none.toml").returncode == 75
    with running(config):
        assert kite("pipe", "<a@x.example>", stdin=b"x", config=config).returncode == 64
        refused = kite("pipe", "a@", stdin=b"x", config=config)
        assert refused.returncode == 65 and b"501 5.1.3" in refused.stderr
        rows = json.loads(kite("queue", "list", "--json", "--all", config=config).stdout)
        assert rows == []


def test_the_configuration_is_refused_as_a_whole(folder: Path) -> None:
    config = write_site(folder, 25)
    text = config.read_text().replace("bind =", "bnid =").replace('name = "beacon"', 'name = "beacon"\nprefrence = 1')
    config.write_text(text)
    (folder / "credentials.toml").chmod(0o644)
    for words in (("serve",), ("status",), ("route", "a@b.example")):
        done = kite(*words, config=config)
        assert done.returncode == 3
        assert b"did you mean 'bind'?" in done.stderr and b"did you mean 'preference'?" in done.stderr
        assert f"{config}:".encode() in done.stderr and b"Traceback" not in done.stderr
    assert kite("serve", config=folder / "none.toml").returncode == 3


@pytest.mark.data_folder
def test_serve_names_what_is_in_its_way(folder: Path, authority: CertificateFiles) -> None:
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    config = write_site(folder, 25)
    (folder / "credentials.toml").chmod(0o640)
    done = kite("serve", config=config)
    assert done.returncode == 3 and b"others can read it" in done.stderr
    (folder / "credentials.toml").chmod(0o600)
    with socket.create_server(("127.0.0.1", port_of(config))):
        done = kite("serve", config=config)
        assert done.returncode == 3 and b"already in use" in done.stderr
    with running(config):
        done = kite("serve", config=config)
        assert done.returncode == 3 and b"already served by process" in done.stderr
    (folder / "queue" / "queue.sqlite").write_bytes(b"rubbish" * 1000)
    done = kite("serve", config=config)
    assert done.returncode == 3 and b"Traceback" not in done.stderr
    config.write_text(config.read_text().replace('data = "queue"', f'data = "{config}/queue"'))
    assert kite("serve", config=config).returncode == 3


def test_a_trace_names_the_addresses_that_gave_no_session(folder: Path) -> None:
    config = write_site(folder, free_port(), tls="off")
    with running(config):
        assert kite("pipe", "x@passenger.example", stdin=b"x", config=config).returncode == 0
        for _ in range(100):
            story = json.loads(kite("trace", "x@passenger.example", "--json", config=config).stdout)
            if story["attempts"]:
                break
        tried = story["attempts"][0]["tried"]
        assert {"address": "127.0.0.1", "stage": "connect"}.items() <= tried[-1].items()
        shown = kite("trace", "x@passenger.example", "--dialogue", config=config).stdout
        assert b"  127.0.0.1 gave no session, stage connect: " in shown


def test_words_that_are_not_commands(folder: Path) -> None:
    done = kite("qeue")
    assert done.returncode == 2 and b"Did you mean 'queue'?" in done.stderr
    assert kite("trace", "0", "x").returncode == 2
    config = write_site(folder, 25, tls="off")
    assert kite("queue", "list", config=config).returncode == 3, "no queue here yet"
    with running(config):
        done = kite("trace", "ZZZZ", config=config)
        assert done.returncode == 1 and b"no message 'ZZZZ'" in done.stderr


def test_help_is_grouped_by_the_work() -> None:
    text = kite("--help").stdout.decode()
    assert [word for word in ("Run:", "Test:", "Trace:", "Learn:") if f"\n{word}\n" in text] == [
        "Run:", "Test:", "Trace:", "Learn:",
    ]  # fmt: skip
    for command in ("serve", "pipe", "status", "catch", "queue", "trace", "demo"):
        assert f"\n  {command} " in text
        assert kite(command, "--help").returncode == 0


def test_help_imports_only_what_it_needs() -> None:
    """`kite --help` starts as fast as click does: nothing heavy is imported for it."""
    import sys

    code = (
        "import sys\nfrom copper_kite.cli.main import run_command_line\n"
        "try:\n run_command_line(['--help'])\nexcept SystemExit: pass\n"
        "print([name for name in ('pydantic', 'rich', 'asyncio', 'sqlite3', 'ssl', 'uvloop') if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, check=True, timeout=30)
    assert done.stdout.endswith(b"[]\n")


def test_catch_keeps_what_it_is_sent(folder: Path) -> None:
    """The stand-in as a command: TLS from an authority made on the spot, a login, rules, .eml files."""
    import signal
    import ssl
    import sys

    secrets = folder / "credentials.toml"
    secrets.touch(mode=0o600)
    secrets.write_text(f'[any]\nlogin = "tern"\npassword = "{PASSWORD}"\n')
    port = free_port()
    words = [
        "catch", f"127.0.0.1:{port}", "--folder", folder / "caught", "--credentials", secrets,
        "--refuse", "gone@*", "--put-off", "later@*", "--json",
    ]  # fmt: skip
    command = [sys.executable, "-m", "copper_kite", *map(str, words)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        assert process.stderr is not None and process.stdout is not None
        assert b"takes mail on" in process.stderr.readline()
        assert b"ca.pem" in process.stderr.readline()
        with smtplib.SMTP("127.0.0.1", port) as client:
            client.starttls(context=ssl.create_default_context(cafile=str(folder / "caught" / "tls" / "ca.pem")))
            with pytest.raises(smtplib.SMTPAuthenticationError):
                client.login("tern", "wrong")
            with pytest.raises(smtplib.SMTPSenderRefused):
                client.sendmail("a@x", "b@x.example", "x")
            client.login("tern", PASSWORD)
            refused = client.sendmail("a@x.example", ["ok@x.example", "gone@x.example", "later@x.example"], "hi")
            assert {who: code for who, (code, _) in refused.items()} == {"gone@x.example": 550, "later@x.example": 450}
        caught = json.loads(process.stdout.readline())
        assert caught["to"] == ["ok@x.example"] and caught["tls"] and caught["login"] == "tern"
        assert Path(caught["file"]).read_bytes() == b"hi\r\n"
        process.send_signal(signal.SIGTERM)
        assert process.wait(15) == 0
        assert PASSWORD.encode() not in process.stdout.read() + process.stderr.read()


def test_the_demo_tells_its_stories(folder: Path) -> None:
    done = kite("demo", "--seconds", "3", "--folder", folder / "demo")
    assert done.returncode == 0, done.stderr
    text = done.stdout.decode()
    for words in (
        "What waits now", "olga.full@", "452 4.2.2", "A message that was relayed", "A message that was delayed",
        "A message that failed", "550 5.1.1", "Verdict", "The day is over.", str(folder / "demo" / "kite.toml"),
    ):  # fmt: skip
        assert words in text
    states = {row["state"] for row in json.loads(kite("queue", "list", "--all", "--limit", "999", "--json",
                                                      config=folder / "demo" / "kite.toml").stdout)}  # fmt: skip
    assert states == {"relayed", "delayed", "failed"}
    assert kite("demo", "--folder", folder / "demo").returncode == 2
