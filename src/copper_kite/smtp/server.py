"""The server's half of SMTP as a state machine without I/O (RFC 5321 4.1.4, 4.3).

The order of commands is one table, `order.ORDER`. The engine answers by itself what needs no judgement (NOOP, RSET,
syntax, order, content faults) and reports the rest as events. An event with `asks` holds the
session until `answer` is called:

    event = engine.receive_data(octets)
    while event is not None:
        event = engine.answer(decision) if event.asks else engine.next_event()
    transport.write(engine.data_to_send())

The decision may come later; until then next_event returns None.

One engine serves the listeners, the stand-ins and the capture.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from copper_kite.errors import EngineMisuse
from copper_kite.smtp import events
from copper_kite.smtp.answers import (
    ANSWER_TOO_LONG,
    BAD_ORDER,
    BAD_PARAMETER,
    BAD_SYNTAX,
    CHUNK_TAKEN,
    DEFAULT_ANSWERS,
    FAULT_REPLIES,
    HELP,
    LINE_TOO_LONG,
    NO_ARGUMENT,
    NOT_VERIFIED,
    OK,
    TLS_FIRST,
    TOO_MANY_MESSAGES,
    TOO_MANY_RECIPIENTS,
    UNAVAILABLE,
    UNKNOWN,
)
from copper_kite.smtp.commands import plain_mail, read_chunk, read_mail, read_rcpt
from copper_kite.smtp.content import BadContent, ChunkReader
from copper_kite.smtp.extensions import Offers
from copper_kite.smtp.grammar import MAX_PATH, PLAIN_RCPT, Syntax, parse_hello_name, unambiguous
from copper_kite.smtp.incoming import AfterData, Chunk, Found, Unwanted
from copper_kite.smtp.limits import Limits
from copper_kite.smtp.lines import MAX_COMMAND_LINE, MAX_LOGIN_LINE, LineTooLong
from copper_kite.smtp.order import AFTER, ORDER, Phase, Step
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Directory, NoDirectory
from copper_kite.smtp.server_login import LoginServer

__all__ = ["COMMANDS", "ORDER", "Phase", "Server", "Step"]


_BLANK = re.compile("[ \t]")

# Bound once: to look a member up on its class takes longer than all else that is done with it.
_FRESH, _READY, _SENDER, _RECIPIENTS, _CONTENT, _CHUNKS, _LOGIN, _SECURING, _CLOSED = Phase
_RCPT, _CHUNK, _END, _LOGIN_ENDED = Step.RCPT, Step.CHUNK, Step.END, Step.LOGIN_ENDED
MAX_WITHOUT_QUESTION = 50  # commands that `next_event` answers at a time
_CONTENT_STARTED = events.ContentStarted()
_MAIL_STEPS = (Step.MAIL, Step.RCPT, Step.DATA)


class Server(LoginServer):
    """The server's half of a session. `name` is its own name; `directory` has the logins."""

    def __init__(
        self, name: str, offers: Offers, limits: Limits | None = None, directory: Directory | None = None
    ) -> None:
        super().__init__(name, offers, limits or Limits(), directory or NoDirectory())
        self._max_size = offers.max_size if offers.keeps_size else 0
        self._after_data = AfterData(self._limits.reader, self._max_size, self._limits.takes)
        self._messages = 0  # transactions begun

    # --- octets ---------------------------------------------------------------------------------------------------

    def receive_data(self, data: bytes) -> events.Event | None:
        """Take octets from the client; the first thing to know or to decide then, as `next_event` has it."""
        if self._asked is None and not self._lines.left and (event := self._whole(data)) is not None:
            self._asked = event
            return event
        if self.phase is not _CLOSED:
            self._lines.add(data)
        return self.next_event()

    def _whole(self, data: bytes) -> events.Event | None:
        """The event in `data` when that is one whole command or message, as nearly all are; it needs no buffer then."""
        if self._incoming is None:
            plain = _PLAIN.get(self.phase)
            return None if plain is None else plain(self, data)
        event = self._incoming.whole(data)
        if event is not None:
            self._incoming = None
        return event

    # --- events and decisions -------------------------------------------------------------------------------------

    def next_event(self) -> events.Event | None:
        """The next thing to know or to decide; None when octets, or the decision asked for, are awaited.

        Also None, with `more`, when many commands in a row were answered without a question: others have a turn then.
        """
        self.more = False
        for _ in range(MAX_WITHOUT_QUESTION):
            if self._told:
                return self._told.popleft()
            if self._asked is not None:
                return None
            if self._incoming is not None:
                if (result := self._incoming.read(self._lines)) is None:
                    return None
                if (event := self._came_in(result)) is not None:
                    return event
            elif self.phase is _SECURING or not self._take_line():
                return None
            elif self._asked is not None and not self._told:
                return self._asked
        self.more = True
        return None

    def _take_line(self) -> bool:
        """Take the next command, or answer to a challenge; False when there is no whole one."""
        login = self.phase is _LOGIN
        try:
            line = self._lines.next_line(MAX_LOGIN_LINE if login else MAX_COMMAND_LINE)
        except LineTooLong:
            if login:
                self.phase = AFTER[_LOGIN_ENDED]
            self._refuse(ANSWER_TOO_LONG if login else LINE_TOO_LONG)
            return True
        if line is None:
            return False
        if login:
            self._take_login_answer(line[:-2])
        elif (plain := _PLAIN.get(self.phase)) is None or (event := plain(self, line)) is None:
            self._take_command(line[:-2])
        else:
            self._asked = event
        return True

    def answer(self, reply: Reply | None = None) -> events.Event | None:
        """Decide the event asked for: with `reply`, or with its usual positive one.

        Returns what comes next, as `next_event`. Raises EngineMisuse when nothing was asked.
        """
        event = self._asked
        if event is None:
            if self.phase is _CLOSED:
                return None  # the session was ended while the decision was on its way
            raise EngineMisuse("answer without a question")
        self._asked = None
        step = event.step
        if step is _CHUNK:
            self._chunks_answered(event, reply)
            return self.next_event()
        if reply is None:
            reply = DEFAULT_ANSWERS.get(step) or self._hello_reply(event)
        self._say(reply)
        if reply.code < 400:
            self.phase = AFTER[step]
            _ACCEPTED[step](self, event)
        else:
            self._refused(reply, step)
        return self.next_event() if self._lines.left or self._told else None

    def _refused(self, reply: Reply, step: Step) -> None:
        self._follows = self._follows or step in (Step.MAIL, Step.RCPT, Step.DATA)
        if reply.code == 421:
            self._close()
        elif step is Step.MAIL:  # its recipients and DATA may be on their way (RFC 2920 3.1), and RSET after them
            self._excused = self._limits.recipients + 2
        elif step is _END or step is _LOGIN_ENDED:
            self.phase = AFTER[step]
            self._excused = 1 if reply.code < 500 else 0
            if step is _LOGIN_ENDED:
                self._login_refused()

    def _sender_accepted(self, event: events.MailFrom) -> None:
        self._recipients, self._utf8, self._excused, self._follows = 0, event.utf8, 0, False
        self._messages += 1

    def _recipient_accepted(self, event: events.Event) -> None:
        self._recipients += 1

    def _data_accepted(self, event: events.Event) -> None:
        self._incoming = self._after_data

    def _chunks_answered(self, event: events.Event, reply: Reply | None) -> None:
        """Act on the answer to BDAT; no reply is sent before the whole chunk is in."""
        assert isinstance(event, events.ChunksStarted)
        if reply is not None and not reply.positive:
            self._drop_transaction()
            self.phase = _READY
            self._incoming = Unwanted(event.octets, reply)
        else:
            self.phase = AFTER[event.step]
            self._chunks = ChunkReader(self._max_size, self._limits.takes)
            self._chunks.begin(event.octets, last=event.last)
            self._incoming = Chunk(self._chunks)

    def _message_accepted(self, event: events.Event) -> None:
        self._tries = self._idle_tries = 0

    def _secure_accepted(self, event: events.Event) -> None:
        self._lines.clear()  # what came in clear after STARTTLS counts for nothing (RFC 3207 4.2)

    def tls_established(self) -> None:
        """The handshake is done: the session is as if just greeted, nothing from before counts (RFC 3207 4.2)."""
        self._lines.clear()
        self._drop_transaction()
        self.secure = True
        self.logged_in = False
        self.phase = _FRESH

    # --- content --------------------------------------------------------------------------------------------------

    def _came_in(self, result: Found) -> events.Event | None:
        """Handle what the reader of content returns: content is an event, all else gets a reply."""
        if isinstance(result, events.Content):
            return result
        self._incoming = None
        if isinstance(result, events.ContentEnded):
            self._chunks, self._asked = None, result
            return result
        if result is CHUNK_TAKEN:
            self._say(CHUNK_TAKEN)
        elif isinstance(result, Reply):
            self._refuse(result)
        else:
            self._refuse_content(result)
        return None

    def _refuse_content(self, bad: BadContent) -> None:
        self.phase = AFTER[_END]
        self._chunks = None
        reply = FAULT_REPLIES[bad.fault]
        if bad.line:
            reply = Reply(reply.code, reply.enhanced, f"line {bad.line}: {reply.text}")
        self._told.append(events.ContentRefused(bad.fault, reply))
        self._say(reply)
        self._waste()

    # --- commands -------------------------------------------------------------------------------------------------

    def _plain_mail(self, line: bytes) -> events.Event | None:
        event = plain_mail(line) if len(line) < MAX_PATH else None  # what is remembered there stays small
        if event is None or self._messages == self._limits.messages > 0:
            return None
        if self._offers.demands_tls and not self.secure:
            return None
        return None if event.size is not None and event.size > self._max_size > 0 else event

    def _plain_rcpt(self, line: bytes) -> events.Event | None:
        if self._recipients >= self._limits.recipients or len(line) >= MAX_PATH:
            return None
        match = PLAIN_RCPT.fullmatch(line)
        return None if match is None else events.RecipientTo(match[1].decode())

    def _plain_data(self, line: bytes) -> events.Event | None:
        return _CONTENT_STARTED if line == b"DATA\r\n" else self._plain_rcpt(line)

    def _take_command(self, line: bytes) -> None:
        self._command = "", ""
        try:
            text = line.decode("utf-8")
        except UnicodeDecodeError:
            self._refuse(Reply(501, "5.5.2", "not UTF-8"))
            return
        verb, _, argument = _BLANK.sub(" ", text, count=1).partition(" ")
        self._command = verb.upper(), argument
        command = COMMANDS.get(verb)
        if command is None and verb.isascii():
            command = COMMANDS.get(verb.upper())
        if command is None:
            self._refuse(UNKNOWN if verb.isprintable() and verb.isascii() else BAD_SYNTAX)
        elif not (argument := argument.rstrip(" \t")).isprintable():
            self._refuse(BAD_SYNTAX)
        else:
            step, handle = command
            if step in _MAIL_STEPS and self._offers.demands_tls and not self.secure:
                self._refuse(TLS_FIRST)
            elif step is not None and step not in ORDER[self.phase]:
                self._refuse(BAD_ORDER)
            else:
                handle(self, argument)

    def _ehlo(self, argument: str) -> None:
        self._hello(argument, extended=True)

    def _helo(self, argument: str) -> None:
        self._hello(argument, extended=False)

    def _hello(self, argument: str, *, extended: bool) -> None:
        try:
            name = parse_hello_name(argument)
        except Syntax:
            self._refuse(Reply(501, "", "say who you are: EHLO and a name"))
            return
        self._drop_transaction()
        if self.phase is not _FRESH:
            self._waste()
            if self.phase is _CLOSED:
                return
            self.phase = _READY
        self._asked = events.Hello(name, extended)
        self._told.append(self._asked)  # after the transaction that it drops

    def _hello_reply(self, event: events.Event) -> Reply:
        """The extensions offered now (RFC 5321 4.1.1.1)."""
        assert isinstance(event, events.Hello)
        if not event.extended:
            return Reply(250, "", self.name)
        offered = self._offers.keywords(secure=self.secure, logged_in=self.logged_in, limits=self._limits)
        return Reply(250, "", self.name, *offered)

    def _hello_accepted(self, event: events.Event) -> None:
        """Nothing of the session depends on the name."""

    def _mail(self, argument: str) -> None:
        if self._messages == self._limits.messages > 0:
            self._tell_refused(TOO_MANY_MESSAGES)
            self.close(TOO_MANY_MESSAGES)
            return
        argument = unambiguous(argument) if self._limits.lenient else argument
        self._ask(read_mail(argument, self._offers, self._max_size, secure=self.secure))

    def _rcpt(self, argument: str) -> None:
        argument = unambiguous(argument) if self._limits.lenient else argument
        event = read_rcpt(argument, self._offers, secure=self.secure, utf8=self._utf8)
        if self._recipients >= self._limits.recipients and not isinstance(event, Reply):
            self._say(TOO_MANY_RECIPIENTS)
            self._tell_refused(TOO_MANY_RECIPIENTS)
        else:
            self._ask(event)

    def _ask(self, result: events.Event | Reply) -> None:
        if isinstance(result, Reply):
            self._refuse(result)
        else:
            self._asked = result

    def _data(self, argument: str) -> None:
        if argument:
            self._refuse(NO_ARGUMENT)
        else:
            self._asked = events.ContentStarted()

    def _bdat(self, argument: str) -> None:
        """A chunk: its octets come next, whatever is said of them (RFC 3030 2)."""
        if not self._offers.has("CHUNKING", secure=self.secure):
            self._refuse(UNAVAILABLE)
            return
        if (chunk := read_chunk(argument)) is None:
            self._refuse(BAD_PARAMETER)
            return
        octets, last = chunk
        if Step.CHUNK not in ORDER[self.phase]:
            self._incoming = Unwanted(octets, BAD_ORDER)
        elif self._chunks is not None:
            self._chunks.begin(octets, last=last)
            self._incoming = Chunk(self._chunks)
        else:
            self._asked = events.ChunksStarted(octets, last)

    def _rset(self, argument: str) -> None:
        if argument:
            self._refuse(NO_ARGUMENT)
            return
        self._drop_transaction()
        self.phase = ORDER[self.phase][Step.RESET]
        self._idle(OK)

    def _unavailable(self, argument: str) -> None:
        self._refuse(UNAVAILABLE)

    def _idle(self, reply: Reply) -> None:
        self._say(reply)
        self._waste(idle=True)

    def _quit(self, argument: str) -> None:
        if argument:
            self._refuse(NO_ARGUMENT)
            return
        self._say(Reply(221, "2.0.0", f"{self.name} closing"))
        self._close()

    def _starttls(self, argument: str) -> None:
        if not self._offers.starttls:
            self._refuse(UNAVAILABLE)
        elif self.secure:
            self._refuse(Reply(503, "5.5.1", "TLS is on already"))
        elif Step.SECURE not in ORDER[self.phase]:
            self._refuse(BAD_ORDER)
        elif argument:
            self._refuse(NO_ARGUMENT)
        else:
            self._asked = events.SecureAsked()


