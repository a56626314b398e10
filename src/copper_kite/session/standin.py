"""A stand-in for a smart host: TLS, logins, and rules about what it answers, when. It keeps what it is sent."""

from __future__ import annotations

import asyncio
import itertools
import json
import os
import secrets
import ssl
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from copper_kite.clock import Clock, SystemClock
from copper_kite.errors import ListenFailed
from copper_kite.mail import scan_header
from copper_kite.net import LATER, Answer, Handler, ServerSession, SessionRegistry
from copper_kite.session.behaviour import Judge, Misbehaviour, Rule
from copper_kite.session.caught import Caught, number_text
from copper_kite.session.lenient_reader import LenientReader
from copper_kite.session.token_stand_in import TokenStandIn
from copper_kite.settings import Allowance
from copper_kite.smtp import (
    SCRAM_LEAST,
    Binding,
    Limits,
    NoDirectory,
    Offers,
    ProvenLogin,
    Reply,
    ScramKey,
    Secret,
    events,
    made_up_key,
)
from copper_kite.words import Stage

__all__ = ["PUT_OFF", "REFUSED", "Caught", "Rule", "StandIn", "StandInPlan"]

PUT_OFF = Reply(450, "4.2.1", "this mailbox takes nothing at the moment")
REFUSED = Reply(550, "5.1.1", "no such mailbox here")
USED_UP = Reply(452, "4.7.1", "no more today: the allowance is used up")
LOGIN_FIRST = Reply(530, "5.7.0", "log in first")
WRONG_LOGIN = Reply(535, "5.7.8", "login or password is wrong")

GARBAGE = b"\x16\x03\xff\x00 \x1b[31m neither a code nor a word \x07\r\n"
MECHANISMS = ("SCRAM-SHA-256", "PLAIN", "LOGIN")
DRIP_SECONDS = 1.0
ENDLESS_SECONDS = 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class StandInPlan:
    """The behaviour of a stand-in. `logins` maps login → password; with any, and `login_required`, mail needs a login.

    `offers`, when given, says all of what is offered; else it follows from `tls`, `logins` and `max_size`.
    """

    name: str
    folder: Path | None
    tls: str = "starttls"  # implicit, starttls or off
    context: ssl.SSLContext | None = None
    logins: dict[str, Secret] = field(default_factory=dict)
    login_required: bool = True
    rules: Sequence[Rule] = ()
    seed: int = 0
    allowance: Allowance | None = None
    max_size: int = 100 * 1024 * 1024
    limits: Limits = field(default_factory=Limits)
    loose_end: bool = False
    offers: Offers | None = None
    binding: Binding | None = None  # of its own certificate, for logins bound to the TLS
    tokens: TokenStandIn | None = None  # what gives the tokens that it takes
    authority: Path | None = None  # the file by which its certificate can be trusted, where one is

    def what_it_offers(self) -> Offers:
        """The extensions after EHLO."""
        offers = self.offers or Offers(
            max_size=self.max_size,
            starttls=self.tls == "starttls",
            logins=MECHANISMS if self.logins else (),
            clear_logins=self.tls == "off",
        )
        return offers if self.tokens is None else replace(offers, logins=TOKEN_MECHANISMS)


TOKEN_MECHANISMS = ("OAUTHBEARER", "XOAUTH2")


