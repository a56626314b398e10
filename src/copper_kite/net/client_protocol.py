"""The client's end of a connection: octets in and out, one reader who waits, and one bound in time that moves."""

from __future__ import annotations

import asyncio

__all__ = ["ClientProtocol"]

MAX_UNREAD = 1024 * 1024  # octets that come in while nobody reads; no server says so much unasked


class ClientProtocol(asyncio.Protocol):
    """The callbacks of a transport and the waits of a session. `lost` and `timed_out` say why nothing more comes."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._heard: list[bytes] = []
        self._unread = 0
        self._waiter: asyncio.Future[None] | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._deadline = 0.0
        self._writable = asyncio.Event()
        self._writable.set()
        self.lost: Exception | None = None
        self.timed_out = False

    def data_received(self, data: bytes) -> None:
        """Octets came in; what comes after far too many of them is dropped."""
        self._unread += len(data)
        if self._unread > MAX_UNREAD:
            self.lost = self.lost or ConnectionResetError("the peer says far more than it was asked")
        else:
            self._heard.append(data)
        self._wake()

    def eof_received(self) -> bool:
        """The peer will say no more."""
        self.lost = self.lost or ConnectionResetError("the peer closed the connection")
        self._wake()
        return False

    def connection_lost(self, error: Exception | None) -> None:
        """The connection is gone."""
        self.lost = self.lost or error or ConnectionResetError("the peer closed the connection")
        if self._timer is not None:
            self._timer.cancel()
        self._writable.set()
        self._wake()

    def pause_writing(self) -> None:
        """The peer does not take what is written."""
        self._writable.clear()

    def resume_writing(self) -> None:
        """The peer takes octets again."""
        self._writable.set()

    def _wake(self) -> None:
        if self._waiter is not None and not self._waiter.done():
            self._waiter.set_result(None)

    def set_deadline(self, seconds: float) -> None:
        """Set the deadline for everything awaited from now on, in `seconds`. One timer serves the whole session."""
        self._deadline = self._loop.time() + seconds
        self.timed_out = False
        if self._timer is None or self._timer.when() > self._deadline:
            if self._timer is not None:
                self._timer.cancel()
            self._timer = self._loop.call_at(self._deadline, self._check)

    def _check(self) -> None:
        if self._loop.time() < self._deadline - 0.001:
            self._timer = self._loop.call_at(self._deadline, self._check)
            return
        self._timer = None
        self.timed_out = True
        self._writable.set()
        self._wake()

    @property
    def has_data(self) -> bool:
        """Whether there is unread input."""
        return bool(self._heard)

    async def read(self) -> bytes:
        """The octets received; empty when the connection is gone or the deadline has passed."""
        if not self._heard and self.lost is None and not self.timed_out:
            self._waiter = self._loop.create_future()
            try:
                await self._waiter
            finally:
                self._waiter = None
        return self.take()

    def take(self) -> bytes:
        """The octets received but not read."""
        heard, self._heard, self._unread = self._heard, [], 0
        return heard[0] if len(heard) == 1 else b"".join(heard)

    async def drain(self) -> None:
        """Wait until the transport takes more."""
        if not self._writable.is_set():
            await self._writable.wait()