_ACCEPTED: dict[Step, Callable[[Server, Any], None]] = {
    Step.HELLO: Server._hello_accepted,
    Step.MAIL: Server._sender_accepted,
    Step.RCPT: Server._recipient_accepted,
    Step.DATA: Server._data_accepted,
    Step.END: Server._message_accepted,
    Step.LOGIN_ENDED: Server._login_accepted,
    Step.SECURE: Server._secure_accepted,
}

# What nearly every line is, without the detours that the others need; what they do not match goes the long way.
_PLAIN: dict[Phase, Callable[[Server, bytes], events.Event | None]] = {
    Phase.READY: Server._plain_mail,
    Phase.SENDER: Server._plain_rcpt,
    Phase.RECIPIENTS: Server._plain_data,
}

COMMANDS: dict[str, tuple[Step | None, Callable[[Server, str], None]]] = {
    "EHLO": (Step.HELLO, Server._ehlo),
    "HELO": (Step.HELLO, Server._helo),
    "MAIL": (Step.MAIL, Server._mail),
    "RCPT": (Step.RCPT, Server._rcpt),
    "DATA": (Step.DATA, Server._data),
    "RSET": (Step.RESET, Server._rset),
    "NOOP": (None, lambda server, argument: server._idle(OK)),
    "HELP": (None, lambda server, argument: server._idle(HELP)),
    "VRFY": (None, lambda server, argument: server._idle(NOT_VERIFIED)),
    "QUIT": (None, Server._quit),
    "STARTTLS": (None, Server._starttls),
    "AUTH": (None, Server._auth),
    "EXPN": (None, Server._unavailable),
    "TURN": (None, Server._unavailable),
    "SEND": (None, Server._unavailable),
    "SOML": (None, Server._unavailable),
    "SAML": (None, Server._unavailable),
    "ETRN": (None, Server._unavailable),
    "BDAT": (None, Server._bdat),
}
