"""The guided run: stand-ins and a server start, programs submit a day's mail, and the run explains each step."""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Callable
from contextlib import AsyncExitStack
from dataclasses import dataclass, field
from pathlib import Path

from copper_kite.demo.day import DayClock
from copper_kite.demo.domain import write_domain
from copper_kite.demo.history import write_history
from copper_kite.demo.ports import free_port
from copper_kite.demo.scenario import BEACON_RULES, GATE_RULES, Letter, day_of_letters, render
from copper_kite.net import Dialogue, Plan, RelaySession, make_authority, open_session
from copper_kite.relay import Service
from copper_kite.session import Rule, StandIn, StandInPlan
from copper_kite.settings import Loaded, load_configuration, server_context
from copper_kite.smtp import Envelope, Secret
from copper_kite.store import Reader, id_range, open_store
from copper_kite.words import State

__all__ = ["Demo", "Moment", "make_history"]

EVERY = 2 * 3600.0  # of the day's seconds between two moments
SETTLE_LOOKS = 600  # twenty a second of the machine, for what is submitted last
LOGIN = "tern-ferries"
CREDENTIALS = {"out.beaconpost.example": "beacon", "gate.harbouroffice.example": "harbour"}


@dataclass(frozen=True, slots=True)
class Moment:
    """The state at one time of the day: messages submitted, and recipients by state."""

    at: float
    handed_in: int
    states: dict[State, int]


@dataclass(slots=True)
class Demo:
    """A day in `seconds`, in `folder`. `tell` is called for each moment."""

    folder: Path
    seconds: float
    tell: Callable[[Moment], None]
    stories: dict[str, int] = field(default_factory=dict)  # note → message id
    _handed_in: int = 0

    async def run(self, day_over: Callable[[Loaded], None], hold: asyncio.Event | None) -> None:
        """Live through the day, then call `day_over`; with `hold`, go on until it is set."""
        async with AsyncExitStack() as stack:
            beacon = await self._stand_in(stack, "out.beaconpost.example", "starttls", BEACON_RULES)
            gate = await self._stand_in(stack, "gate.harbouroffice.example", "implicit", GATE_RULES)
            clock = DayClock(self.seconds)
            port = free_port()
            loaded = self._configure(port, beacon, gate)
            service = await Service.start(loaded, clock)
            stack.push_async_callback(service.stop)
            with open_store(loaded.store).reader() as reader:
                await asyncio.gather(self._hand_in(port, clock), self._watch(reader, clock))
                await self._settle(reader)
            day_over(loaded)
            if hold is not None:
                await hold.wait()

    async def _stand_in(self, stack: AsyncExitStack, name: str, tls: str, rules: tuple[Rule, ...]) -> int:
        """A smart host with a certificate of its own authority; returns its port."""
        folder = self.folder / name
        files = make_authority(folder / "tls", [name, "localhost"])
        plan = StandInPlan(
            name=name,
            folder=folder,
            tls=tls,
            context=server_context(str(files.certificate), str(files.key)),
            logins={LOGIN: self._password(name)},
            rules=rules,
        )
        stand_in = StandIn(plan)
        port = await stand_in.start("127.0.0.1", 0)
        stack.push_async_callback(stand_in.stop)
        return port

    def _password(self, name: str) -> Secret:
        """A password made for this run, kept where the server reads it."""
        password, path = secrets.token_urlsafe(12), self.folder / "credentials.toml"
        path.touch(mode=0o600)
        with path.open("a") as file:
            file.write(f'[{CREDENTIALS[name]}]\nlogin = "{LOGIN}"\npassword = "{password}"\n')
        return Secret(password)

    def _configure(self, port: int, beacon: int, gate: int) -> Loaded:
        config = self.folder / "kite.toml"
        config.write_text(_CONFIG.format(port=port, beacon=beacon, gate=gate, folder=self.folder))
        write_domain(self.folder)
        return load_configuration(config)

    async def _hand_in(self, port: int, clock: DayClock) -> None:
        """Every program submits its letters at their time, over a session of its own."""
        sessions: dict[str, RelaySession] = {}
        loop = asyncio.get_running_loop()
        for number, letter in enumerate(day_of_letters(), 1):
            await asyncio.sleep(clock.real_delay(clock.start + letter.at))
            session = sessions.get(letter.program)
            if session is None or not session.usable:
                plan = Plan(host="127.0.0.1", port=port, name=f"{letter.program}.ternferries.example", tls="off")
                session = sessions[letter.program] = await open_session(plan, Dialogue(loop.time()))
            await self._hand_in_one(session, letter, render(letter, number, clock.now()))
        for session in sessions.values():
            await session.close()

    async def _hand_in_one(self, session: RelaySession, letter: Letter, content: bytes) -> None:
        envelope = Envelope(letter.sender, letter.recipients, len(content), False, False)
        results = await session.relay(envelope, lambda: (content,))
        self._handed_in += 1
        bounds = id_range(results[0].reply.text.split()[-1])
        if letter.note and bounds is not None:
            self.stories[letter.note] = bounds[0]

    async def _watch(self, reader: Reader, clock: DayClock) -> None:
        """Tell how things stand, every so often and at the end."""
        at = clock.start
        while at < clock.end:
            at = min(at + EVERY, clock.end)
            await asyncio.sleep(clock.real_delay(at) + 0.01)
            self.tell(Moment(at, self._handed_in, reader.totals()))

    async def _settle(self, reader: Reader) -> None:
        """Let what was submitted last leave: to open a session takes no less time on a day that passes this fast."""
        quiet = 0
        for _ in range(SETTLE_LOOKS):
            quiet = 0 if reader.totals().get(State.QUEUED) else quiet + 1
            if quiet > 1:  # a notice may be written when what it tells of has ended
                break
            await asyncio.sleep(0.05)


