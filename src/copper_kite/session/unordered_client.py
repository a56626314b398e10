"""The client's session for testers: octets and commands go out whatever the order is, which delivery never does."""

from __future__ import annotations

from collections.abc import Iterable

from copper_kite.net import ClientSession, start_of
from copper_kite.smtp import Reply, stuff
from copper_kite.smtp import client as smtp

__all__ = ["UnorderedSession"]


class UnorderedSession(ClientSession):
    """A session whose bounds, dialogue, masks and causes are those of any other, and whose order is the tester's."""

    lenient = True

    async def say(self, command: smtp.Command, seconds: float) -> Reply:
        """Send what a tester typed, in any order, and read the reply. Raises SessionFailed."""
        self.dialogue.client_said(self._now(), command.shown)
        self._put(self._engine.say(command))
        return await self.read_reply(seconds)

    async def read_reply(self, seconds: float) -> Reply:
        """The next reply, whatever it answers. Raises SessionFailed."""
        return (await self._next_reply(seconds)).reply

    def say_all(self, commands: Iterable[smtp.Command]) -> None:
        """Send commands together (RFC 2920 3.1); `read_reply` gives their replies one by one."""
        wire = b""
        for command in commands:
            self.dialogue.client_said(self._now(), command.shown)
            wire += self._engine.say(command)
        self._put(wire)

    def send_octets(self, octets: bytes) -> None:
        """Send octets as they are; nothing says that a reply will come."""
        self.dialogue.client_said(self._now(), f"(octets) {start_of(octets)}")
        self._put(octets)

    async def say_content(self, content: bytes, seconds: float) -> Reply:
        """Send `content` after a 354, dots stuffed, with its end, and read the reply. Raises SessionFailed."""
        self._put(stuff(content, line_start=True) + self._engine.say(smtp.END_OF_CONTENT))
        self.dialogue.noted(self._now(), f"content sent, {len(content)} octets")
        return await self.read_reply(seconds)

    async def silent_for(self, seconds: float) -> bool:
        """Whether nothing more is heard for `seconds` (or until the next hop closes); what comes is kept."""
        if self._engine.begun:
            return False
        self._wire.set_deadline(seconds)
        data = await self._wire.read()
        self._engine.receive_data(data)
        return not data

    @property
    def closed(self) -> bool:
        """Whether the connection is gone."""
        return self._wire.lost is not None
