"""The transaction of one message, without I/O: the next commands, and each recipient's reply.

With PIPELINING, MAIL, every RCPT and DATA go as one group (RFC 2920 3.1). Each recipient ends with the reply that
decided it: its own refusal, the refusal of MAIL or DATA, or the reply to the end of content.

Content always goes after DATA, also where CHUNKING is offered: 354 is the one reply that no other command has, so it
proves that every reply before it was read for the right command. A server that answers RCPT twice would otherwise have
the second answer taken for the acceptance of the content.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from copper_kite.smtp.client import (
    Answered,
    Client,
    Command,
    Verb,
    data,
    mail,
    rcpt,
    reset,
)
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.parameters import MAIL_PARAMETERS, RCPT_PARAMETERS, Parameter, in_ascii
from copper_kite.smtp.replies import Reply
from copper_kite.words import Cause, Stage

__all__ = ["Envelope", "Result", "Transaction", "incompatibility", "mail_parameters", "too_many"]

_STAGES = {
    Verb.MAIL: Stage.SENDER,
    Verb.RCPT: Stage.RECIPIENT,
    Verb.DATA: Stage.CONTENT,
    Verb.END: Stage.ACCEPT,
}


class Envelope(NamedTuple):
    """The envelope of a transaction: paths, size in octets, and what the octets need of the server.

    `esmtp_parameters` go after MAIL as they were written, `rcpt_parameters` after each recipient's RCPT (empty for
    none).
    """

    reverse_path: str
    recipients: tuple[str, ...]
    size: int
    eight_bit: bool
    utf8: bool
    esmtp_parameters: str = ""
    rcpt_parameters: tuple[str, ...] = ()


class Result(NamedTuple):
    """The reply that decided one recipient, and the stage at which it came."""

    recipient: str
    stage: Stage
    reply: Reply


def mail_parameters(envelope: Envelope, capabilities: Capabilities, *, logged_in: bool = False) -> list[str]:
    """The parameters of MAIL, as far as the server offers them (RFC 1870 5, RFC 6152 2, RFC 6531 3.4).

    AUTH goes only to a server that we have `logged_in` to (RFC 4954 5).
    """
    parameters = []
    if "SIZE" in capabilities:
        parameters.append(f"SIZE={envelope.size}")
    if envelope.eight_bit and "8BITMIME" in capabilities:
        parameters.append("BODY=8BITMIME")
    if envelope.utf8 and "SMTPUTF8" in capabilities:
        parameters.append("SMTPUTF8")
    if envelope.esmtp_parameters:
        parameters += _understood(envelope.esmtp_parameters, MAIL_PARAMETERS, capabilities, logged_in=logged_in)
    return parameters


def _understood(
    parameters: str, known: Mapping[str, Parameter], capabilities: Capabilities, *, logged_in: bool = True
) -> Iterator[str]:
    """The stored parameters whose extension the server offers; AUTH only where we have logged in."""
    for word in parameters.split():
        extension = known[word.partition("=")[0]].extension
        if extension in capabilities and (logged_in or extension != "AUTH"):
            yield word


def incompatibility(
    envelope: Envelope, capabilities: Capabilities, *, proven: bool = True
) -> tuple[Cause, Reply] | None:
    """Why a server cannot take the message, known before it is sent (RFC 1870 6, RFC 6152 3, RFC 6531 3, RFC 8689 4).

    `proven` says that TLS is on and that it is known with whom.
    """
    demands_tls = envelope.esmtp_parameters and "REQUIRETLS" in envelope.esmtp_parameters.split()
    # A notice goes on all the same, where it can with what it demands (RFC 8689 5).
    if demands_tls and envelope.reverse_path and not (proven and "REQUIRETLS" in capabilities):
        text = "the message demands verified TLS on all its way (REQUIRETLS), and the next hop does not warrant that"
        return Cause.NEEDS_REQUIRETLS, Reply(550, "5.7.30", text)
    if capabilities.size is not None and envelope.size > capabilities.size:
        text = f"the message has {envelope.size} octets, the next hop takes {capabilities.size}"
        return Cause.TOO_LARGE, Reply(552, "5.3.4", text)
    if "SMTPUTF8" not in capabilities and not "".join((envelope.reverse_path, *envelope.recipients)).isascii():
        text = "an address is not ASCII, and the next hop does not offer SMTPUTF8"
        return Cause.NEEDS_SMTPUTF8, Reply(550, "5.6.7", text)
    if envelope.eight_bit and "8BITMIME" not in capabilities:
        text = "the message holds octets over 127, and the next hop does not offer 8BITMIME"
        return Cause.NEEDS_8BITMIME, Reply(554, "5.6.3", text)
    return None


def too_many(results: Sequence[Result]) -> tuple[str, ...]:
    """The recipients that only were too many for one transaction: they may go in another (RFC 5321 4.5.3.1.10).

    None, unless others were taken in this one.
    """
    if len(results) < 2 or not any(result.stage in (Stage.CONTENT, Stage.ACCEPT) for result in results):
        return ()
    return tuple(path for path, stage, reply in results if stage is Stage.RECIPIENT and _says_too_many(reply))


def _says_too_many(reply: Reply) -> bool:
    return reply.code in (452, 552) and reply.enhanced[1:] in ("", ".5.3")


_RSET = Verb.RSET


def _recipient_commands(envelope: Envelope, capabilities: Capabilities) -> Iterable[Command]:
    if not envelope.rcpt_parameters:
        return map(rcpt, envelope.recipients)
    utf8 = envelope.utf8 and "SMTPUTF8" in capabilities
    understood = (" ".join(_understood(each, RCPT_PARAMETERS, capabilities)) for each in envelope.rcpt_parameters)
    return map(rcpt, envelope.recipients, understood if utf8 else map(in_ascii, understood))


class Transaction:
    """Drives one envelope through a session that is ready.

    `start` gives the first octets; `take` eats each reply and gives the next. When `wants_content` turns true, the
    caller sends the content and then the end; `empty` says that no recipient is left and only the end may go.
    """

    def __init__(self, client: Client, envelope: Envelope) -> None:
        self._client = client
        self._envelope = envelope
        self._refused: Result | None = None
        self._accepted: list[str] = []
        self._results: dict[str, Result] = {}
        self._unanswered = deque(envelope.recipients)
        capabilities = client.capabilities
        self._queue: list[Command] = [
            mail(envelope.reverse_path, *mail_parameters(envelope, capabilities, logged_in=client.logged_in)),
            *_recipient_commands(envelope, capabilities),
            data(),
        ]
        self._in_step = False  # whether a 354 has proved that the replies before it were read for the right commands
        self.wants_content = False
        self.finished = False
        self.stage = Stage.SENDER

    @property
    def empty(self) -> bool:
        """Whether no recipient was accepted: then only the end of content may follow a 354 (RFC 2920 3.1)."""
        return not self._accepted

    @property
    def awaited(self) -> Stage:
        """The stage of the command whose reply comes next."""
        waiting = self._client.waiting
        return self.stage if waiting is None else _STAGES.get(waiting.verb, self.stage)

    @property
    def content_begun(self) -> bool:
        """Whether content has been asked for: from then on the server may have taken the message."""
        return self._in_step

    @property
    def results(self) -> tuple[Result, ...]:
        """The results so far, in the order of the envelope."""
        result = self._results
        return tuple([result[path] for path in self._envelope.recipients if path in result])

    @property
    def certain(self) -> tuple[Result, ...]:
        """The `results` that remain valid when the session turns out to be out of step: the refusals before a 354."""
        return self.results if self._in_step else ()

    def start(self) -> bytes:
        """The first command or group."""
        return self._send_more()

    def _send_more(self) -> bytes:
        wire, count = self._client.offer_all(self._queue)
        if count:
            del self._queue[:count]
        return wire

    def take_accepted_group(self) -> None:
        """All of it went as one group, and every reply is positive: the content comes next."""
        self._in_step = self.wants_content = True
        self._accepted, self.stage = list(self._unanswered), Stage.CONTENT
        self._unanswered.clear()

    def take(self, answered: Answered) -> bytes:
        """Eat the reply to one of this transaction's commands; return the next octets, maybe none.

        Not for 421: that ends the session, whatever it answers.
        """
        return _TAKE[answered.command.verb](self, answered.reply)

    def _take_reset(self, reply: Reply) -> bytes:
        self.finished = True
        return b""

    def _take_sender(self, reply: Reply) -> bytes:
        if reply.code >= 400:
            self._refused = Result("", Stage.SENDER, reply)
            self._decide(self._envelope.recipients, Stage.SENDER, reply)
        return self._go_on() if self._queue else b""

    def _take_recipient(self, reply: Reply) -> bytes:
        self.stage = Stage.RECIPIENT
        path = self._unanswered.popleft()
        if self._refused is not None:
            pass  # the refusal of MAIL decides, not the 503 that follows it
        elif reply.code < 400:
            self._accepted.append(path)
        else:
            self._decide([path], Stage.RECIPIENT, reply)
        return self._go_on() if self._queue else b""

    def _go_on(self) -> bytes:
        """Send the next command, or end the transaction when no recipient is left."""
        return self._give_up() if self._nothing_left() else self._send_more()

    def _take_data(self, reply: Reply) -> bytes:
        self.stage = Stage.CONTENT
        if reply.code == 354:
            self._in_step = self.wants_content = True
            return b""
        self._decide(self._accepted, Stage.CONTENT, reply)
        self._accepted = []
        return self._give_up()

    def _take_end(self, reply: Reply) -> bytes:
        self.stage = Stage.ACCEPT
        self._decide(self._accepted, Stage.ACCEPT, reply)
        self.finished = True
        return b""

    def _nothing_left(self) -> bool:
        """Whether the message cannot go: MAIL was refused, or every recipient was."""
        return self._refused is not None or (not self._unanswered and not self._accepted)

    def _give_up(self) -> bytes:
        """End a transaction that carries nothing, so that the session can be used again."""
        self._queue.clear()
        if self._client.waiting is not None or not self._client.may_send(_RSET):
            self.finished = not self._client.may_send(_RSET)
            return b""
        return self._client.send(reset())

    def _decide(self, paths: Sequence[str], stage: Stage, reply: Reply) -> None:
        for path in paths:
            self._results[path] = Result(path, stage, reply)


_TAKE: dict[Verb, Callable[[Transaction, Reply], bytes]] = {
    Verb.MAIL: Transaction._take_sender,
    Verb.RCPT: Transaction._take_recipient,
    Verb.DATA: Transaction._take_data,
    Verb.END: Transaction._take_end,
    Verb.RSET: Transaction._take_reset,
}
