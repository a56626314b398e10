"""TLS between a connection's transport and its session, for the server's side and the client's.

The event loop's own drops a connection whose handshake fails without the alert that says why, so that the other side's
administrator reads only that it was closed; and it goes on with no earlier session of TLS. This one does both.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import ssl
from collections.abc import Callable
from functools import partial
from typing import Any

__all__ = ["TlsTransport", "descriptor_of", "secure_client", "send_now"]

CHUNK = 32 * 1024  # octets decrypted at a time, two records at most


def send_now(transport: asyncio.Transport, descriptor: int, data: bytes) -> None:
    """Send now: a transport holds what is written back until the loop's turn ends, and the peer waits for it.

    `descriptor` is the connection's, or negative where only the transport may send. Only onto a socket that is surely
    still this connection's, and where nothing written before is under way. To a connection that is closing, nothing
    goes: the loop's transport would raise an error, in whoever brings the answer.
    """
    if transport.is_closing():
        return
    if descriptor < 0 or transport.get_write_buffer_size():
        transport.write(data)
        return
    try:
        sent = os.write(descriptor, data)
    except OSError:  # it takes nothing now, or is gone: the transport knows what to do about either
        sent = 0
    if sent < len(data):
        transport.write(data[sent:])


def descriptor_of(transport: asyncio.BaseTransport) -> int:
    """The connection's file descriptor, which `send_now` may write to, or -1."""
    sock = transport.get_extra_info("socket")
    return sock.fileno() if sock is not None else -1


