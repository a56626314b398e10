"""What many tests need: a site (a server and its smart host) inside the test, scripted peers, clocks, programs."""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
from collections.abc import AsyncIterator, Iterable, Iterator
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from copper_kite.clock import Clock, SystemClock
from copper_kite.demo.ports import free_port
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.load import Loaded, load_configuration
from copper_kite.settings.server_tls import server_context
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.sasl import Secret
from copper_kite.store import (
    AddContent,
    AddMessage,
    AddRecipient,
    Message,
    Operation,
    Reader,
    Recipient,
    open_store,
)
from tests.configuration import connector, site_text
from tests.looping import SECONDS, happens

PASSWORD = "the-quay-is-wet-77"
OPENING = ["resolve", "connect", "greet", "hello", "secure", "hello", "login"]  # the stages of a session with STARTTLS


class JumpingClock:
    """Shows the time it was last asked to sleep until: waiting costs nothing."""

    def __init__(self, now: float = 1_800_000_000.0) -> None:
        self.time = now

    def now(self) -> float:
        return self.time

    def steady(self) -> float:
        return self.time

    def apart(self) -> float:
        return 0.0

    def real_delay(self, until: float) -> float:
        self.time = max(self.time, until)
        return 0.0


class StoppedClock(JumpingClock):
    """Never moves: nothing that is not due now is ever tried."""

    def real_delay(self, until: float) -> float:
        return 3600.0 if until > self.time else 0.0


class PatientClock(JumpingClock):
    """Moves only when a test moves it; who waits for an instant looks again every now and then."""

    def real_delay(self, until: float) -> float:
        return 0.005 if until > self.time else 0.0


def write_site(folder: Path, hop: int, *, tls: str = "starttls", extra: str = "", port: int = 0) -> Path:
    """A configuration with one listener (TCP and Unix) and one connector, and its credentials."""
    secrets = folder / "credentials.toml"
    secrets.touch(mode=0o600)
    secrets.write_text(f'[beacon]\nlogin = "tern"\npassword = "{PASSWORD}"\n')
    config = folder / "kite.toml"
    known = {"trust": "ca.pem", "credential": "beacon"} if tls != "off" else {}
    text = site_text(
        connector("beacon", f"localhost:{hop}", tls=tls, **known),
        bind=[f"127.0.0.1:{port or free_port()}", f"unix:{folder}/submit.sock"],
        identity={"recipients": {"root": "duty@crew.example"}},
    )
    config.write_text(text + extra)
    return config


@dataclass
class Site:
    """A server with its smart host, inside the test."""

    loaded: Loaded
    stand_in: StandIn
    caught: list[Caught]
    service: Service
    port: int
    _more: asyncio.Event = field(default_factory=asyncio.Event)

    def take(self, caught: Caught) -> None:
        self.caught.append(caught)
        self._more.set()

    async def until_caught(self, count: int) -> list[Caught]:
        """Wait until the smart host has taken `count` messages."""
        async with asyncio.timeout(SECONDS):
            while len(self.caught) < count:
                self._more.clear()
                await self._more.wait()
        return self.caught

    async def until(self, holds: object) -> None:
        """Let the loop turn until `holds(reader)` is true."""
        async with asyncio.timeout(SECONDS):
            with open_store(self.loaded.store).reader() as reader:
                await happens(lambda: holds(reader))

    def reader(self) -> Reader:
        return open_store(self.loaded.store).reader()


@asynccontextmanager
async def site(
    folder: Path,
    authority: CertificateFiles,
    *,
    rules: tuple[Rule, ...] = (),
    tls: str = "starttls",
    offered: str = "",
    password: str = PASSWORD,
    clock: Clock | None = None,
    extra: str = "",
    max_size: int = 10**8,
    withheld: frozenset[str] = frozenset(),
    limits: Limits | None = None,
) -> AsyncIterator[Site]:
    """A running site; the smart host offers `offered` TLS (else what the connector wants) and takes `password`."""
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    offered = offered or tls
    plan = StandInPlan(
        name="localhost",
        folder=folder / "caught",
        tls=offered,
        context=None if offered == "off" else server_context(str(authority.certificate), str(authority.key)),
        logins={"tern": Secret(password)} if tls != "off" else {},
        rules=rules,
        max_size=max_size,
        limits=limits or Limits(),
    )
    plan = replace(plan, offers=replace(plan.what_it_offers(), withheld=withheld))
    stand_in = StandIn(plan, lambda caught: here.take(caught))
    hop = await stand_in.start("127.0.0.1", 0)
    loaded = load_configuration(write_site(folder, hop, tls=tls, extra=extra))
    service = await Service.start(loaded, clock or SystemClock())
    endpoints = service.endpoints
    here = Site(loaded, stand_in, [], service, endpoints[0].port)
    try:
        yield here
    finally:
        await service.stop(2.0)
        await stand_in.stop()


