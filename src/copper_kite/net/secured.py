"""TLS for the server's side of a connection, between its transport and its session.

The event loop's own drops a connection whose handshake fails without the alert that says why, and the client's
administrator reads only that it was closed. This one says it.
"""

from __future__ import annotations

import asyncio
import contextlib
import ssl
from collections.abc import Callable
from typing import Any

__all__ = ["Secured"]

CHUNK = 256 * 1024  # octets decrypted at a time


class Secured(asyncio.Transport, asyncio.Protocol):
    """A transport for `session`, and the protocol of `inner`, whose octets are TLS from now on.

    `done` is called when the handshake has succeeded, before the first octets are handed to the session; when it fails
    or takes over `seconds`, the session hears that the connection is lost.
    """

    def __init__(
        self,
        inner: asyncio.Transport,
        session: asyncio.Protocol,
        context: ssl.SSLContext,
        done: Callable[[], None],
        seconds: float,
    ) -> None:
        super().__init__()
        self._inner = inner
        self._session = session
        self._done: Callable[[], None] | None = done
        self._incoming, self._outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = context.wrap_bio(self._incoming, self._outgoing, server_side=True)
        self._closing = False
        self._timer = asyncio.get_running_loop().call_later(seconds, inner.abort)
        inner.set_protocol(self)

    # --- what the inner transport calls -----------------------------------------------------------------------------

    def data_received(self, data: bytes) -> None:
        """Octets came in: of the handshake, or to be decrypted."""
        self._incoming.write(data)
        try:
            if self._done is not None:
                self._tls.do_handshake()
                self._timer.cancel()
                done, self._done = self._done, None
                self._flush()
                done()
            self._decrypt()
        except ssl.SSLWantReadError:
            self._flush()
        except ssl.SSLError:
            self._flush()  # the alert
            self._inner.close()
        else:
            self._flush()

    def _decrypt(self) -> None:
        while not self._closing:
            data = self._tls.read(CHUNK)
            if not data:  # the client has said that it will send no more
                if not self._session.eof_received():
                    self.close()
                return
            self._session.data_received(data)

    def eof_received(self) -> bool | None:
        """The client closed its side without saying so in TLS: what came may be cut short, so the session ends."""
        return False

    def connection_lost(self, error: Exception | None) -> None:
        """The connection is gone."""
        self._timer.cancel()
        self._closing = True
        self._session.connection_lost(error)

    def pause_writing(self) -> None:
        """The client does not take what is written."""
        self._session.pause_writing()

    def resume_writing(self) -> None:
        """The client takes octets again."""
        self._session.resume_writing()

    # --- what the session calls -------------------------------------------------------------------------------------

    def write(self, data: bytes | bytearray | memoryview[Any]) -> None:
        """Encrypt and send."""
        if not self._closing:
            self._tls.write(data)
            self._flush()

    def _flush(self) -> None:
        data = self._outgoing.read()
        if data:
            self._inner.write(data)

    def close(self) -> None:
        """Say that no more will come (RFC 8446 6.1), and close when all is sent."""
        if self._closing:
            return
        self._closing = True
        with contextlib.suppress(ssl.SSLError):  # the client's own end is not waited for
            self._tls.unwrap()
        self._flush()
        self._inner.close()

    def abort(self) -> None:
        """Drop the connection."""
        self._closing = True
        self._inner.abort()

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