class StandIn:
    """A running stand-in. `caught` is called with each message."""

    def __init__(
        self,
        plan: StandInPlan,
        caught: Callable[[Caught], None] = lambda caught: None,
        clock: Clock | None = None,
    ) -> None:
        self.plan = plan
        self.judge = Judge(tuple(plan.rules), plan.seed)
        self.count = 0
        self._caught = caught
        self._clock = clock or SystemClock()
        self._registry = SessionRegistry()
        self._servers: list[asyncio.Server] = []
        self._used: tuple[float, int] = (0.0, 0)  # the end of the allowance's period, and how many went in it

    async def start(self, host: str, port: int) -> int:
        """Listen at one more address; returns the port (useful when `port` is 0). Raises ListenFailed."""
        plan = self.plan
        implicit = plan.tls == "implicit"
        offers = plan.what_it_offers()
        limits = replace(plan.limits, reader=LenientReader) if plan.loose_end else plan.limits

        def session() -> ServerSession:
            return ServerSession(
                plan.name,
                offers,
                _Taker(self),
                self._registry,
                limits=limits,
                directory=_Logins(plan),
                context=plan.context,
                secure=implicit,
            )

        try:
            if plan.folder is not None and not self._servers:
                plan.folder.mkdir(parents=True, exist_ok=True)
                self.count = max((int(f.stem) for f in plan.folder.glob("*.eml") if f.stem.isdigit()), default=0)
            loop = asyncio.get_running_loop()
            server = await loop.create_server(session, host, port)
        except OSError as error:
            raise ListenFailed("catch", f"{host}:{port}", (error.strerror or str(error)).lower()) from error
        self._servers.append(server)
        return int(server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """End all sessions."""
        for server in self._servers:
            server.close()
        await self._registry.stop(0.5)

    def now(self) -> float:
        """Seconds since 1970."""
        return self._clock.now()

    def has_allowance(self, recipients: int) -> bool:
        """Whether so many more recipients may be taken in this period; they count when they may."""
        if self.plan.allowance is None:
            return True
        end, used = self._used
        if self.now() >= end:
            end, used = self.plan.allowance.window(self.now())[1], 0
        if used + recipients > self.plan.allowance.count:
            return False
        self._used = end, used + recipients
        return True

    def take(self, draft: _Draft, taker: _Taker, session: ServerSession) -> None:
        """Keep a message that is whole. Raises OSError."""
        self.count, file = draft.keep(self.count + 1)
        caught = Caught(
            self.count,
            taker.sender,
            tuple(taker.recipients),
            draft.size,
            session.peer,
            session.secure,
            taker.login,
            file,
            self.now(),
            taker.hello_name,
            session.tls,
            taker.esmtp_parameters,
            tuple(taker.recipients.values()),
            draft.message_id,
        )
        if caught.file is not None:
            caught.file.with_suffix(".json").write_text(json.dumps(caught.export(), indent=2, ensure_ascii=False))
        self._caught(caught)


class _Logins(NoDirectory):
    """The logins that a stand-in knows, with their passwords. A login's password is also its token."""

    def __init__(self, plan: StandInPlan) -> None:
        self._plan = plan

    def nonce(self) -> str:
        return secrets.token_urlsafe(18)

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        password = self._plan.logins.get(login)
        if password is None:
            return made_up_key(login, self._plan.name.encode()), False
        return ScramKey.make(password, f"salt of {self._plan.name}".encode(), SCRAM_LEAST, digest), True

    def password(self, login: str) -> Secret | None:
        return self._plan.logins.get(login)

    def token_holds(self, login: str, token: Secret) -> bool:
        if self._plan.tokens is not None:
            return login in self._plan.logins and self._plan.tokens.holds(token.reveal())
        return self._plan.logins.get(login) == token

    def binding(self, kind: str) -> Binding | None:
        result = self._plan.binding
        return result if result is not None and kind in ("", result.kind) else None


MAX_HEAD = 64 * 1024  # octets of a message in which its header is looked for


class _Draft:
    """A message that is coming in: straight to a file, which becomes an .eml when it is whole."""

    def __init__(self, folder: Path | None) -> None:
        self._folder = folder
        self._path = folder / f".coming-{os.getpid()}-{id(self):x}" if folder is not None else None
        self._file = self._path.open("wb") if self._path is not None else None
        self.size = 0
        self._head = b""

    @property
    def message_id(self) -> str:
        """The Message-ID, if the header has one."""
        return scan_header(self._head).value(b"Message-ID")

    def add(self, portion: bytes) -> None:
        """The next portion. Raises OSError."""
        self.size += len(portion)
        if len(self._head) < MAX_HEAD:
            self._head += portion[: MAX_HEAD - len(self._head)]
        if self._file is not None:
            self._file.write(portion)

    def keep(self, number: int) -> tuple[int, Path | None]:
        """The message is whole: its file gets this number, or the next that is free. Raises OSError."""
        if self._file is None or self._path is None or self._folder is None:
            return number, None
        self._file.close()
        while True:
            target = self._folder / f"{number_text(number)}.eml"
            try:
                target.hardlink_to(self._path)  # never over another one: somebody else may keep messages here, too
            except FileExistsError:
                number += 1
                continue
            self._path.unlink()
            return number, target

    def drop(self) -> None:
        """Drop an incomplete message."""
        if self._file is not None and self._path is not None and not self._file.closed:
            self._file.close()
            self._path.unlink(missing_ok=True)


class _Taker(Handler):
    """A session with a stand-in."""

    def __init__(self, stand_in: StandIn) -> None:
        self._stand_in = stand_in
        self._session: ServerSession | None = None
        self._draft: _Draft | None = None
        self._timer: asyncio.TimerHandle | None = None
        self.hello_name = ""
        self.login = ""
        self.sender = ""
        self.esmtp_parameters = ""
        self.recipients: dict[str, str] = {}  # each with its ESMTP parameters

    # --- what is asked ----------------------------------------------------------------------------------------------

    def opened(self, session: ServerSession) -> Answer:
        self._session = session
        return self._obey(Stage.GREET, session.greet)

    def hello(self, event: events.Hello) -> Answer:
        self.hello_name = event.name
        return self._obey(Stage.HELLO)

    def secure_asked(self, event: events.SecureAsked) -> Answer:
        return self._obey(Stage.SECURE)

    def login_asked(self, event: events.LoginAsked) -> Answer:
        login = event.login
        if isinstance(login, ProvenLogin):
            fits = login.holds
        else:
            fits = self._stand_in.plan.logins.get(login.login) == login.password
        self.login = login.login
        answer = self._obey(Stage.LOGIN, otherwise=None if fits else WRONG_LOGIN)
        if not (answer.positive if isinstance(answer, Reply) else fits):
            self.login = ""
        return answer

    def mail_from(self, event: events.MailFrom) -> Answer:
        plan = self._stand_in.plan
        if plan.logins and plan.login_required and not self.login:
            return LOGIN_FIRST
        self.sender, self.esmtp_parameters, self.recipients = event.path, event.esmtp_parameters, {}
        return self._obey(Stage.SENDER)

    def recipient_to(self, event: events.RecipientTo) -> Answer:
        answer = self._obey(Stage.RECIPIENT, recipient=event.path)
        if answer is None and not self._stand_in.has_allowance(1):
            return USED_UP
        if not isinstance(answer, Reply) or answer.positive:
            self.recipients[event.path] = event.esmtp_parameters
        return answer

    def content_started(self, event: events.ContentStarted | events.ChunksStarted) -> Answer:
        answer = self._obey(Stage.CONTENT)
        try:
            self._draft = _Draft(self._stand_in.plan.folder)
        except OSError as error:
            return _unkept(error)
        return answer

    def content(self, event: events.Content) -> None:
        assert self._draft is not None
        try:
            self._draft.add(event.data)
        except OSError:
            self.reset(None)
            assert self._session is not None
            self._session.abort()

    def content_ended(self, event: events.ContentEnded) -> Answer:
        answer = self._obey(Stage.ACCEPT, self._accept_later)
        assert self._draft is not None
        try:
            self._draft.add(event.data)
        except OSError as error:
            return _unkept(error)
        return self._accept(answer) if answer is not LATER else LATER

    def content_refused(self, event: events.ContentRefused) -> None:
        self.reset(None)

    def reset(self, event: events.Reset | None) -> None:
        if self._draft is not None:
            self._draft.drop()
            self._draft = None

    def closed(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self.reset(None)

    def _accept(self, said: Answer = None) -> Reply:
        """Keep the message, unless what is `said` refuses it; the reply."""
        assert self._session is not None and self._draft is not None
        try:
            if isinstance(said, Reply) and not said.positive:
                return said
            self._stand_in.take(self._draft, self, self._session)
        except OSError as error:
            return _unkept(error)
        finally:
            self.reset(None)
        return said if isinstance(said, Reply) else Reply(250, "2.0.0", f"taken as {number_text(self._stand_in.count)}")

    def _accept_later(self, said: Reply | None) -> None:
        assert self._session is not None
        self._session.answer(self._accept(said))

    # --- what the rules say -----------------------------------------------------------------------------------------

    def _obey(
        self,
        stage: Stage,
        later: Callable[[Reply | None], None] | None = None,
        *,
        recipient: str = "",
        otherwise: Reply | None = None,
    ) -> Answer:
        """The reply by the rules; `otherwise` where none applies or one only waits. `later` sends the late ones."""
        assert self._session is not None
        client = self.hello_name or str(self._session.peer)
        facts = {"recipient": recipient, "sender": self.sender, "login": self.login, "client": client}
        recipients = tuple(self.recipients) if stage in (Stage.CONTENT, Stage.ACCEPT) else ()
        rule = self._stand_in.judge.decide(stage, facts, recipients)
        if rule is None:
            return otherwise
        if not rule.wait and rule.misbehaviour is Misbehaviour.ANSWER:
            return rule.reply or otherwise
        give = later or self._session.answer
        loop = asyncio.get_running_loop()
        self._timer = loop.call_later(rule.wait, self._do, rule, give, rule.reply or otherwise)
        return LATER

    def _do(self, rule: Rule, give: Callable[[Reply | None], None], reply: Reply | None) -> None:
        assert self._session is not None
        if rule.misbehaviour is Misbehaviour.ANSWER:
            give(reply)
        elif rule.misbehaviour is Misbehaviour.CUT:
            self._session.abort()
        elif rule.misbehaviour is Misbehaviour.GARBLE:
            self._session.say(GARBAGE)
        elif rule.misbehaviour is Misbehaviour.DRIP:
            self._go_on(DRIP_SECONDS, itertools.chain((b"2", b"5", b"0", b"-"), itertools.repeat(b"x")))
        elif rule.misbehaviour is Misbehaviour.ENDLESS:
            self._go_on(ENDLESS_SECONDS, itertools.repeat(b"250-and so on\r\n"))

    def _go_on(self, seconds: float, sayings: Iterator[bytes]) -> None:
        """Say one thing after the other, `seconds` apart."""
        assert self._session is not None
        self._session.say(next(sayings))
        self._timer = asyncio.get_running_loop().call_later(seconds, self._go_on, seconds, sayings)


def _unkept(error: OSError) -> Reply:
    return Reply(452, "4.3.1", f"could not be kept: {error.strerror}")