def whole(message: Message, recipients: Iterable[Recipient], content: bytes) -> list[Operation]:
    """A message with recipients in any state, in rows of their own."""
    return [AddMessage(message, (), None), AddContent(message.id, 0, content), *map(AddRecipient, recipients)]


async def converse(port: int, lines: bytes, *, chunk: int = 0) -> bytes:
    """Send octets to a server on this machine (in portions of `chunk`), and hear it out until it closes."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    for start in range(0, len(lines), chunk or max(len(lines), 1)):
        writer.write(lines[start : start + (chunk or len(lines))])
        await writer.drain()
    async with asyncio.timeout(SECONDS):
        heard = await reader.read()
    writer.close()
    return heard


def codes(heard: bytes) -> list[bytes]:
    """The codes of the replies in `heard`, one each."""
    return [line[:3] for line in heard.split(b"\r\n") if line[3:4] in (b" ", b"")][:-1]


class Scripted(asyncio.Protocol):
    """A peer that says one thing after each thing it hears; `None` closes. What it heard is in `heard`."""

    def __init__(self, heard: list[bytes], says: list[bytes | None]) -> None:
        self._heard, self._says = heard, iter(says)

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._say()

    def data_received(self, data: bytes) -> None:
        self._heard.append(data)
        self._say()

    def _say(self) -> None:
        words = next(self._says, None)
        if words is None:
            self._transport.close()
        else:
            self._transport.write(words)  # type: ignore[attr-defined]


@asynccontextmanager
async def scripted(says: list[bytes | None]) -> AsyncIterator[tuple[int, list[bytes]]]:
    """A scripted peer on a port; yields the port and what it hears."""
    heard: list[bytes] = []
    server = await asyncio.get_running_loop().create_server(lambda: Scripted(heard, says), "127.0.0.1", 0)
    try:
        yield server.sockets[0].getsockname()[1], heard
    finally:
        server.close()


# --- the built program ----------------------------------------------------------------------------------------------


def environment(**more: str) -> dict[str, str]:
    kept = {key: value for key, value in os.environ.items() if not key.startswith("KITE_") or key == "KITE_COLUMNS"}
    return kept | {"NO_COLOR": "1"} | more


def kite(*words: object, stdin: bytes = b"", config: Path | None = None) -> subprocess.CompletedProcess[bytes]:
    """Run the command to its end."""
    given = ["--config", str(config)] if config else []
    command = [sys.executable, "-m", "copper_kite", *given, *map(str, words)]
    return subprocess.run(command, input=stdin, capture_output=True, timeout=60, env=environment(), check=False)


def until(config: Path, states: dict[str, str]) -> None:
    """Until the recipients in the queue of `config` are in these states, notices left out."""
    for _ in range(200):
        rows = json.loads(kite("queue", "list", "--all", "--json", config=config).stdout)
        if {row["to"]: row["state"] for row in rows if row["from"]} == states:
            return
    raise AssertionError(rows)


@contextmanager
def running(config: Path, **more: str) -> Iterator[subprocess.Popen[bytes]]:
    """`kite serve` as a process, ready, with `more` in its environment; killed at the end if it still runs."""
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "serve"]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, env=environment(**more))
    assert process.stderr is not None
    said = []
    for line in process.stderr:
        said.append(line)
        if b"is serving" in line:
            break
    else:
        raise AssertionError(b"".join(said).decode())
    try:
        yield process
    finally:
        process.kill()
        process.wait()
        process.stderr.close()
