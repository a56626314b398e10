"""A session in which anything may be said, in any order: what talking by hand and session scripts have in common."""

from __future__ import annotations

import asyncio

from copper_kite.net import Dialogue, Plan, closing_on_failure, connect_as
from copper_kite.session.unordered_client import UnorderedSession
from copper_kite.smtp import Reply
from copper_kite.smtp import client as smtp
from copper_kite.words import Stage

__all__ = ["InteractiveSession"]

_STAGES = {
    smtp.Verb.EHLO: Stage.HELLO,
    smtp.Verb.HELO: Stage.HELLO,
    smtp.Verb.STARTTLS: Stage.SECURE,
    smtp.Verb.AUTH: Stage.LOGIN,
    smtp.Verb.ANSWER: Stage.LOGIN,
    smtp.Verb.MAIL: Stage.SENDER,
    smtp.Verb.RCPT: Stage.RECIPIENT,
    smtp.Verb.DATA: Stage.CONTENT,
    smtp.Verb.RSET: Stage.HELLO,
    smtp.Verb.QUIT: Stage.QUIT,
}


class InteractiveSession:
    """A session. `reply` is the last one, `seconds` its delay, `stage` the progress of the session, `asked` the stage
    of the last command (`content` where it belongs to none).

    Everything that waits is bounded by the plan's timeouts and raises SessionFailed.
    """

    def __init__(self, plan: Plan, session: UnorderedSession) -> None:
        self.plan = plan
        self.stage = self.asked = Stage.GREET
        self.reply: Reply | None = None
        self.seconds = 0.0
        self._session = session
        self._loop = asyncio.get_running_loop()

    @classmethod
    async def open(cls, plan: Plan, dialogue: Dialogue) -> InteractiveSession:
        """Connect, with TLS at once where the plan has it, and read the greeting."""
        session = await connect_as(UnorderedSession, plan, dialogue)
        async with closing_on_failure(session):
            if plan.tls == "implicit":
                await session.secure_at_once()
            opened = cls(plan, session)
            await opened.read_reply(plan.timeouts.greet)
        return opened

    # --- what is known ----------------------------------------------------------------------------------------------

    @property
    def offers(self) -> dict[str, tuple[str, ...]]:
        """The server's present offers, by keyword."""
        return dict(self._session.capabilities.keywords)

    @property
    def tls(self) -> str:
        """Version and cipher, empty without TLS."""
        return f"{self._session.tls_version} {self._session.cipher}" if self._session.tls_version else ""

    @property
    def closed(self) -> bool:
        """Whether the connection is gone."""
        return self._session.closed

    @property
    def wants_content(self) -> bool:
        """Whether content comes next."""
        return self.reply is not None and self.reply.code == 354

    @property
    def wants_answer(self) -> bool:
        """Whether a challenge waits for its answer: that is a secret."""
        return self.reply is not None and self.reply.code == 334

    # --- what is said -----------------------------------------------------------------------------------------------

    async def read_reply(self, seconds: float | None = None) -> Reply:
        """The next reply."""
        began = self._loop.time()
        self._session.stage = self.stage
        self.reply = await self._session.read_reply(self.plan.timeouts.command if seconds is None else seconds)
        self.seconds = self._loop.time() - began
        return self.reply

    async def say(self, line: str) -> Reply:
        """Send one line as it is and read its reply. After a positive reply to STARTTLS, TLS begins."""
        return await self._say(smtp.typed_command(line, answer=self.wants_answer))

    async def _say(self, command: smtp.Command) -> Reply:
        began, before = self._loop.time(), self.stage
        self.stage = self._session.stage = _STAGES.get(command.verb, self.stage)
        self.asked = _STAGES.get(command.verb, Stage.CONTENT)
        timeouts = self.plan.timeouts
        bound = timeouts.data if command.verb is smtp.Verb.DATA else timeouts.command
        self.reply = await self._session.say(command, bound)
        self.seconds = self._loop.time() - began
        if not self.reply.positive and command.verb is not smtp.Verb.QUIT:
            self.stage = before
        elif command.verb is smtp.Verb.STARTTLS:
            await self._session.secure_behind_command()
        return self.reply

    async def say_all(self, lines: list[str]) -> None:
        """Several lines in one go (RFC 2920 3.1); `read_reply` gives their replies."""
        commands = [smtp.typed_command(line) for line in lines]
        self._session.say_all(commands)
        self.stage = _STAGES.get(commands[-1].verb, self.stage) if commands else self.stage
        self.reply = None

    async def content(self, content: bytes) -> Reply:
        """Content after a 354, dots stuffed, with its end, and the reply."""
        began = self._loop.time()
        self.asked = self._session.stage = Stage.ACCEPT
        self.reply = await self._session.say_content(content, self.plan.timeouts.accept)
        self.seconds = self._loop.time() - began
        self.stage = Stage.HELLO
        return self.reply

    def octets(self, octets: bytes) -> None:
        """Octets as they are."""
        self._session.send_octets(octets)

    async def hello(self, name: str = "") -> Reply:
        """EHLO with our name."""
        return await self.say(f"EHLO {name or self.plan.name}")

    async def secure(self) -> None:
        """STARTTLS, the handshake, and EHLO again; fails where the server has no TLS."""
        began = self._loop.time()
        await self._session.secure()
        self.seconds = self._loop.time() - began
        self.stage, self.reply = Stage.SECURE, None

    async def login(self, plan: Plan) -> None:
        """Log in as `plan` says, under verified TLS alone; fails where that does not succeed."""
        began = self._loop.time()
        await self._session.login(plan)
        self.seconds = self._loop.time() - began
        self.stage, self.reply = Stage.LOGIN, None

    async def silent_for(self, seconds: float) -> bool:
        """Whether nothing more is heard for so long."""
        return await self._session.silent_for(seconds)

    async def close(self) -> None:
        """QUIT, and an end."""
        await self._session.close()

    def abort(self) -> None:
        """Drop the connection."""
        self._session.abort()
