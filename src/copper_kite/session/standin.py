"""A stand-in for a smart host: TLS, a login, and rules about whom it puts off or refuses. It keeps what it is sent."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from pathlib import Path

from copper_kite.errors import ListenFailed
from copper_kite.net.server import Answer, Handler, Peer, ServerSession, SessionRegistry
from copper_kite.smtp import events
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret

__all__ = ["Caught", "Rule", "StandIn", "StandInPlan"]

PUT_OFF = Reply(450, "4.2.1", "this mailbox takes nothing at the moment")
REFUSED = Reply(550, "5.1.1", "no such mailbox here")


@dataclass(frozen=True, slots=True)
class Rule:
    """What to answer at RCPT for recipients that `pattern` (with `*` and `?`) fits; `times` each, None for always."""

    pattern: str
    reply: Reply
    times: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class StandInPlan:
    """How a stand-in behaves. `logins` maps login → password; with any, mail needs a login first."""

    name: str
    folder: Path | None
    tls: str = "starttls"  # implicit, starttls or off
    context: ssl.SSLContext | None = None
    logins: dict[str, Secret] = field(default_factory=dict)
    rules: Sequence[Rule] = ()
    max_size: int = 100 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Caught:
    """One message taken. `file` is where it was written, None when nothing is kept."""

    number: int
    reverse_path: str
    recipients: tuple[str, ...]
    size: int
    peer: Peer
    secure: bool
    login: str
    file: Path | None


class StandIn:
    """A running stand-in. `caught` is called with each message; `now` gives seconds since 1970."""

    def __init__(self, plan: StandInPlan, caught: Callable[[Caught], None] = lambda caught: None) -> None:
        self.plan = plan
        self._caught = caught
        self._registry = SessionRegistry()
        self._server: asyncio.Server | None = None
        self._turns: dict[tuple[int, str], int] = {}
        self.count = 0

    async def start(self, host: str, port: int) -> int:
        """Listen; returns the port (useful when `port` is 0). Raises ListenFailed."""
        plan = self.plan
        implicit = plan.tls == "implicit"
        offers = Offers(
            max_size=plan.max_size,
            starttls=plan.tls == "starttls",
            logins=("PLAIN",) if plan.logins else (),
            clear_logins=plan.tls == "off",
        )

        def session() -> ServerSession:
            return ServerSession(plan.name, offers, _Taker(self), self._registry, context=plan.context, secure=implicit)

        try:
            if plan.folder is not None:
                plan.folder.mkdir(parents=True, exist_ok=True)
                self.count = max((int(f.stem) for f in plan.folder.glob("*.eml") if f.stem.isdigit()), default=0)
            loop = asyncio.get_running_loop()
            self._server = await loop.create_server(session, host, port, ssl=plan.context if implicit else None)
        except OSError as error:
            raise ListenFailed("catch", f"{host}:{port}", (error.strerror or str(error)).lower()) from error
        return int(self._server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """End all sessions."""
        if self._server is not None:
            self._server.close()
        await self._registry.stop(0.5)

    def judge(self, recipient: str) -> Reply | None:
        """What the rules say to a recipient; the first that fits counts."""
        for place, rule in enumerate(self.plan.rules):
            if fnmatchcase(recipient.lower(), rule.pattern.lower()):
                turn = self._turns.get((place, recipient), 0)
                self._turns[place, recipient] = turn + 1
                if rule.times is None or turn < rule.times:
                    return rule.reply
        return None

    def take(self, sender: str, recipients: Sequence[str], content: bytes, session: ServerSession, login: str) -> None:
        """Keep a message that is whole."""
        self.count += 1
        file = None
        if self.plan.folder is not None:
            file = self.plan.folder / f"{self.count:06}.eml"
            file.write_bytes(content)
        self._caught(
            Caught(self.count, sender, tuple(recipients), len(content), session.peer, session.secure, login, file)
        )


class _Taker(Handler):
    """One session with a stand-in."""

    def __init__(self, stand_in: StandIn) -> None:
        self._stand_in = stand_in
        self._session: ServerSession | None = None
        self._login = ""
        self._sender = ""
        self._recipients: list[str] = []
        self._content: list[bytes] = []

    def opened(self, session: ServerSession) -> Reply | None:
        self._session = session
        return None

    def login_asked(self, event: events.LoginAsked) -> Answer:
        login = event.login
        if self._stand_in.plan.logins.get(login.login) != login.password:
            return Reply(535, "5.7.8", "login or password is wrong")
        self._login = login.login
        return None

    def mail_from(self, event: events.MailFrom) -> Answer:
        if self._stand_in.plan.logins and not self._login:
            return Reply(530, "5.7.0", "log in first")
        self._sender, self._recipients, self._content = event.path, [], []
        return None

    def recipient_to(self, event: events.RecipientTo) -> Answer:
        reply = self._stand_in.judge(event.path)
        if reply is None:
            self._recipients.append(event.path)
        return reply

    def content(self, event: events.Content) -> None:
        self._content.append(event.data)

    def content_ended(self, event: events.ContentEnded) -> Answer:
        assert self._session is not None
        content, self._content = b"".join((*self._content, event.data)), []
        try:
            self._stand_in.take(self._sender, self._recipients, content, self._session, self._login)
        except OSError as error:
            return Reply(452, "4.3.1", f"could not be kept: {error.strerror}")
        return Reply(250, "2.0.0", f"taken as {self._stand_in.count:06}")
