"""Handing one message to the running server over its Unix socket, as a script does: plain, blocking, quick to start."""

from __future__ import annotations

import socket

from copper_kite.errors import HandOverFailed, InputError, LocalProtocolError, RemoteProtocolError
from copper_kite.smtp import client as smtp
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.transaction import Envelope, Transaction

__all__ = ["hand_over"]

SECONDS = 60.0  # for each answer; the server is on this machine


def hand_over(path: str, name: str, envelope: Envelope, content: bytes) -> Reply:
    """Hand `content` over the socket at `path`; on return the message is durable, for all its recipients.

    Raises HandOverFailed when the server is not there or will not have it (temporary or not), InputError when it
    finds a recipient or the content unusable. Then nothing was kept: a message goes to all its recipients or to none.
    """
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
            sock.settimeout(SECONDS)
            sock.connect(path)
            return _converse(_Line(sock), name, envelope, content)
    except (FileNotFoundError, ConnectionRefusedError) as error:
        raise HandOverFailed(f"no server listens at {path}; is `kite serve` running?", temporary=True) from error
    except TimeoutError as error:
        raise HandOverFailed(f"the server at {path} said nothing for {SECONDS:g} s", temporary=True) from error
    except (OSError, RemoteProtocolError) as error:
        raise HandOverFailed(f"the session with {path} broke: {error}", temporary=True) from error
    except LocalProtocolError as error:
        raise InputError(f"an address cannot be sent: {error}") from error


class _Line:
    """A blocking socket with the client engine on it."""

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock
        self.engine = smtp.Client()

    def send(self, octets: bytes) -> None:
        self._sock.sendall(octets)

    def reply(self) -> smtp.Answered:
        while (answered := self.engine.next_reply()) is None:
            octets = self._sock.recv(65536)
            if not octets:
                raise ConnectionResetError("the server closed the connection")
            self.engine.receive_data(octets)
        return answered


def _converse(line: _Line, name: str, envelope: Envelope, content: bytes) -> Reply:
    _demand(line.reply().reply)
    line.send(line.engine.send(smtp.ehlo(name)))
    _demand(line.reply().reply)
    transaction = Transaction(line.engine, envelope)
    line.send(transaction.start())
    while not transaction.finished:
        if transaction.wants_content:
            transaction.wants_content = False
            if transaction.results:  # some recipient was refused: then nobody gets it, and the script is told
                break
            line.send(transaction.whole(content))
        line.send(transaction.take(line.reply()))
    refused = next((result for result in transaction.results if not result.reply.positive), None)
    if refused is None:
        return transaction.results[0].reply
    reply = refused.reply
    text = f"{refused.recipient}: {reply}" if len(envelope.recipients) > 1 else str(reply)
    if not reply.permanent:
        raise HandOverFailed(text, temporary=True)
    raise InputError(text)


def _demand(reply: Reply) -> None:
    if not reply.positive:
        raise HandOverFailed(str(reply), temporary=not reply.permanent)
