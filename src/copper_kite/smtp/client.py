"""The client's half of SMTP as a state machine without I/O (RFC 5321 4.1, RFC 2920).

Two tables hold the protocol: `ORDER` says which command may be sent when, `EXPECTED` which replies may answer it.
Commands return octets and remember what they wait for; replies come back paired with their command, in order:

    transport.write(client.send(mail(...)))
    client.receive_data(octets)
    while (answered := client.next_reply()) is not None: ...

A reply that `EXPECTED` does not list, or that answers no command, means that the two sides no longer agree on which
reply belongs to which command. `OutOfStep` ends the session then: nothing said in it can be attributed any more.

One engine serves delivery and everything that tests a server.
"""

from __future__ import annotations

import base64
from collections import deque
from collections.abc import Sequence
from enum import StrEnum
from typing import NamedTuple

from copper_kite.errors import EngineMisuse, OutOfStep, ProtocolViolation
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.replies import Reply, ReplyReader

__all__ = [
    "END_OF_CONTENT",
    "EXPECTED",
    "GIVE_UP",
    "GREETING",
    "ORDER",
    "Answered",
    "Client",
    "Command",
    "Meaning",
    "Phase",
    "Verb",
    "answer",
    "auth",
    "data",
    "ehlo",
    "helo",
    "mail",
    "meaning_of",
    "quit_session",
    "rcpt",
    "reset",
    "starttls",
    "typed_command",
]

HIDDEN = "***"
MAX_LINE = 512  # octets of a command incl. CRLF, RFC 5321 4.5.3.1.4


class Verb(StrEnum):
    """The exchanges of a session: a command, or content, with its reply."""

    GREETING = "greeting"  # nothing sent; the first reply
    EHLO = "EHLO"
    HELO = "HELO"
    STARTTLS = "STARTTLS"
    AUTH = "AUTH"
    MAIL = "MAIL"
    RCPT = "RCPT"
    DATA = "DATA"
    END = "end of content"
    RSET = "RSET"
    QUIT = "QUIT"
    OTHER = "another command"
    ANSWER = "answer to a challenge"


_MAIL, _RCPT = Verb.MAIL, Verb.RCPT


class Phase(StrEnum):
    """The phases of a session; with pipelining, replies may still be on their way."""

    GREETED = "greeted"
    READY = "between messages"
    SENDER = "MAIL sent"
    RECIPIENTS = "RCPT sent"
    CONTENT = "DATA sent"
    SECURING = "STARTTLS sent"
    SPOILT = "of no further use"
    CLOSED = "over"


# An unlisted pair is a bug of ours: EngineMisuse.
ORDER: dict[Phase, dict[Verb, Phase]] = {
    Phase.GREETED: {Verb.EHLO: Phase.READY, Verb.HELO: Phase.READY, Verb.QUIT: Phase.CLOSED},
    Phase.READY: {
        Verb.EHLO: Phase.READY,
        Verb.HELO: Phase.READY,
        Verb.STARTTLS: Phase.SECURING,
        Verb.AUTH: Phase.READY,
        Verb.ANSWER: Phase.READY,
        Verb.MAIL: Phase.SENDER,
        Verb.RSET: Phase.READY,
        Verb.QUIT: Phase.CLOSED,
    },
    Phase.SENDER: {Verb.RCPT: Phase.RECIPIENTS, Verb.RSET: Phase.READY, Verb.QUIT: Phase.CLOSED},
    Phase.RECIPIENTS: {
        Verb.RCPT: Phase.RECIPIENTS,
        Verb.DATA: Phase.CONTENT,
        Verb.RSET: Phase.READY,
        Verb.QUIT: Phase.CLOSED,
    },
    Phase.CONTENT: {Verb.END: Phase.READY, Verb.RSET: Phase.READY, Verb.QUIT: Phase.CLOSED},
    Phase.SECURING: {Verb.QUIT: Phase.CLOSED},
    Phase.SPOILT: {Verb.QUIT: Phase.CLOSED},
    Phase.CLOSED: {},
}


class Meaning(StrEnum):
    """The meaning of a reply code for a client (RFC 5321 4.2.1; 354: 4.3.2; 334: RFC 4954 4)."""

    DONE = "2yz"
    ANSWER_CHALLENGE = "334"
    SEND_CONTENT = "354"
    OTHER_INTERMEDIATE = "another 3yz"
    TRY_LATER = "4yz"
    REFUSED = "5yz"