def make_history(folder: Path, now: float) -> int:
    """Sixty days in the queue of a new folder, with the demo's configuration beside it; how many messages those are."""
    (folder / "kite.toml").write_text(_CONFIG.format(port=2525, beacon=2587, gate=2465, folder=folder))
    write_domain(folder)
    (folder / "credentials.toml").touch(mode=0o600)
    (folder / "credentials.toml").write_text(
        "".join(f'[{name}]\nlogin = "{LOGIN}"\npassword = "not set"\n' for name in CREDENTIALS.values())
    )
    for name in CREDENTIALS:  # trusted by the configuration, and never met
        make_authority(folder / name / "tls", [name])
    return write_history(folder / "queue", now)


_CONFIG = """\
# Tern Island Ferries: a day in the life of quay1. Both smart hosts are stand-ins on this machine.

[server]
name = "quay1.ternferries.example"
data = "queue"
dns = "zone:ferries.zone"           # so that it needs no network
addresses = ["192.0.2.25"]

[identity]
domain = "ternferries.example"
recipients = {{ root = "duty@crew.example" }}

[[listener]]
name = "programs"
bind = ["127.0.0.1:{port}", "unix:{folder}/submit.sock"]

[[connector]]
name = "beacon"                     # the general provider: out.beaconpost.example
recipients = ["*"]
hosts = ["localhost:{beacon}"]
tls = "starttls"
trust = "out.beaconpost.example/tls/ca.pem"
credential = "beacon"
spf = "include:spf.beaconpost.example"

[[connector]]
name = "harbour"                    # a partner with an authority of its own: gate.harbouroffice.example
recipients = ["harbouroffice.example"]
hosts = ["localhost:{gate}"]
tls = "implicit"
trust = "gate.harbouroffice.example/tls/ca.pem"
credential = "harbour"
spf = "ip4:198.51.100.25"

[[signing]]
domain = "ternferries.example"
selector = "r20260504"
key = "keys/r20260504.ternferries.example.pem"

[[signing]]
domain = "ternferries.example"
selector = "e20260504"
key = "keys/e20260504.ternferries.example.pem"

[log]
to = "file:kite.log"
level = "info"

[retry]
waits = ["1m", "5m", "15m", "30m", "1h"]
"""
