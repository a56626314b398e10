"""What comes in: one submission at a time in each session, checked, and made durable before it is answered."""

from __future__ import annotations

import asyncio
import hashlib
import secrets
from collections.abc import Callable
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError, StoreFull
from copper_kite.mail.header import header_end
from copper_kite.mail.readdress import authors
from copper_kite.mail.received import protocol_word, received_field
from copper_kite.mail.submitted import take_in
from copper_kite.net.server import LATER, Answer, Handler, ServerSession
from copper_kite.relay.gate import WAIT_TO_LOGIN, Client, Gate, is_within
from copper_kite.relay.job import Fresh
from copper_kite.relay.log import Log
from copper_kite.relay.refusals import Refusal, Refusals
from copper_kite.relay.room import DISK_FULL, Room
from copper_kite.relay.usage import HOUR
from copper_kite.routing.outward import Outward
from copper_kite.settings.load import Loaded
from copper_kite.settings.model import Listener
from copper_kite.smtp import events
from copper_kite.smtp.exchanges import NoDirectory, made_up_key
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import SCRAM_ITERATIONS, ProvenLogin, ScramKey
from copper_kite.store.ids import IdMaker, id_text
from copper_kite.store.model import Change, Message, Recipient
from copper_kite.words import Stage, State

__all__ = ["Intake", "Submission"]

MAX_PACED = 10_000  # clients whose pace is kept in mind
PORTION = 256 * 1024  # octets of content collected before they go to the store
MAX_WAITING = 4  # portions on their way to the store before the client has to wait

DISK_FAILED = Reply(451, "4.3.0", "the message could not be kept; try again later")
TOO_FAST = Reply(450, "4.7.1", "messages come too fast; try again later")
TOO_MANY_HOPS = Reply(554, "5.4.6", "the message has passed too many servers: it goes round in a loop")
LOGIN_FIRST = Reply(530, "5.7.0", "log in first")
LOGIN_REFUSED = Reply(535, "5.7.8", "login or password is wrong")
UNQUALIFIED_SENDER = Reply(501, "5.1.7", "write the sender with its domain")
UNQUALIFIED_RECIPIENT = Reply(501, "5.1.3", "write the recipient with its domain")


# Checked when nobody has that login, so that it takes as long.
_NOBODY = ScramKey(SCRAM_ITERATIONS, bytes(16), bytes(32), bytes(32))


class Submission(NoDirectory):
    """What all sessions of one listener share. `submit` writes a change, `accepted` gets what has become durable."""

    def __init__(
        self,
        loaded: Loaded,
        listener: Listener,
        ids: IdMaker,
        clock: Clock,
        submit: Callable[[Change, Callable[[KiteError | None], None]], None],
        accepted: Callable[[Fresh], None],
        gate: Gate,
        room: Room,
        refusals: Refusals,
        log: Log,
    ) -> None:
        self.log = log
        self.gate = gate
        self.room = room
        self.refusals = refusals
        self.paces: dict[str, float] = {}  # when the next message of each client may come, by the listener's pace
        self.ids = ids
        self.clock = clock
        self.submit = submit
        self.accepted = accepted
        self.renew(loaded, listener)

    def renew(self, loaded: Loaded, listener: Listener) -> None:
        """Go by other settings from the next command on."""
        self.server = loaded.server_name
        self.lifetime = loaded.settings.retry.lifetime
        self.max_hops = loaded.settings.server.max_hops
        self.listener = listener
        self.accounts = loaded.accounts
        self.outward = Outward(loaded.settings.identity, self.server)

    def nonce(self) -> str:
        """For one login."""
        return secrets.token_urlsafe(18)

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        """An account's key; for an unknown one something that looks like one."""
        key = self.accounts.get(login)
        if key is not None and key.digest == digest:
            return key, True
        known = sorted(self.accounts.items())
        secret = hashlib.sha256(b"".join(one.stored_key for _, one in known)).digest()
        return made_up_key(login, secret, known[0][1] if known else None), False

    def allows(self, address: str) -> bool:
        """Whether this client may hand in mail without a login. A Unix socket's clients may: its mode says who."""
        return not address or is_within(address, self.listener.allow)

    def too_fast(self, who: str) -> bool:
        """Whether a client exceeds the listener's pace; messages may come in bursts of a second."""
        pace = self.listener.pace
        if pace is None:
            return False
        now = self.clock.now()
        if len(self.paces) > MAX_PACED:
            self.paces = {other: due for other, due in self.paces.items() if due > now}
        due = max(self.paces.get(who, 0.0), now - max(1.0, pace.interval))
        if due > now:
            return True
        self.paces[who] = due + pace.interval
        return False


