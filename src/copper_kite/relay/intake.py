"""Intake: one submission at a time in each session, checked, and made durable before it is answered."""

from __future__ import annotations

import asyncio
from functools import partial

from copper_kite.errors import KiteError, StoreFull
from copper_kite.mail import (
    Submitted,
    authors,
    header_end,
    header_length,
    mended,
    protocol_word,
    received_field,
    received_from,
    take_in,
)
from copper_kite.net import LATER, Answer, Dialogue, Handler, ServerSession
from copper_kite.relay.admission import DISK_FULL, Reservation
from copper_kite.relay.gate import WAIT_TO_LOGIN, Client
from copper_kite.relay.recorded import remark
from copper_kite.relay.recordings import kept_lines
from copper_kite.relay.refusals import Refusal
from copper_kite.relay.streamed_message import PORTION, StreamedMessage
from copper_kite.relay.submission import Submission
from copper_kite.relay.usage import HOUR
from copper_kite.smtp import ProvenLogin, Reply, events
from copper_kite.store import AddMessage, JournalEntry, Message, Recipient, WriteEntry, id_text
from copper_kite.words import Event, Stage

__all__ = ["Intake"]

DISK_FAILED = Reply(451, "4.3.0", "the message could not be kept; try again later")
TOO_FAST = Reply(450, "4.7.1", "messages come too fast; try again later")
TOO_MANY_HOPS = Reply(554, "5.4.6", "the message has passed too many servers: it goes round in a loop")
LOGIN_FIRST = Reply(530, "5.7.0", "log in first")
LOGIN_REFUSED = Reply(535, "5.7.8", "login or password is wrong")
UNQUALIFIED_SENDER = Reply(501, "5.1.7", "write the sender with its full domain")
UNQUALIFIED_RECIPIENT = Reply(501, "5.1.3", "write the recipient with its full domain")


_STAGES = {
    "MAIL": Stage.SENDER,
    "RCPT": Stage.RECIPIENT,
    "DATA": Stage.CONTENT,
    "BDAT": Stage.CONTENT,
    "AUTH": Stage.LOGIN,
    "STARTTLS": Stage.SECURE,
}


