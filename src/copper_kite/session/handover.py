"""Handing one message to the running server over its Unix socket, as a script does: plain, blocking, quick to start."""

from __future__ import annotations

import os
import re
import select
import socket
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from copper_kite.errors import HandOverFailed, InputError

__all__ = ["Parcel", "envelope_groups", "hand_over", "pass_through"]

AT_A_TIME = 200  # commands in one group
_MOST = re.compile(r"RCPTMAX=([0-9]{1,9})")
TAKE_SECONDS = 10.0  # for each answer up to the content; the server is on this machine
SECONDS = 180.0  # for the last one: the message may be kept by then, so nothing else is tried too early


class Parcel(NamedTuple):
    """A message with its envelope; with the ESMTP parameters of MAIL, and those of each RCPT."""

    sender: str
    recipients: Sequence[str]
    content: bytes
    esmtp_parameters: str = ""
    rcpt_parameters: str = ""


def hand_over(path: str, name: str, parcel: Parcel) -> str:
    """Hand a message over the socket at `path`; on return it is durable, for all its recipients. The last reply.

    Raises HandOverFailed when the server is not there or will not have it (temporary or not), InputError when it
    finds a recipient or the content unusable. Then nothing was kept: a message goes to all its recipients or to none.
    """
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
            sock.settimeout(TAKE_SECONDS)
            sock.connect(path)
            return _converse(_Line(sock), name, parcel)
    except (FileNotFoundError, ConnectionRefusedError) as error:
        raise HandOverFailed(f"no server listens at {path}; is `kite serve` running?", temporary=True) from error
    except TimeoutError as error:
        raise HandOverFailed(f"the server at {path} said nothing for too long", temporary=True) from error
    except OSError as error:
        raise HandOverFailed(f"the session with {path} broke: {error}", temporary=True) from error


def pass_through(path: str, commands: int, replies: int) -> None:
    """A session with the server at `path`: commands come from one file descriptor, replies go to another.

    Lines may end with LF alone. Raises HandOverFailed when the server is not there.
    """
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
        try:
            sock.connect(path)
        except OSError as error:
            raise HandOverFailed(f"no server listens at {path}; is `kite serve` running?", temporary=True) from error
        ends, held = [sock.fileno(), commands], b""
        while True:
            ready = select.select(ends, [], [])[0]
            if commands in ready:
                octets = os.read(commands, 65536)
                if octets:
                    octets, held = _with_crlf(held + octets)
                    sock.sendall(octets)
                else:
                    sock.sendall(held)
                    sock.shutdown(socket.SHUT_WR)
                    ends.remove(commands)
            if sock.fileno() in ready:
                octets = sock.recv(65536)
                if not octets:
                    return
                os.write(replies, octets)


def _with_crlf(octets: bytes) -> tuple[bytes, bytes]:
    """Whole lines with CR LF, and what is held back: a CR whose LF may come yet."""
    held = b"\r" if octets.endswith(b"\r") else b""
    whole = octets[: len(octets) - len(held)]
    return whole.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n"), held


class _Line:
    """A blocking socket, and the replies that come over it."""

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock
        self._heard = b""

    def wait_longer(self) -> None:
        """For the answer that tells whether it was kept."""
        self._sock.settimeout(SECONDS)

    def ask(self, octets: bytes) -> tuple[int, str]:
        """Send, and read the next reply."""
        self._sock.sendall(octets)
        return self.read_reply()

    def read_reply(self) -> tuple[int, str]:
        """The next reply: its code, and all of its text. Raises ConnectionError."""
        said = []
        while True:
            line, end, rest = self._heard.partition(b"\r\n")
            if not end:
                octets = self._sock.recv(65536)
                if not octets:
                    raise ConnectionResetError("the server closed the connection")
                self._heard += octets
                continue
            self._heard = rest
            said.append(line.decode("utf-8", "replace"))
            if line[3:4] != b"-":
                code = said[-1][:3]
                return int(code) if code.isdigit() else 0, " ".join([code, *(text[4:] for text in said)]).strip()


def _converse(line: _Line, name: str, parcel: Parcel) -> str:
    """A message to a server of ours whose extensions are known: it takes commands in groups, and chunks."""
    _demand(*line.read_reply())
    offers = line.ask(f"EHLO {name}\r\n".encode())
    _demand(*offers)
    most = _MOST.search(offers[1])
    if most is not None and len(parcel.recipients) > int(most[1]):
        raise InputError(
            f"{len(parcel.recipients)} recipients, and the listener takes {most[1]} for one message:"
            " submit it several times, or raise max_recipients"
        )
    content = parcel.content
    answers = []
    for group, count in envelope_groups(parcel, len(content), eight_bit=not content.isascii()):
        answers.append(line.ask(group))
        answers += [line.read_reply() for _ in range(count - 1)]
    _demand(*answers[0])
    for recipient, (code, text) in zip(parcel.recipients, answers[1:], strict=True):
        if code >= 300:  # then nobody gets it, and the script is told
            _demand(code, f"{recipient}: {text}" if len(parcel.recipients) > 1 else text, data=True)
    line.wait_longer()
    code, text = line.ask(f"BDAT {len(content)} LAST\r\n".encode() + content)
    _demand(code, text, data=True)
    return text


def envelope_groups(parcel: Parcel, octets: int, *, eight_bit: bool) -> Iterator[tuple[bytes, int]]:
    """MAIL, for so many octets of content, and each RCPT, in groups, and how many commands each has.

    The replies to more at a time would fill a socket before they are read.
    """
    utf8 = not "".join((parcel.sender, *parcel.recipients)).isascii()
    words = (
        ["BODY=8BITMIME"] * eight_bit + ["SMTPUTF8"] * utf8 + [parcel.esmtp_parameters] * bool(parcel.esmtp_parameters)
    )
    commands = [f"MAIL FROM:<{parcel.sender}> SIZE={octets} {' '.join(words)}".rstrip()]
    commands += [f"RCPT TO:<{recipient}> {parcel.rcpt_parameters}".rstrip() for recipient in parcel.recipients]
    for start in range(0, len(commands), AT_A_TIME):
        some = commands[start : start + AT_A_TIME]
        yield "".join(f"{command}\r\n" for command in some).encode(), len(some)


def _demand(code: int, text: str, *, data: bool = False) -> None:
    """Go on only after 2yz; `data` says that a refusal speaks of the message."""
    if 200 <= code < 300:
        return
    if code >= 500 and data:
        raise InputError(text)
    raise HandOverFailed(text, temporary=code < 500)
