"""What stops mail, each produced for real: one command leads to each cause. For a test, and for docs/causes.md."""

from __future__ import annotations

import json
import smtplib
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import NamedTuple

from copper_kite.store import open_store
from tests.configuration import site_text, store_of
from tests.looping import happens_elsewhere
from tests.support import environment, free_port, kite, running

__all__ = ["CAUSES", "TERN", "Cause", "Local", "run_cause", "secrets", "situations", "stand_in"]

TERN = "ternferries.example"


class Cause(NamedTuple):
    """One cause: in words, the command that leads to it, what that must say, and whose side it is."""

    title: str
    command: tuple[str, ...]
    says: tuple[str, ...]
    side: str


# `{name}` in a command is the id of the message that the situation of this name made, `{port}` a port.
CAUSES = (
    Cause("No connector", ("trace", "{nowhere}"), ("No connector carries mail for", "kite route"), "here"),
    Cause("Wrong password", ("trace", "{password}"), ("refuses the login", "535", "kite credential"), "here"),
    Cause("Untrusted certificate", ("trace", "{untrusted}"), ("certificate", "trust"), "here"),
    Cause("Name not found", ("trace", "{unnamed}"), ("does not exist in DNS", "kite connector show unnamed"), "here"),
    Cause("Port blocked", ("probe", "127.0.0.1:{blocked}", "--timeout", "connect=1s"), ("firewall", "--ports"), "path"),
    Cause("Refused here for lack of rights", ("trace", "--refused"), ("may not relay through listener", "kite listener"), "here"),
    Cause("Refused there for the sender", ("trace", "{sender}"), ("550 5.7.1", "sender"), "here"),
    Cause("Recipient unknown", ("trace", "{unknown}"), ("no mailbox", "550 5.1.1"), "next hop"),
    Cause("Put off for rate", ("trace", "{rate}"), ("only so much in a time", "pace"), "here"),
    Cause("Allowance used up", ("trace", "{second}"), ("has used its allowance", "kite connector"), "here"),
    Cause("Message too large", ("trace", "{large}"), ("octets", "5.3.4", "max_size"), "here"),
    Cause("Parked and forgotten", ("trace", "{parked}"), ("Parked for", "kite queue release"), "here"),
    Cause("Returned from beyond", ("notice", "notice.eml"), ("Returned from beyond", "mailbox"), "beyond"),
    Cause("Looping", ("headers", "looping.eml"), ("goes in a circle", "have to agree"), "here"),
    Cause("Expired", ("trace", "{expired}"), ("it expired", "lifetime"), "path"),
)  # fmt: skip

BEHAVIOUR = """\
name = "localhost"
[[rule]]
stage = "sender"
sender = "manifest@*"
answer = "550 5.7.1 manifest@ternferries.example is not a sender of this login"
[[rule]]
stage = "recipient"
recipient = "gone@passenger.example"
answer = "550 5.1.1 no mailbox of this name here"
[[rule]]
stage = "recipient"
recipient = "rate@passenger.example"
answer = "451 4.7.1 too many messages from you in this hour; slow down"
"""

CONNECTORS = """\
[[connector]]
name = "beacon"
recipients = ["passenger.example", "ternferries.example"]
hosts = ["localhost:{hop}"]
trust = "caught/tls/ca.pem"
credential = "beacon"
max_size = "20KiB"

[[connector]]
name = "crew"
recipients = ["crew.example"]
hosts = ["localhost:{hop}"]
trust = "caught/tls/ca.pem"
credential = "old"

[[connector]]
name = "harbour"
recipients = ["harbouroffice.example"]
hosts = ["localhost:{hop}"]
credential = "beacon"

[[connector]]
name = "unnamed"
recipients = ["pier.example"]
hosts = ["out.baeconpost.example:587"]

[[connector]]
name = "capped"
recipients = ["offers.example"]
hosts = ["localhost:{hop}"]
trust = "caught/tls/ca.pem"
credential = "beacon"
allowance = "1/day"

[[connector]]
name = "dead"
recipients = ["dead.example"]
hosts = ["127.0.0.1:{dead}"]
tls = "off"

[retry]
waits = ["1s"]
lifetime = "{lifetime}"
"""


def _configuration(facts: dict[str, object], lifetime: str) -> str:
    return site_text(
        CONNECTORS.format(**facts, lifetime=lifetime),
        bind=[f"127.0.0.1:{facts['port']}", f"unix:{facts['folder']}/submit.sock"],
        server={"dns": "zone:zone"},
        listener={"allow": ["192.0.2.0/24"]},
    )


NOTICE = """\
From: Mail System <postmaster@mx1.passenger.example>
Date: Mon, 23 Nov 2026 10:00:00 +0000
Message-ID: <n1@mx1.passenger.example>
Content-Type: multipart/report; report-type=delivery-status; boundary=b

--b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx1.passenger.example

Final-Recipient: rfc822; ana.silva@passenger.example
Action: failed
Status: 5.1.1
Remote-MTA: dns; store.passenger.example
Diagnostic-Code: smtp; 550 5.1.1 this mailbox was closed
--b
Content-Type: text/rfc822-headers

Message-ID: {message_id}
--b--
"""
HOP = "Received: from {} by {} with ESMTPS id {}; Mon, 23 Nov 2026 10:{:02}:00 +0000\n"
QUAY, OFFICE = "quay1.ternferries.example", "gate.harbouroffice.example"
LOOPING = (
    HOP.format(OFFICE, QUAY, "3C", 4) + HOP.format(QUAY, OFFICE, "9B", 3) + HOP.format(OFFICE, QUAY, "2B", 2)
    + HOP.format(QUAY, OFFICE, "9A", 1) + HOP.format("manifest", QUAY, "1A", 0)
    + "Subject: Passenger list\nFrom: manifest@ternferries.example\n\n"
)  # fmt: skip