class Intake(Handler):
    """One session's view of a listener."""

    def __init__(self, submission: Submission) -> None:
        self._shared = submission
        self._session: ServerSession | None = None
        self._reservation = Reservation(submission.room)
        self._allowed = False
        self._gone = False
        self.client = Client("")
        self._hello = ""
        self._extended = False
        self._trace = ""  # the first half of our Received; with `_origin`, what is the same for many messages
        self._origin = ("", "", "", "", "")  # as a message has it: listener, client, hello, user, protocol
        self._tls = ""  # of the session, as a message has it
        self._sender: events.MailFrom | None = None
        self._rules: object = None  # by which the sender was taken
        self._reverse_path = ""
        self._priority, self._esmtp_parameters = 0, ""  # of the message
        self._recipients: dict[str, str] = {}  # each with its ESMTP parameters
        self._parts: list[bytes] = []  # of the content, as long as there is little of it
        self._octets = 0
        self._look_at = PORTION  # octets: then it is looked whether the header has ended
        self._large: StreamedMessage | None = None
        self._too_long: Reply | None = None  # why the content that still comes is thrown away
        self._opening = 0  # lines of the dialogue, where one is kept, that come before any message

    # --- the session ------------------------------------------------------------------------------------------------

    def opened(self, session: ServerSession) -> Reply | None:
        """Note who it is."""
        self._session = session
        peer = session.peer
        self.client = Client(peer.address, peer.user)
        self._allowed = self._shared.allows(peer.address)
        return None

    def _refuse(self, stage: Stage, reply: Reply, **example: str) -> Reply:
        """Note what is refused, for `kite trace --refused`."""
        account = example.pop("login", "") or self.client.account
        refusal = Refusal(self._shared.listener.name, self.client.who, stage.value, str(reply), account)
        self._shared.refusals.note(refusal, hello=self._hello, sender=self._reverse_path, **example)
        return reply

    def hello(self, event: events.Hello) -> Answer:
        """Note what it calls itself."""
        self._hello, self._extended, self._trace = event.name, event.extended, ""
        return None

    def login_asked(self, event: events.LoginAsked) -> Answer:
        """Check an account's password beside the loop: it takes milliseconds, on purpose."""
        login = event.login
        if self._shared.gate.must_wait(login.login, self.client.address):
            return self._refuse(Stage.LOGIN, WAIT_TO_LOGIN, login=login.login)
        if isinstance(login, ProvenLogin):
            return self._decide_login(login.login, holds=login.holds)
        key = self._shared.accounts.get(login.login) or self._shared.made_up_key(login.login)
        known = login.login in self._shared.accounts and login.acts_for in ("", login.login)
        checking = asyncio.get_running_loop().run_in_executor(None, key.fits, login.password)
        checking.add_done_callback(partial(self._login_checked, login.login, known))
        return LATER

    def _login_checked(self, account: str, known: bool, fits: asyncio.Future[bool]) -> None:
        assert self._session is not None
        holds = known and not fits.cancelled() and fits.result()
        self._session.answer(self._decide_login(account, holds=holds))

    def _decide_login(self, account: str, *, holds: bool) -> Reply | None:
        gate, address = self._shared.gate, self.client.address
        gate.login_ended(account, address, good=holds)
        if not holds or not gate.may_log_in(account, address):
            why = "its password was right, but it may not log in from there" if holds else ""
            if account not in self._shared.accounts:
                why = "there is no such account"
            return self._refuse(Stage.LOGIN, LOGIN_REFUSED, login=account, why=why)
        self.client.account, self._allowed = account, True
        self._trace, self._rules = "", None
        return None

    # --- the envelope -----------------------------------------------------------------------------------------------

    def mail_from(self, event: events.MailFrom) -> Answer:
        """Take the sender; a bare name gets its domain."""
        shared = self._shared
        if event is not self._sender or shared.rules is not self._rules:  # not the same as the last time
            refusal = self._judge_sender(event)
            if refusal is not None:
                return refusal
            self._sender, self._rules = event, shared.rules
        if shared.listener.pace is not None or self.client.account:
            wait = shared.wait_for_pace(self.client)
            if wait is None:
                return self._refuse(Stage.SENDER, TOO_FAST)
            if wait:
                asyncio.get_running_loop().call_later(wait, self._pace_kept, event)
                return LATER
        return self._set_out(event)

    def _pace_kept(self, event: events.MailFrom) -> None:
        """The client has waited for its pace."""
        if not self._gone:
            assert self._session is not None
            self._session.answer(self._set_out(event))

    def _set_out(self, event: events.MailFrom) -> Reply | None:
        """A message may come, if there is room for it."""
        refusal = self._reservation.begin(event.size)
        if refusal is not None:
            self._reservation.end()
            return self._refuse(Stage.SENDER, refusal)
        self._recipients = {}
        if self._session is not None and self._session.dialogue is not None and not self._opening:
            self._opening = self._session.dialogue.mark() - 1
        return None

    def _judge_sender(self, event: events.MailFrom) -> Reply | None:
        shared, client = self._shared, self.client
        path, self._sender, self._reverse_path, self._trace = event.path, None, event.path, ""
        if shared.listener.login == "required" and client.address and not client.account:
            return self._refuse(Stage.SENDER, LOGIN_FIRST)
        if path:
            outward = shared.outward.sender(path)
            if outward is None:
                return self._refuse(Stage.SENDER, UNQUALIFIED_SENDER)
            path = outward
        if (refusal := shared.gate.sender(client, path)) is not None:
            return self._refuse(Stage.SENDER, refusal)
        self._reverse_path = path
        self._priority = shared.priority(client.account, path, event.esmtp_parameters)
        self._esmtp_parameters = _with_priority(event.esmtp_parameters, self._priority)
        return None

    def recipient_to(self, event: events.RecipientTo) -> Answer:
        """Take a recipient, from those who may submit mail here; each address once."""
        shared = self._shared
        if not self._allowed:
            reply = Reply(550, "5.7.1", f"{self.client.address} may not relay through listener {shared.listener.name}")
            return self._refuse(Stage.RECIPIENT, reply, recipient=event.path)
        path = shared.outward.recipient(event.path)
        if path is None:
            return self._refuse(Stage.RECIPIENT, UNQUALIFIED_RECIPIENT, recipient=event.path)
        if shared.gate.counts or self.client.account:
            refusal = shared.gate.recipient(self.client, path, len(self._recipients))
            if refusal is not None:
                return self._refuse(Stage.RECIPIENT, refusal, recipient=path)
        self._recipients.setdefault(path, event.esmtp_parameters)
        return None

    # --- the content ------------------------------------------------------------------------------------------------

    def content(self, event: events.Content) -> None:
        """Keep a portion; when there are too many to be collected, they go to the store."""
        if self._large is not None:
            self._large.add(event.data)
        elif self._too_long is None:
            self._parts.append(event.data)
            self._octets += len(event.data)
            if self._octets >= self._look_at:
                self._look_at_header()

    def content_ended(self, event: events.ContentEnded) -> Answer:
        """Write everything; the reply comes when it is on stable storage."""
        if self._large is not None:
            large, self._large = self._large, None
            large.finish(event)
            return LATER
        if self._too_long is not None:
            reply, self._too_long = self._too_long, None
            return self._refuse(Stage.ACCEPT, reply)
        octets, shared = event.data, self._shared
        if self._parts:
            octets = b"".join((*self._parts, octets))
            self._forget_parts()
        if len(octets) > shared.listener.max_header and self._has_long_header(octets):
            return self._refuse(Stage.ACCEPT, self._header_too_long())
        now = shared.clock.now()
        id = shared.ids.next(now)
        shown = id_text(id)
        taken = self._take_in(octets, shown, now, ascii=event.ascii)
        refusal = self._reservation.need(len(taken.content))
        if refusal is DISK_FULL:
            return self._refuse(Stage.ACCEPT, refusal)
        if taken.hops > shared.max_hops or self.client.account:
            refusal = self._judge_content(taken)
            if refusal is not None:
                return self._refuse(Stage.ACCEPT, refusal)
        addition = self.make_message(id, now, taken, len(taken.content), taken.content, event)
        shared.submit(remark(addition, taken.remarks), partial(self.written, shown, addition))
        return LATER

    def _look_at_header(self) -> None:
        """Start writing once the header is whole, so that checks see all of it; refuse one that is too long."""
        octets, most = b"".join(self._parts), self._shared.listener.max_header
        length = header_length(octets)
        if length is None and len(octets) <= most:
            self._parts, self._look_at = [octets], min(2 * len(octets), most + 1)
        elif length is None or length > most:
            self._forget_parts()
            self._too_long = self._header_too_long()
        else:
            self._begin_large(octets)

    def _has_long_header(self, octets: bytes) -> bool:
        length = header_length(octets)
        return (len(octets) if length is None else length) > self._shared.listener.max_header

    def _header_too_long(self) -> Reply:
        most = self._shared.listener.max_header
        return Reply(552, "5.3.4", f"the header has over {most} octets; what is long belongs after the empty line")

    def _forget_parts(self) -> None:
        self._parts, self._octets, self._look_at = [], 0, PORTION

    def _begin_large(self, octets: bytes) -> None:
        """Start a message in portions with the octets so far as the first."""
        shared = self._shared
        assert self._session is not None
        now = shared.clock.now()
        id = shared.ids.next(now)
        self._forget_parts()
        taken = self._take_in(octets, id_text(id), now, ascii=octets.isascii())
        large = StreamedMessage(self, self._session, shared.submit, id, now, taken, self._reservation)
        large.refuse(self._judge_content(taken))
        self._large = large

    def _trace_of(self) -> str:
        """The Received line of many messages, until the client greets again, logs in, or changes its sender."""
        session, sender = self._session, self._sender
        assert session is not None and sender is not None
        protocol = protocol_word(
            extended=self._extended, secure=session.secure, logged_in=session.logged_in, utf8=sender.utf8
        )
        user = self.client.account or self.client.user
        self._trace = received_from(
            hello=self._hello,
            client=session.peer.literal,
            user=user,
            server=self._shared.server,
            protocol=protocol,
            tls=session.tls,
        )
        self._tls = session.tls
        self._origin = self._shared.listener.name, self.client.address or "unix", self._hello, user, protocol
        return self._trace

    def _take_in(self, octets: bytes, id: str, at: float, *, ascii: bool) -> Submitted:
        """The content as it is kept, after our own field, mended where the listener does that."""
        shared, sender, done = self._shared, self._sender, ""
        assert sender is not None
        if not shared.listener.strict and (not ascii or octets.startswith(b"From ")):
            octets, done = mended(octets, ascii=ascii, utf8=sender.utf8)
        first = self._trace or self._trace_of()
        field = received_field(first, id=id, recipients=self._recipients, at=at, priority=self._priority)
        author = self._reverse_path or shared.postmaster
        taken = take_in(octets, field, completion=shared.completion, author=author, server=shared.server, id=id, at=at)
        return taken._replace(remarks="; ".join(filter(None, (taken.remarks, done)))) if done else taken

    def _judge_content(self, taken: Submitted) -> Reply | None:
        """Why the message cannot be taken for what it is."""
        shared = self._shared
        if taken.hops > shared.max_hops:
            return TOO_MANY_HOPS
        if self.client.account:
            header = taken.content[taken.start : header_end(taken.content, taken.start)]
            return shared.gate.authors(self.client, authors(header))
        return None

    def make_message(
        self, id: int, at: float, taken: Submitted, size: int, content: bytes | None, event: events.ContentEnded
    ) -> AddMessage:
        """The message as it is known when it is whole, with its recipients; and what it is counted as."""
        sender, shared, client = self._sender, self._shared, self.client
        assert sender is not None
        message = Message(
            id,
            at,
            at + shared.lifetime,
            self._reverse_path,
            size,
            sender.eight_bit or not event.ascii,
            sender.utf8,
            taken.message_id,
            *self._origin,
            self._esmtp_parameters,
            taken.subject,
            self._priority,
            int(event.form),
            self._tls,
        )
        path, carrier = self._reverse_path, shared.carrier
        recipients = [
            Recipient(id, number, address, next_try=at, connector=carrier(address, path), changed=at,
                      esmtp_parameters=parameters)
            for number, (address, parameters) in enumerate(self._recipients.items(), 1)
        ]  # fmt: skip
        who, count, hour = client.who, len(recipients), int(at) // HOUR
        shared.gate.usage.took(who, count, hour)
        return AddMessage(message, recipients, content, (who, hour, count))

    def written(self, shown: str, addition: AddMessage | None, error: KiteError | None) -> None:
        """A message is on stable storage, or could not be kept: only now is it answered."""
        session = self._session
        assert session is not None
        self._reservation.end()
        if error is not None or addition is None:
            reply = DISK_FULL if isinstance(error, StoreFull) else DISK_FAILED
            session.answer(self._refuse(Stage.ACCEPT, reply))
            return
        try:
            self._shared.accepted(addition)
            session.answer(Reply(250, "2.0.0", f"kept as {shown}"))
            if session.dialogue is not None:
                self._keep_dialogue(session.dialogue, addition.message.id)
            if self._shared.log.wants("info"):
                self._log(shown, addition)
        except Exception as error_of_ours:
            session.fail(error_of_ours)
            raise

    def refuse_large(self, reply: Reply) -> None:
        """A message of many portions was refused for what it is."""
        assert self._session is not None
        self._session.answer(self._refuse(Stage.ACCEPT, reply))

    def _log(self, shown: str, addition: AddMessage) -> None:
        message = addition.message
        assert self._session is not None
        self._shared.log.write(
            "info",
            "accepted",
            id=shown,
            who=self.client.who,
            listener=message.listener,
            sender=message.reverse_path or "-",
            recipients=len(addition.recipients),
            size=message.size,
            message_id=message.message_id,
            protocol=message.protocol,
            tls=self._session.tls,
        )

    def command_refused(self, event: events.CommandRefused) -> None:
        """Note what the engine refused."""
        stage = _STAGES.get(event.verb, Stage.HELLO)
        self._refuse(stage, event.reply, **({"command": f"{event.verb} {event.argument}"} if event.argument else {}))

    def content_refused(self, event: events.ContentRefused) -> None:
        """The content was at fault: forget it."""
        self._refuse(Stage.ACCEPT, event.reply)
        self._drop()

    def reset(self, event: events.Reset) -> None:
        """The transaction is gone."""
        self._drop()

    def fault(self, error: Exception) -> None:
        """Note an exception in this session."""
        self._shared.fault(error, listener=self._shared.listener.name, client=self.client.who)

    def closed(self) -> None:
        """The client is gone; what was not whole is dropped."""
        self._gone = True
        self._drop()
        dialogue = self._session.dialogue if self._session is not None else None
        if dialogue is not None and not self._opening:  # no message was taken by then
            self._keep_dialogue(dialogue, None)

    def _keep_dialogue(self, dialogue: Dialogue, message: int | None) -> None:
        """An administrator wants to see it: of a message, or of a session in which there was none."""
        shared = self._shared
        if not shared.recordings.keeps("listener", shared.listener.name):
            return
        facts = {"listener": shared.listener.name, "client": self.client.who, "lines": kept_lines(dialogue)}
        entry = JournalEntry(at=shared.clock.now(), event=Event.DIALOGUE, message=message, facts=facts)
        dialogue.cut(self._opening)
        shared.submit([WriteEntry(entry)], lambda error: None)

    def _drop(self) -> None:
        self._forget_parts()
        self._reservation.end()
        self._too_long = None
        if self._large is not None:
            self._large.drop()
            self._large = None


def _with_priority(parameters: str, priority: int) -> str:
    """The stored parameters with the local priority of the message; none for an ordinary one."""
    words = [word for word in parameters.split() if not word.startswith("MT-PRIORITY=")] if parameters else []
    if priority:
        words.append(f"MT-PRIORITY={priority}")
    return " ".join(words)