class Intake(Handler):
    """One session's view of a listener."""

    def __init__(self, submission: Submission) -> None:
        self._shared = submission
        self._session: ServerSession | None = None
        self._allowed = False
        self.client = Client("")
        self._hello = ""
        self._extended = False
        self._growing: _Growing | None = None
        self._sender: events.MailFrom | None = None
        self._reverse_path = ""
        self._recipients: dict[str, str] = {}  # each with what is asked for it

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
        refusal = Refusal(self._shared.listener.name, self.client.who, stage.value, str(reply))
        self._shared.refusals.note(refusal, hello=self._hello, sender=self._reverse_path, **example)
        return reply

    def hello(self, event: events.Hello) -> Answer:
        """Note what it calls itself."""
        self._hello, self._extended = event.name, event.extended
        return None

    def login_asked(self, event: events.LoginAsked) -> Answer:
        """Check an account's password beside the loop: it takes milliseconds, on purpose."""
        login = event.login
        if self._shared.gate.must_wait(login.login, self.client.address):
            return self._refuse(Stage.LOGIN, WAIT_TO_LOGIN, login=login.login)
        if isinstance(login, ProvenLogin):
            return self._decide_login(login.login, holds=login.holds)
        key = self._shared.accounts.get(login.login, _NOBODY)
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
            return self._refuse(Stage.LOGIN, LOGIN_REFUSED, login=account, why=why)
        self.client.account, self._allowed = account, True
        return None

    def mail_from(self, event: events.MailFrom) -> Answer:
        """Take the sender; a bare name gets its domain."""
        shared, client = self._shared, self.client
        path = self._reverse_path = event.path
        if shared.listener.login == "required" and client.address and not client.account:
            return self._refuse(Stage.SENDER, LOGIN_FIRST)
        if path:
            outward = shared.outward.sender(path)
            if outward is None:
                return self._refuse(Stage.SENDER, UNQUALIFIED_SENDER)
            path = outward
        refusal = shared.gate.sender(client, path) or shared.room.refusal(event.size)
        if refusal is None and shared.too_fast(client.who):
            refusal = TOO_FAST
        if refusal is not None:
            return self._refuse(Stage.SENDER, refusal)
        self._sender, self._reverse_path, self._recipients = event, path, {}
        return None

    def recipient_to(self, event: events.RecipientTo) -> Answer:
        """Take a recipient, from those who may hand in mail here; each address once."""
        if not self._allowed:
            name = self._shared.listener.name
            reply = Reply(550, "5.7.1", f"{self.client.address} may not relay through listener {name}")
            return self._refuse(Stage.RECIPIENT, reply, recipient=event.path)
        path = self._shared.outward.recipient(event.path)
        if path is None:
            return self._refuse(Stage.RECIPIENT, UNQUALIFIED_RECIPIENT, recipient=event.path)
        refusal = self._shared.gate.recipient(self.client, path, len(self._recipients))
        if refusal is not None:
            return self._refuse(Stage.RECIPIENT, refusal, recipient=path)
        self._recipients.setdefault(path, event.asked)
        return None

    # --- the content ------------------------------------------------------------------------------------------------

    def content(self, event: events.Content) -> None:
        """Keep a portion."""
        if self._growing is None:
            self._growing = self._begin()
        self._growing.add(event.data)

    def content_ended(self, event: events.ContentEnded) -> Answer:
        """Have it all written; the answer comes when it is on stable storage."""
        growing, self._growing = self._growing or self._begin(), None
        growing.finish(event)
        return LATER

    def _begin(self) -> _Growing:
        """Begin a message with its id and its `Received:` field."""
        session, sender, submission = self._session, self._sender, self._shared
        assert session is not None and sender is not None
        now = submission.clock.now()
        id = submission.ids.next(now)
        shown = id_text(id)
        protocol = protocol_word(
            extended=self._extended, secure=session.secure, logged_in=session.logged_in, utf8=sender.utf8
        )
        field = received_field(
            hello=self._hello,
            client=session.peer.literal,
            user=self.client.account or self.client.user,
            server=submission.server,
            protocol=protocol,
            tls=session.tls,
            id=shown,
            recipients=[*self._recipients],
            at=now,
        )
        return _Growing(self, submission, session, id, shown, now, protocol, field)

    def message(self, growing: _Growing) -> tuple[Message, list[Recipient]]:
        """What is known of the message when it is whole, with its recipients."""
        assert self._sender is not None
        id, at, peer = growing.id, growing.at, growing.session.peer
        submission = growing.submission
        message = Message(
            id,
            at,
            at + submission.lifetime,
            self._reverse_path,
            growing.size,
            self._sender.eight_bit or not growing.ascii,
            self._sender.utf8,
            growing.message_id,
            submission.listener.name,
            peer.address or "unix",
            self._hello,
            self.client.account or self.client.user,
            growing.protocol,
            self._sender.asked,
            growing.subject,
        )
        queued = State.QUEUED
        recipients = [
            Recipient(id, number, address, queued, 0, at, "", "", at, asked)
            for number, (address, asked) in enumerate(self._recipients.items(), 1)
        ]
        return message, recipients

    def content_refused(self, event: events.ContentRefused) -> None:
        """The content was at fault: forget it."""
        self._refuse(Stage.ACCEPT, event.reply)
        self._drop()

    def refuse_content(self, reply: Reply) -> Reply:
        """What was handed in cannot be taken for what it is, or cannot be kept."""
        return self._refuse(Stage.ACCEPT, reply)

    def reset(self, event: events.Reset) -> None:
        """The transaction is gone."""
        self._drop()

    def closed(self) -> None:
        """The client is gone; what was not whole is dropped."""
        self._drop()

    def _drop(self) -> None:
        if self._growing is not None:
            self._growing.drop()
            self._growing = None