class Local(smtplib.SMTP):
    """A program on this machine, at the server's Unix socket."""

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        sock = socket.socket(socket.AF_UNIX)
        sock.connect(host)
        return sock


def hand_in(config: Path, to: str, sender: str = f"ticketing@{TERN}", body: str = "x") -> str:
    """The id of a message submitted."""
    content = f"Subject: {to}\r\nMessage-ID: <{to}.{time.time_ns()}@{TERN}>\r\n\r\n{body}\r\n"
    with Local(str(config.parent / "submit.sock"), 1, "programs") as client:
        client.ehlo_or_helo_if_needed()
        client.mail(sender)
        client.rcpt(to)
        return client.data(content)[1].split()[-1].decode()


def settle(config: Path, id: str, state: str) -> None:
    """Wait until a message has ended so."""
    with open_store(store_of(config.parent / "queue")).reader() as reader:
        happens_elsewhere(lambda: reader.record(reader.resolve(id)).recipients[0].state == state)


@contextmanager
def stand_in(folder: Path, hop: int, behaviour: str = BEHAVIOUR, tls: str = "starttls") -> Iterator[None]:
    """A smart host with its rules, as a process."""
    (folder / "behave.toml").write_text(behaviour)
    words = [f"127.0.0.1:{hop}", "--behave", "behave.toml", "--folder", "caught", "--tls", tls]
    words += ["--credentials", "logins.toml"] if tls != "off" else []
    command = [sys.executable, "-m", "copper_kite", "catch", *words]
    process = subprocess.Popen(
        command, cwd=folder, stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, env=environment()
    )
    assert process.stderr is not None and b"takes mail" in process.stderr.readline()
    try:
        yield
    finally:
        process.kill()
        process.wait()
        process.stderr.close()


def secrets(path: Path, **passwords: str) -> None:
    """A credentials file."""
    path.touch(mode=0o600)
    path.write_text("".join(f'[{name}]\nlogin = "tern"\npassword = "{word}"\n' for name, word in passwords.items()))


@contextmanager
def situations(folder: Path) -> Iterator[tuple[Path, dict[str, str]]]:
    """A site in which all of it has happened: its configuration, and what `{name}` in the commands stands for."""
    hop, dead, port = free_port(), free_port(), free_port()
    (folder / "zone").write_text("localhost 60 IN A 127.0.0.1\n")
    secrets(folder / "logins.toml", tern="quay-7")
    secrets(folder / "credentials.toml", beacon="quay-7", old="quay-6")
    config = folder / "kite.toml"
    facts = {"port": port, "hop": hop, "dead": dead, "folder": folder}
    config.write_text(_configuration(facts, "1s"))
    known: dict[str, str] = {}
    with ExitStack() as stack:
        stack.enter_context(stand_in(folder, hop))
        with running(config):
            known["expired"] = hand_in(config, "duty@dead.example")
            settle(config, known["expired"], "failed")
        config.write_text(_configuration(facts, "5d").replace('"1s"', '"1h"'))
        stack.enter_context(running(config))
        known["nowhere"] = hand_in(config, "ana@nowhere.example")
        known["password"] = hand_in(config, "duty@crew.example")
        known["untrusted"] = hand_in(config, "desk@harbouroffice.example")
        known["unnamed"] = hand_in(config, "pier@pier.example")
        known["sender"] = hand_in(config, "ana@passenger.example", f"manifest@{TERN}")
        known["unknown"] = hand_in(config, "gone@passenger.example")
        known["rate"] = hand_in(config, "rate@passenger.example")
        known["large"] = hand_in(config, "bo@passenger.example", body="0123456789\n" * 3000)
        settle(config, hand_in(config, "first@offers.example"), "relayed")
        known["second"] = hand_in(config, "second@offers.example")
        known["parked"] = hand_in(config, "late@nowhere.example")
        for name in ("nowhere", "password", "untrusted", "unnamed", "rate", "second", "parked"):
            settle(config, known[name], "delayed")
        for name in ("sender", "unknown", "large"):
            settle(config, known[name], "failed")
        assert kite("queue", "park", known["parked"], "--yes", config=config).returncode == 0
        relayed = hand_in(config, "ana.silva@passenger.example")
        settle(config, relayed, "relayed")
        told = json.loads(kite("trace", relayed, "--json", config=config).stdout)
        (folder / "notice.eml").write_text(NOTICE.format(message_id=told["message_id"]))
        (folder / "looping.eml").write_text(LOOPING)
        kite("send", "ana@passenger.example", "--from", f"t@{TERN}", "--server", f"127.0.0.1:{port}", "--tls", "off")
        full = stack.enter_context(socket.create_server(("127.0.0.1", 0), backlog=0))
        known["blocked"] = str(full.getsockname()[1])
        for _ in range(3):  # nobody takes these up: whoever comes next is not answered
            waiting = stack.enter_context(socket.socket())
            waiting.setblocking(False)
            waiting.connect_ex(full.getsockname())
        yield config, known


def run_cause(cause: Cause, config: Path, known: dict[str, str], *, plain: bool = True) -> tuple[str, str]:
    """The command as one would type it, and what it prints; where it is `plain`, as without a configuration named."""
    words = [word.format_map(known) for word in cause.command]
    files = [str(config.parent / word) if word.endswith(".eml") else word for word in words]
    done = kite(*files, config=config)
    shown = (done.stdout + done.stderr).decode()
    return " ".join(["kite", *words]), shown.replace(f"kite --config {config} ", "kite ") if plain else shown