class TlsTransport(asyncio.Transport, asyncio.Protocol):
    """A transport for `session`, and the protocol of `inner`, whose octets are TLS from now on.

    `wrap` makes the TLS of two buffers. `ended` is called once: with None when the handshake has succeeded, before the
    first octets are handed to the session; with what was wrong when it fails, or takes over `seconds`. Then the
    connection is closed, and the session is told that it is lost, and by which error.
    """

    def __init__(
        self,
        inner: asyncio.Transport,
        session: asyncio.Protocol,
        wrap: Callable[[ssl.MemoryBIO, ssl.MemoryBIO], ssl.SSLObject],
        ended: Callable[[Exception | None], None],
        seconds: float,
    ) -> None:
        super().__init__()
        self._inner = inner
        self._descriptor = descriptor_of(inner)
        self._session = session
        self._ended: Callable[[Exception | None], None] | None = ended
        self._incoming, self._outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = wrap(self._incoming, self._outgoing)
        self._closing = False
        self._error: Exception | None = None
        self._timer = asyncio.get_running_loop().call_later(seconds, self._too_slow)
        self._lost = False
        inner.set_protocol(self)
        if inner.is_closing():  # then nobody may be told any more that it is lost
            asyncio.get_running_loop().call_soon(self.connection_lost, None)

    def begin(self) -> None:
        """Say the first word, as clients do."""
        self.data_received(b"")

    def _too_slow(self) -> None:
        self._error = ConnectionAbortedError("the handshake took too long")
        self._inner.abort()

    # --- what the inner transport calls -----------------------------------------------------------------------------

    def data_received(self, data: bytes) -> None:
        """Octets came in: of the handshake, or to be decrypted."""
        self._incoming.write(data)
        # An exception of the session leaves through here, as it would from a plain transport; only those of TLS itself
        # are handled. `SSLWantReadError` is the ordinary end of a portion that holds no whole record.
        try:
            if self._ended is not None:
                self._tls.do_handshake()
                self._timer.cancel()
                ended, self._ended = self._ended, None
                self._flush()
                ended(None)
            self._decrypt()
        except ssl.SSLWantReadError:
            self._flush()
        except ssl.SSLError as error:
            # RFC 8446 6.2: the alert goes before the connection is closed, and tells the other side what was wrong.
            self._error, self._closing = error, True
            self._flush()
            self._inner.close()
        else:
            self._flush()

    def _decrypt(self) -> None:
        # Octets are in two places: encrypted ones in `incoming`, and those of a record that was decrypted and not yet
        # read in the TLS object (`pending`). To read when both are empty raises each time, which is what costs most
        # here. The session may close this transport while it is given octets: hence `_closing` in each turn.
        tls, incoming = self._tls, self._incoming
        while not self._closing and (incoming.pending or tls.pending()):  # to ask for more ends in an error each time
            data = tls.read(CHUNK)
            if not data:  # the other side has said that it will send no more
                if not self._session.eof_received():
                    self.close()
                return
            self._session.data_received(data)

    def eof_received(self) -> bool | None:
        """The other side closed without saying so in TLS: what came may be cut short, so the session ends."""
        # RFC 8446 6.1: an end of the connection without close_notify may be an attacker's truncation. A half-closed
        # connection, on which replies could still go, exists only after a close_notify (see `_decrypt`).
        return False

    def connection_lost(self, error: Exception | None) -> None:
        """The connection is gone."""
        if self._lost:
            return
        self._lost = True
        self._timer.cancel()
        self._closing = True
        error = self._error or error
        if self._ended is not None:
            self._ended(error or ConnectionResetError("the peer closed the connection"))
        self._session.connection_lost(error)

    def pause_writing(self) -> None:
        """The other side does not take what is written."""
        self._session.pause_writing()

    def resume_writing(self) -> None:
        """The other side takes octets again."""
        self._session.resume_writing()

    # --- what the session calls -------------------------------------------------------------------------------------

    def write(self, data: bytes | bytearray | memoryview[Any]) -> None:
        """Encrypt and send."""
        if not self._closing:
            self._tls.write(data)  # into memory, so all of it at once
            self._flush()

    def _flush(self) -> None:
        data = self._outgoing.read()
        if data:
            send_now(self._inner, self._descriptor, data)

    def close(self) -> None:
        """Say that no more will come (RFC 8446 6.1), and close when all is sent."""
        if self._closing:
            return
        self._closing = True
        with contextlib.suppress(ssl.SSLError):  # the other side's own end is not waited for
            self._tls.unwrap()
        self._flush()
        self._inner.close()

    def abort(self) -> None:
        """Drop the connection."""
        self._closing = True
        self._inner.abort()

    def get_write_buffer_size(self) -> int:
        """Octets, encrypted, that the connection has not taken yet."""
        return self._inner.get_write_buffer_size()

    def is_closing(self) -> bool:
        """Whether nothing more can be sent."""
        return self._closing or self._inner.is_closing()

    def pause_reading(self) -> None:
        """Take no more octets in."""
        self._inner.pause_reading()

    def resume_reading(self) -> None:
        """Take octets in again."""
        self._inner.resume_reading()

    def get_extra_info(self, name: str, default: Any = None) -> Any:
        """`cipher` and `ssl_object` of this TLS; all else of the connection below."""
        if name == "cipher":
            return self._tls.cipher()
        if name == "ssl_object":
            return self._tls
        return self._inner.get_extra_info(name, default)


async def secure_client(
    transport: asyncio.Transport,
    session: asyncio.Protocol,
    context: ssl.SSLContext,
    host: str,
    seconds: float,
    earlier: ssl.SSLSession | None = None,
) -> TlsTransport:
    """TLS from the client's side, with the server `host`; going on with an `earlier` session if the server does.

    Raises ssl.SSLError for what is wrong with the handshake, ConnectionAbortedError when it takes over `seconds`,
    another OSError when the connection is lost.
    """
    ended = asyncio.get_running_loop().create_future()

    def note(error: Exception | None) -> None:
        if ended.done():  # the caller has given up
            return
        if error is None:
            ended.set_result(None)
        else:
            ended.set_exception(error)

    wrap = partial(context.wrap_bio, server_hostname=host, session=earlier)
    secured = TlsTransport(transport, session, wrap, note, seconds)
    secured.begin()
    await ended
    return secured