class _Growing:
    """A message that is being handed in: collected in memory while it is small, sent to the store in portions else."""

    size = 0
    message_id = subject = ""
    ascii = True
    _portion = 0
    _waiting = 0
    _error: KiteError | None = None
    _refusal: Reply | None = None  # for what the content is
    _ended = False

    def __init__(
        self,
        intake: Intake,
        submission: Submission,
        session: ServerSession,
        id: int,
        shown: str,
        at: float,
        protocol: str,
        field: bytes,
    ) -> None:
        self.submission = submission
        self.session = session
        self.id = id
        self.at = at
        self.protocol = protocol
        self._shown = shown
        self._intake = intake
        self._parts = [field]
        self._collected = self._field = len(field)

    def add(self, data: bytes) -> None:
        """Take octets; the client waits while the store is behind."""
        self._parts.append(data)
        self._collected += len(data)
        if self._collected < PORTION:
            return
        octets = self._take()
        self._waiting += 1
        if self._waiting >= MAX_WAITING:
            self.session.pause("store")
        self.submission.submit(Change(content=[(self.id, self._portion - 1, octets)]), self._portion_written)

    def _take(self) -> bytes:
        octets = b"".join(self._parts)
        if not self._portion:
            octets = self._take_in(octets)
        self.size += len(octets)
        self._parts.clear()
        self._collected = 0
        self._portion += 1
        return octets

    def _take_in(self, octets: bytes) -> bytes:
        """The first portion as it is kept; a header that does not end in it stays as it is."""
        submission = self.submission
        if len(octets) >= PORTION and b"\r\n\r\n" not in octets:
            return octets
        outward = submission.outward.sender if submission.outward.completes else None
        taken = take_in(octets, self._field, outward=outward, server=submission.server, id=self._shown, at=self.at)
        self.message_id, self.subject = taken.message_id, taken.subject
        if taken.hops > submission.max_hops:
            self._refusal = TOO_MANY_HOPS
        elif self._intake.client.account:
            end = header_end(taken.content)
            self._refusal = submission.gate.authors(self._intake.client, authors(taken.content[self._field : end]))
        return taken.content

    def _portion_written(self, error: KiteError | None) -> None:
        self._waiting -= 1
        self._error = self._error or error
        self.session.resume("store")
        if self._ended and not self._waiting:
            self._write()

    def drop(self) -> None:
        """Have what already went to the store removed."""
        if self._portion:
            self.submission.submit(Change(dropped=[self.id]), lambda error: None)

    def finish(self, event: events.ContentEnded) -> None:
        """These are the last octets: once every portion before is on stable storage, make the message exist."""
        self._parts.append(event.data)
        self.ascii = event.ascii
        self._ended = True
        if not self._waiting:
            self._write()

    def _write(self) -> None:
        """Write the rest with the message and its recipients, or nothing when a portion could not be written."""
        if self._error is not None:
            self.drop()
            self._refuse(self._error)
            return
        octets = self._take()
        if self._refusal is not None:
            self.drop()
            self.session.answer(self._intake.refuse_content(self._refusal))
            return
        message, recipients = self._intake.message(self)
        who, count = self._intake.client.who, len(recipients)
        content = [(self.id, self._portion - 1, octets)]
        change = Change([message], recipients, content, taken=[(who, int(self.at) // HOUR, count)])
        self.submission.gate.usage.took(who, count, self.at)
        fresh = Fresh(message, recipients, octets if self._portion == 1 else None)
        self.submission.submit(change, partial(self._written, fresh))

    def _written(self, fresh: Fresh, error: KiteError | None) -> None:
        if error is not None:
            self.drop()
            self._refuse(error)
            return
        self.session.answer(Reply(250, "2.0.0", f"kept as {self._shown}"))
        if self.submission.log.wants("info"):
            self._log(fresh)
        self.submission.accepted(fresh)

    def _log(self, fresh: Fresh) -> None:
        message, client = fresh.message, self._intake.client
        self.submission.log.write(
            "info",
            "accepted",
            id=self._shown,
            who=client.who,
            listener=message.listener,
            sender=message.reverse_path or "-",
            recipients=len(fresh.recipients),
            size=message.size,
            message_id=message.message_id,
            protocol=message.protocol,
            tls=self.session.tls,
        )

    def _refuse(self, error: KiteError) -> None:
        reply = DISK_FULL if isinstance(error, StoreFull) else DISK_FAILED
        self.session.answer(self._intake.refuse_content(reply))