def meaning_of(code: int) -> Meaning:
    """The meaning of `code`, 200 to 599; an unknown code counts by its first digit, except 3yz (RFC 5321 4.3.2)."""
    if code // 100 == 3:
        return _INTERMEDIATE.get(code, Meaning.OTHER_INTERMEDIATE)
    return _BY_DIGIT[code // 100]


_INTERMEDIATE = {334: Meaning.ANSWER_CHALLENGE, 354: Meaning.SEND_CONTENT}
_BY_DIGIT = {2: Meaning.DONE, 4: Meaning.TRY_LATER, 5: Meaning.REFUSED}
_ENDS = frozenset({Meaning.DONE, Meaning.TRY_LATER, Meaning.REFUSED})
_LOGIN = _ENDS | {Meaning.ANSWER_CHALLENGE}

# The replies that may answer a command (RFC 5321 4.3.2). Any other one, 2yz to DATA for example, is out of step.
EXPECTED: dict[Verb, frozenset[Meaning]] = {
    Verb.GREETING: _ENDS,
    Verb.EHLO: _ENDS,
    Verb.HELO: _ENDS,
    Verb.STARTTLS: _ENDS,
    Verb.AUTH: _LOGIN,
    Verb.ANSWER: _LOGIN,
    Verb.MAIL: _ENDS,
    Verb.RCPT: _ENDS,
    Verb.DATA: frozenset({Meaning.SEND_CONTENT, Meaning.TRY_LATER, Meaning.REFUSED}),
    Verb.END: _ENDS,
    Verb.RSET: _ENDS,
    Verb.QUIT: _ENDS,
    Verb.OTHER: frozenset(Meaning),
}
_EXPECTED_CODES = {
    verb: frozenset(code for code in range(200, 600) if meaning_of(code) in meanings)
    for verb, meanings in EXPECTED.items()
}

# Nothing may follow these before their reply (RFC 2920 3.1); the end of content is not among them.
ENDS_GROUP = frozenset(
    {Verb.GREETING, Verb.EHLO, Verb.HELO, Verb.STARTTLS, Verb.AUTH, Verb.ANSWER, Verb.DATA, Verb.QUIT}
)

LEAVES = frozenset({Verb.QUIT})  # may go whatever is awaited, only not into content
# Their replies change what may follow.
TEACHES = frozenset({Verb.EHLO, Verb.HELO, Verb.STARTTLS, Verb.AUTH, Verb.ANSWER, Verb.DATA, Verb.RSET})


class Command(NamedTuple):
    """A command line as it goes out, and as it may be shown (`shown` never holds a secret)."""

    verb: Verb
    wire: bytes
    shown: str


class Answered(NamedTuple):
    """A reply with the command that it answers."""

    command: Command
    reply: Reply


def _plain_command(verb: Verb, text: str) -> Command:
    if not text.isprintable() and ("\r" in text or "\n" in text or "\0" in text):
        raise EngineMisuse("a command holds a line end")
    return Command(verb, text.encode("utf-8") + b"\r\n", text)


def typed_command(line: str, *, answer: bool = False) -> Command:
    """Send a line as it was typed; `answer` says that a challenge (334) asked for it. No secret shows (RFC 4954 4)."""
    if answer:
        return _plain_command(Verb.ANSWER, line)._replace(shown=line if line == "*" else HIDDEN)
    word, _, rest = line.partition(" ")
    verb = _TYPED.get(word.upper(), Verb.OTHER)
    command = _plain_command(verb, line)
    mechanism, _, initial = rest.strip().partition(" ")
    return command._replace(shown=f"{word} {mechanism} {HIDDEN}") if verb is Verb.AUTH and initial else command


_TYPED = {verb.value: verb for verb in Verb if verb.isupper()}
GREETING = Command(Verb.GREETING, b"", "")
END_OF_CONTENT = Command(Verb.END, b".\r\n", ".")
_STARTTLS = _plain_command(Verb.STARTTLS, "STARTTLS")
_DATA = _plain_command(Verb.DATA, "DATA")
_RSET = _plain_command(Verb.RSET, "RSET")
_QUIT = _plain_command(Verb.QUIT, "QUIT")


def ehlo(name: str) -> Command:
    """EHLO with our fully qualified name (RFC 5321 4.1.1.1)."""
    return _plain_command(Verb.EHLO, f"EHLO {name}")


def helo(name: str) -> Command:
    """HELO, for a server that does not know EHLO (RFC 5321 3.2)."""
    return _plain_command(Verb.HELO, f"HELO {name}")


def starttls() -> Command:
    """STARTTLS (RFC 3207)."""
    return _STARTTLS


def auth(mechanism: str, initial: bytes | None) -> tuple[Command, bool]:
    """AUTH, and whether the initial response goes with it: only where the whole line fits (RFC 4954 4)."""
    if initial is not None:
        line = f"AUTH {mechanism} {base64.b64encode(initial).decode() or '='}\r\n".encode()
        if len(line) <= MAX_LINE:
            return Command(Verb.AUTH, line, f"AUTH {mechanism} {HIDDEN}"), True
    return _plain_command(Verb.AUTH, f"AUTH {mechanism}"), False


def answer(message: bytes) -> Command:
    """The answer to a challenge (RFC 4954 4)."""
    return Command(Verb.ANSWER, base64.b64encode(message) + b"\r\n", HIDDEN)


GIVE_UP = Command(Verb.ANSWER, b"*\r\n", "*")


def mail(path: str, *parameters: str) -> Command:
    """MAIL with the reverse-path, empty for none, and parameters that the server offered."""
    suffix = " ".join(("", *parameters)) if parameters else ""
    return _plain_command(_MAIL, f"MAIL FROM:<{path}>{suffix}")


def rcpt(path: str, parameters: str = "") -> Command:
    """RCPT for one recipient, with its ESMTP parameters."""
    return _plain_command(_RCPT, f"RCPT TO:<{path}> {parameters}" if parameters else f"RCPT TO:<{path}>")


def data() -> Command:
    """DATA."""
    return _DATA


def reset() -> Command:
    """RSET."""
    return _RSET


def quit_session() -> Command:
    """QUIT."""
    return _QUIT


class Client:
    """The client's half of a session. `capabilities` is what the server offered in the EHLO now in force.

    With `lenient`, the caller judges the replies: none is out of step (session scripts, talk).
    """

    def __init__(self, *, lenient: bool = False) -> None:
        self.phase = Phase.GREETED
        self.capabilities = Capabilities()
        self.secure = False
        self.logged_in = False
        self._lenient = lenient
        self._replies = ReplyReader()
        self._waiting: deque[Command] = deque([GREETING])
        self._broken: ProtocolViolation | None = None

    @property
    def over(self) -> bool:
        """Whether nothing but QUIT, if that, may be sent any more."""
        return self.phase is Phase.CLOSED or self.phase is Phase.SPOILT

    @property
    def waiting(self) -> Command | None:
        """The command whose reply comes next."""
        return self._waiting[0] if self._waiting else None

    def may_send(self, verb: Verb) -> bool:
        """Whether `verb` may go out now: by `ORDER`, and by the rules of pipelining (RFC 2920 3.1)."""
        if verb not in ORDER[self.phase]:
            return False
        if not self._waiting:
            return True
        last = self._waiting[-1].verb
        if verb in LEAVES:
            return last is not Verb.DATA
        return last not in ENDS_GROUP and "PIPELINING" in self.capabilities

    def send(self, command: Command) -> bytes:
        """The octets of `command`; its reply is awaited from now on. Raises EngineMisuse when it may not go."""
        wire = self.offer(command)
        if not wire:
            raise EngineMisuse(f"{command.verb.value} {self.phase.value}")
        return wire

    def offer(self, command: Command) -> bytes:
        """As `send`, but sends nothing when the command is not allowed now."""
        if not self.may_send(command.verb):
            return b""
        self.phase = ORDER[self.phase][command.verb]
        self._waiting.append(command)
        return command.wire

    def offer_all(self, commands: Sequence[Command]) -> tuple[bytes, int]:
        """The octets of as many of `commands` as may go now, one after the other, and how many those are."""
        waiting, pipelining = self._waiting, "PIPELINING" in self.capabilities.keywords
        if waiting and (not pipelining or waiting[-1].verb in ENDS_GROUP):
            return b"", 0
        phase, wires = self.phase, []
        for command in commands:
            verb = command.verb
            following = ORDER[phase].get(verb)
            if following is None:
                break
            phase = following
            wires.append(command.wire)
            if not pipelining or verb in ENDS_GROUP:
                break
        self.phase, count = phase, len(wires)
        waiting.extend(commands[:count])
        return b"".join(wires), count

    def say(self, command: Command) -> bytes:
        """The octets of `command`, whatever the order is: what a tester may do, and delivery never does."""
        self.phase = ORDER[self.phase].get(command.verb, self.phase)
        self._waiting.append(command)
        return command.wire

    def receive_data(self, octets: bytes) -> None:
        """Take octets from the server."""
        self._replies.feed(octets)

    @property
    def begun(self) -> bytes:
        """The octets of an incomplete reply."""
        return self._replies.begun

    @property
    def unasked(self) -> bool:
        """Whether something came in that answers no command: the session may only be read on, to learn what."""
        return not self._waiting and self._replies.has_any

    def next_reply(self) -> Answered | None:
        """The next reply with its command, or None when octets are missing.

        A 421 that answers nothing is paired with the greeting, since a server may close at any time (RFC 5321 3.8).
        Raises ProtocolViolation for what is no reply, and OutOfStep for a reply that is not expected now or comes
        together with more replies than commands were sent (RFC 2920 3.1); from then on, always the same error.
        """
        if self._broken is not None:
            raise self._broken
        try:
            reply = self._replies.next()
            return None if reply is None else self._answered(reply)
        except ProtocolViolation as error:
            self._broken = error
            self.phase = Phase.SPOILT
            raise

    def _answered(self, reply: Reply) -> Answered:
        # Each reply is taken to answer the command that has waited longest. Where that cannot be, no later one can be
        # told to its command either (a 250 to RCPT would be read as one to the content): the session is over.
        if not self._waiting:
            if reply.code == 421:
                self.phase = Phase.CLOSED
            elif not self._lenient:
                raise OutOfStep("a reply to no command", reply.wire)
            return Answered(GREETING, reply)
        command = self._waiting.popleft()
        if not self._lenient:
            if reply.code not in _EXPECTED_CODES[command.verb]:
                raise OutOfStep(f"{reply.code} in reply to {command.verb}", reply.wire)
            if not self._waiting and self._replies.has_any and not self._replies.closes:
                raise OutOfStep(f"more than one reply to {command.verb}", self._replies.pending)
        if command.verb in TEACHES or reply.code == 421:
            self._learn(command, reply)
        return Answered(command, reply)

    def accepted_group(self) -> list[Reply]:
        """The replies to a whole group that ends with DATA, if all have come in and are positive, as they mostly are.

        They count as read then. Empty: only `next_reply` can tell.
        """
        # All that is out of the ordinary is left to `next_reply`; a test compares the two ways on the same octets.
        waiting, whole = self._waiting, self._replies.whole
        if not waiting or len(whole) != len(waiting) or waiting[-1].verb is not Verb.DATA or whole[-1].code != 354:
            return []
        if self._replies.has_rest:
            return []
        replies = list(whole)
        for reply in replies[:-1]:
            if reply.code >= 300:
                return []
        whole.clear()
        waiting.clear()
        return replies

    def _learn(self, command: Command, reply: Reply) -> None:
        if reply.code == 421:
            self.phase = Phase.CLOSED
        elif command.verb is Verb.EHLO:
            self.capabilities = Capabilities.parse(reply.lines[1:]) if reply.positive else Capabilities()
            if not reply.positive:
                self.phase = Phase.GREETED
        elif command.verb is Verb.HELO:
            self.capabilities = Capabilities()
            if not reply.positive:
                self.phase = Phase.GREETED
        elif command.verb is Verb.STARTTLS:
            if not reply.positive:
                self.phase = Phase.READY
            elif (
                self._replies.pending
            ):  # injected in clear, to be taken for what the server said under TLS (RFC 3207 6)
                raise ProtocolViolation("octets after the reply to STARTTLS", self._replies.pending)
        elif reply.positive:
            self.logged_in = self.logged_in or (command.verb in (Verb.AUTH, Verb.ANSWER) and reply.code < 300)
        elif command.verb is Verb.RSET:
            self.phase = Phase.SPOILT  # the transaction before may still be open there
        elif command.verb is Verb.DATA and self.phase is Phase.CONTENT:
            self.phase = Phase.RECIPIENTS  # RSET or QUIT comes next, never content

    def tls_established(self) -> None:
        """Forget all that the server said in clear (RFC 3207 4.2). Raises ProtocolViolation for octets left over."""
        if self._replies.pending:
            raise ProtocolViolation("octets in clear before the TLS handshake", self._replies.pending)
        self._replies.clear()
        self.capabilities = Capabilities()
        self.secure, self.logged_in = True, False
        self.phase = Phase.GREETED
