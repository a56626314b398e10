"""A mail server that misbehaves by chance, and knows what it really took.

It takes a message when the first whole reply after the end of content is 2yz, for the recipients whose RCPT it answered
with 2yz first. What it says besides is the misbehaviour: every class of reply at each stage, replies too many or too
few, closed and reset connections, drips, garbage, endless lines.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

from tests.hostile.virtual import Choices, Link, VirtualLoop

__all__ = ["MISDEEDS", "Host", "Peer"]

GOOD = {
    "greet": b"220 hop.example",
    "EHLO": b"250 hop.example",
    "HELO": b"250 hop.example",
    "MAIL": b"250 2.1.0 sender",
    "RCPT": b"250 2.1.5 recipient",
    "DATA": b"354 go on",
    "end": b"250 2.0.0 taken",
    "RSET": b"250 2.0.0 reset",
    "QUIT": b"221 2.0.0 bye",
    "AUTH": b"235 2.7.0 in",
    "NOOP": b"250 2.0.0 yes",
}
REPLIES = (
    b"250 2.0.0 fine", b"299 odd", b"220 hello", b"354 go on", b"334 ", b"355 what", b"421 4.3.2 closing",
    b"450 4.2.1 later", b"451 4.7.1 not now", b"452 4.5.3 too many", b"500 what", b"503 5.5.1 order", b"550 5.1.1 no",
    b"552 5.3.4 large", b"554 5.7.1 never", b"530 5.7.0 log in", b"250-two\r\n250 lines", b"550-two\r\n550 lines",
)  # fmt: skip
# One reply too many: but a 354 for RCPT, or a 421, makes up for itself. (A 354 too many comes with "twice".)
EXTRAS = tuple(reply for reply in REPLIES if reply[:3] not in (b"354", b"421"))
GARBAGE = (
    b"\x16\x03\x01\x00", b"hello there", b"25 0 ok", b"999 no such class", b"150 neither this", b"600 nor that",
    b"250-one\r\n550 two", b"\xff\xfe\x00", b"", b"2", b"250\t ok", b" 250 ok", b"HTTP/1.1 400 Bad Request",
)  # fmt: skip

# What it may do at a stage, and how often among a hundred misdeeds.
MISDEEDS = (
    ("other", 22), ("twice", 10), ("extra", 12), ("silent", 6), ("cut", 8), ("reset", 6), ("cut after", 8),
    ("half", 5), ("garbage", 7), ("giant", 2), ("endless", 1), ("drip", 4), ("late", 4), ("close", 5),
)  # fmt: skip
# A reply too many and one too few make up for each other, and a session that is cut behind either looks like one whose
# last reply was meant so: nobody could tell. So a session has one of these kinds alone, beside other replies.
KINDS = (
    frozenset({"twice", "extra"}),
    frozenset({"silent", "half", "garbage"}),
    frozenset({"cut", "reset", "cut after", "close", "endless", "giant", "late", "drip"}),
)
_MISDEEDS = [name for name, share in MISDEEDS for _ in range(share)]
_CODE = re.compile(rb"([2-5])\d\d(?: |\r|$)")
_MESSAGE_ID = re.compile(rb"(?im)^message-id:\s*(<[^>\r\n]*>)")


@dataclass
class Host:
    """What all sessions of one server share. `badness` in a hundred is how often it misbehaves."""

    choices: Choices
    loop: VirtualLoop
    badness: int
    extensions: tuple[bytes, ...] = ()
    logins: bool = False
    most_sessions: int = 99
    most_messages: int = 99
    sessions: int = 0  # open now
    opened: int = 0
    taken: Counter[tuple[str, str]] = field(default_factory=Counter)  # by Message-ID and recipient
    refused: set[str] = field(default_factory=set)  # recipients and `<senders>` that were refused for good

    def answer(self, host: str, port: int) -> Peer:
        """One more session."""
        self.opened += 1
        return Peer(self)


class Peer:
    """One session."""

    def __init__(self, host: Host) -> None:
        self.link: Link
        self._host = host
        self._pick = host.choices.pick
        self._data = b""
        self._content = False
        self._named: list[str] = []  # recipients of the transaction
        self._from = ""
        self._silent = False  # whether an earlier command of the transaction got no reply
        self._accepted: list[str] = []
        self._sender = b""  # what was said to MAIL
        self._prompts = 0
        self._messages = 0
        self._ended: tuple[str, list[str]] | None = None  # content that came whole and was not answered yet
        self._out: list[tuple[float, Callable[[], None]]] = []
        self._busy = False
        self._over = False
        self._half = b""  # of a line that is not sent whole
        self._excluded: frozenset[str] = frozenset()
        self._mute = False

    # --- what comes in ----------------------------------------------------------------------------------------------

    def connected(self) -> None:
        host = self._host
        host.sessions += 1
        if host.sessions > host.most_sessions:
            self._reply(b"421 4.7.0 too many sessions")
            self._close()
        else:
            self._answer("greet")

    def gone(self) -> None:
        if not self._over:
            self._over = True
            self._host.sessions -= 1

    def heard(self, data: bytes) -> None:
        if self._over:
            return
        self._data += data
        while self._data and not self._over:
            if self._content:
                end = self._data.find(b"\r\n.\r\n") if not self._data.startswith(b".\r\n") else -2
                if end == -1:
                    return
                content, self._data = self._data[: max(end, 0)], self._data[end + 5 :]
                self._content = False
                result = _MESSAGE_ID.search(content)
                self._ended = (result[1].decode() if result else ""), self._accepted
                self._refuse(self._answer("end"), self._accepted)
                self._reset()
            elif b"\r\n" in self._data:
                line, _, self._data = self._data.partition(b"\r\n")
                self._command(line)
            else:
                return

    def _command(self, line: bytes) -> None:
        verb = line[:4].upper().decode("latin-1")
        if self._prompts:
            self._prompts -= 1
            self._answer("AUTH", b"334 UGFzc3dvcmQ6" if self._prompts else b"235 2.7.0 in")
        elif verb == "EHLO":
            lines = [b"hop.example", *self._host.extensions, *([b"AUTH PLAIN LOGIN"] if self._host.logins else [])]
            self._answer(
                "EHLO",
                b"\r\n".join(b"250-" + item for item in lines[:-1]) + b"\r\n250 " + lines[-1] if lines[1:] else None,
            )
        elif verb == "AUTH" and line[5:].upper().startswith(b"LOGIN"):
            self._prompts = 2
            self._answer("AUTH", b"334 VXNlcm5hbWU6")
        elif verb == "MAIL":
            self._messages += 1
            if self._messages > self._host.most_messages and "close" not in self._excluded:
                self._reply(b"421 4.7.0 no more in this session")
                self._close()
                return
            self._sender = self._answer("MAIL", b"503 5.5.1 nested" if self._sender[:1] == b"2" else None)
            self._from = line[line.find(b"<") : line.find(b">") + 1].decode()
            self._refuse(self._sender, [self._from])
        elif verb == "RCPT":
            path = line[line.find(b"<") + 1 : line.find(b">")].decode()
            self._named.append(path)
            self._refuse(self._sender, [path])
            said = self._answer("RCPT", None if self._sender[:1] == b"2" else b"503 5.5.1 MAIL first")
            self._refuse(said, [path])
            if said[:1] == b"2":
                self._accepted.append(path)
        elif verb == "DATA":
            said = self._answer("DATA", None if self._accepted else b"554 5.5.1 no recipients")
            self._refuse(said, self._named)
            self._content = said[:3] == b"354"
        elif verb == "RSET":
            self._reset()
            self._answer("RSET")
        elif verb == "QUIT":
            self._answer("QUIT")
            self._close()
        else:
            self._answer(verb, GOOD.get(verb, b"500 5.5.1 what"))

    def _reset(self) -> None:
        self._sender, self._named, self._accepted, self._silent = b"", [], [], False

    def _refuse(self, said: bytes, recipients: list[str]) -> None:
        """For a client that heard no reply to an earlier command, and then loses the session, it may be that one's."""
        if said[:1] == b"5":
            self._host.refused.update(recipients, [self._from] if self._silent else [])

    # --- what goes out ----------------------------------------------------------------------------------------------

    def _answer(self, stage: str, usual: bytes | None = None) -> bytes:
        """Answer a command, rightly or not; the first reply, by which it goes itself, empty for none."""
        good = GOOD.get(stage, b"250 ok") if usual is None else usual
        misdeed = _MISDEEDS[self._pick(len(_MISDEEDS))] if self._pick(100) < self._host.badness else ""
        if not misdeed or misdeed in self._excluded:
            self._reply(good)
            return good
        if misdeed != "other":
            self._excluded = frozenset().union(*(kind for kind in KINDS if misdeed not in kind))
        said: bytes = getattr(self, "_do_" + misdeed.replace(" ", "_"))(good)
        return said

    def _do_other(self, good: bytes) -> bytes:
        reply = REPLIES[self._pick(len(REPLIES))]
        if reply.startswith(b"421") and "close" in self._excluded:
            reply = good
        self._reply(reply)
        if reply.startswith(b"421") and self._pick(2):
            self._close()
        return reply

    def _do_twice(self, good: bytes) -> bytes:
        if self._pick(2):
            self._reply(good + b"\r\n" + good)
        else:
            self._reply(good)
            self._reply(good)
        return good

    def _do_extra(self, good: bytes) -> bytes:
        first, second = (good, EXTRAS[self._pick(len(EXTRAS))])[:: 1 if self._pick(2) else -1]
        if self._pick(2):
            self._reply(first + b"\r\n" + second)
        else:
            self._reply(first)
            self._reply(second, (0.0, 0.5, 30.0)[self._pick(3)])
        return first

    def _do_silent(self, good: bytes) -> bytes:
        self._silent = True
        return good if self._pick(2) else b""

    def _do_cut(self, good: bytes) -> bytes:
        self._close()
        return b""

    def _do_reset(self, good: bytes) -> bytes:
        self._close(reset=True)
        return b""

    def _do_cut_after(self, good: bytes) -> bytes:
        self._reply(good)
        self._close(reset=not self._pick(3))
        return good

    def _do_half(self, good: bytes) -> bytes:
        self._put(good[: 1 + self._pick(len(good))])
        if self._pick(2):
            self._close()
        self._mute = True  # what it would say next would be the end of this one
        return b""

    def _do_garbage(self, good: bytes) -> bytes:
        self._reply(GARBAGE[self._pick(len(GARBAGE))])
        if not self._pick(2):
            return b""
        self._reply(good)
        return good

    def _do_giant(self, good: bytes) -> bytes:
        length = (600, 5000, 70_000)[self._pick(3)]
        self._reply(good[:4] + b"x" * length)
        return good

    def _do_endless(self, good: bytes) -> bytes:
        for _ in range(60):
            self._put((good[:3] + b"-and so on\r\n") * 5, 0.1)
        self._close()
        return b""

    def _do_drip(self, good: bytes) -> bytes:
        pause = (0.0, 0.1, 20.0)[self._pick(3)]
        for octet in good + b"\r\n":
            self._put(bytes((octet,)), pause)
        return good

    def _do_late(self, good: bytes) -> bytes:
        self._reply(good, (0.01, 100.0, 301.0, 700.0)[self._pick(4)])
        return good

    def _do_close(self, good: bytes) -> bytes:
        self._reply(b"421 4.3.2 closing")
        if self._pick(3):
            self._close()
        return b"421"

    def _reply(self, reply: bytes, pause: float = 0.0) -> None:
        end = b"\n" if reply and not self._pick(40) else b"\r\n"
        self._put(reply + end, pause)

    def _put(self, data: bytes, pause: float = 0.0) -> None:
        if not self._mute:
            self._queue(pause, lambda: self._send(data))

    def _close(self, *, reset: bool = False) -> None:
        self._queue(0.0, lambda: self._shut(reset))

    def _queue(self, pause: float, act: Callable[[], None]) -> None:
        """One thing after the other, whatever the pauses."""
        self._out.append((pause, act))
        if not self._busy:
            self._next()

    def _next(self) -> None:
        while self._out and not self._over:
            pause, act = self._out[0]
            if pause:
                self._out[0] = 0.0, act
                self._busy = True
                self._host.loop.call_later(pause, self._go_on)
                return
            del self._out[0]
            act()

    def _go_on(self) -> None:
        self._busy = False
        self._next()

    def _send(self, data: bytes) -> None:
        self.link.say(data)
        *lines, self._half = (self._half + data).split(b"\n")
        for line in lines:
            if self._ended is not None and (code := _CODE.match(line)):
                (message, recipients), self._ended = self._ended, None
                if code[1] == b"2":
                    self._host.taken.update((message, recipient) for recipient in recipients)
                self._refuse(line, recipients)

    def _shut(self, reset: bool) -> None:
        self.gone()
        self.link.shut(reset=reset)
