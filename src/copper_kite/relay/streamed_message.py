"""A message that is too large to be collected in memory: it goes to the store in portions, as it comes."""

from __future__ import annotations

import asyncio
from functools import partial
from typing import Protocol

from copper_kite.errors import KiteError
from copper_kite.mail import Submitted
from copper_kite.net import ServerSession
from copper_kite.relay.admission import DISK_FULL, Reservation
from copper_kite.relay.recorded import remark
from copper_kite.smtp import Reply, events
from copper_kite.store import AddContent, AddMessage, DropContent, Submit, id_text

__all__ = ["PORTION", "StreamedMessage"]

PORTION = 256 * 1024  # octets of content collected before they go to the store
MAX_WAITING = 4  # portions on their way to the store before the client has to wait


class _Owner(Protocol):
    """The owner, which knows the envelope and replies."""

    def make_message(
        self, id: int, at: float, taken: Submitted, size: int, content: bytes | None, event: events.ContentEnded
    ) -> AddMessage:
        """The message as it is known when it is whole."""

    def written(self, shown: str, addition: AddMessage | None, error: KiteError | None) -> None:
        """The message is on stable storage, or could not be kept."""

    def refuse_large(self, reply: Reply) -> None:
        """The message was refused for what it is."""


class StreamedMessage:
    """One such message. `taken` is what its first portion came to, `reservation` the room that is set aside for it."""

    def __init__(
        self,
        owner: _Owner,
        session: ServerSession,
        submit: Submit,
        id: int,
        at: float,
        taken: Submitted,
        reservation: Reservation,
    ) -> None:
        self._owner = owner
        self._session = session
        self._submit = submit
        self._id = id
        self._at = at
        self._taken = taken._replace(content=b"")
        self._reservation = reservation
        self._refusal: Reply | None = None  # why it is not taken when it is whole
        self._parts: list[bytes] = []
        self._collected = 0
        self._size = 0
        self._portion = 0
        self._waiting = 0
        self._in_flight = 0  # octets on their way to the store
        self._error: KiteError | None = None
        self._ended: events.ContentEnded | None = None
        self._send(taken.content)

    def refuse(self, refusal: Reply | None) -> None:
        """Where there is a reason, the message is not taken: what still comes is thrown away."""
        if refusal is not None and self._refusal is None:
            self._refusal = refusal
            self._parts, self._collected = [], 0
            self.drop()

    def add(self, data: bytes) -> None:
        """Accept octets; the client waits while the store catches up."""
        if self._refusal is not None:
            return
        self._parts.append(data)
        self._collected += len(data)
        if self._collected >= PORTION:
            self._send(self._take())

    def _take(self) -> bytes:
        octets = b"".join(self._parts)
        self._parts, self._collected = [], 0
        return octets

    def _send(self, octets: bytes) -> None:
        self.refuse(self._no_room(len(octets)))
        if self._refusal is not None:
            return
        self._waiting += 1
        if self._waiting >= MAX_WAITING:
            self._session.pause("store")
        self._in_flight += len(octets)
        self._submit([self._numbered(octets)], partial(self._portion_written, len(octets)))

    def _no_room(self, octets: int) -> Reply | None:
        refusal = self._reservation.need(self._in_flight + octets)
        return refusal if refusal is DISK_FULL else None  # where only too much is to be written, the client waits

    def _numbered(self, octets: bytes) -> AddContent:
        self._size += len(octets)
        self._portion += 1
        return AddContent(self._id, self._portion - 1, octets)

    def _portion_written(self, octets: int, error: KiteError | None) -> None:
        self._waiting -= 1
        self._in_flight -= octets
        self._error = self._error or error
        try:
            self._reservation.spent(octets)
            self._session.resume("store")
        except Exception as error_of_ours:
            self._session.fail(error_of_ours)
        if self._ended is not None and not self._waiting:
            self._write_rest(self._ended)

    def drop(self) -> None:
        """Remove the portions that are already in the store."""
        self._submit([DropContent(self._id)], lambda error: None)

    def finish(self, event: events.ContentEnded) -> None:
        """These are the last octets: once every portion before is on stable storage, make the message exist.

        The answer never comes within this call: who waits for one that comes later would wait for ever.
        """
        if self._refusal is None:
            self._parts.append(event.data)
        self._ended = event
        if not self._waiting:
            asyncio.get_running_loop().call_soon(self._write_rest, event)

    def _write_rest(self, event: events.ContentEnded) -> None:
        try:
            self._write(event)
        except Exception as error:
            self._session.fail(error)

    def _write(self, event: events.ContentEnded) -> None:
        """Write the rest with the message and its recipients, or nothing when a portion could not be written."""
        if self._refusal is not None and self._error is None:
            self._owner.refuse_large(self._refusal)
            return
        if self._error is not None:
            self._written(None, self._error)
            return
        rest = self._numbered(self._take())
        addition = self._owner.make_message(self._id, self._at, self._taken, self._size, None, event)
        self._submit([*remark(addition, self._taken.remarks), rest], partial(self._written, addition))

    def _written(self, addition: AddMessage | None, error: KiteError | None) -> None:
        if error is not None:
            self.drop()
        self._owner.written(id_text(self._id), addition, error)
