"""Which notices an attempt requires, their addressees, and the recipients they report (RFC 3461 5.2, RFC 3464)."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from copper_kite.errors import ContentUnreadable
from copper_kite.mail import MAX_RETURNED, NoticeRecipient, header_end, make_notice, make_text_message
from copper_kite.relay.job import Job
from copper_kite.relay.recipient_outcome import RecipientOutcome, parameter_value, wants
from copper_kite.routing import Router
from copper_kite.settings import Loaded, host_of
from copper_kite.smtp import decode_xtext
from copper_kite.store import AddMessage, Attempt, IdMaker, JournalEntry, Message, Recipient, id_text
from copper_kite.verdict import judge_attempt
from copper_kite.words import Cause, CauseKind, Event, State

__all__ = ["About", "Notices", "make_notices"]

OWN_LIFETIME = 5 * 86400.0  # seconds
PROTOCOL = "notice"  # what a message says that is one, where others name how they came


class About(NamedTuple):
    """The subject of a notice: recipients of a job as an attempt left them; and the address it goes to."""

    job: Job
    told: Sequence[RecipientOutcome]
    attempt: Attempt
    to: str


def compose_notice(notices: Notices, about: About, id: int, now: float) -> bytes:
    """The content of a notice (RFC 3464)."""
    message = about.job.message
    original, whole = _original(about)
    return make_notice(
        server=notices.server,
        postmaster=notices.postmaster,
        reverse_path=about.to,
        id=id_text(id),
        original_id=id_text(message.id),
        envelope_id=decode_xtext(parameter_value(message.esmtp_parameters, "ENVID")),
        arrived=message.arrived,
        at=now,
        original=original,
        whole=whole,
        recipients=[_explained(outcome, about.job, about.attempt) for outcome in about.told],
    )


def _original(about: About) -> tuple[bytes, bool]:
    """The part of the message to return, and whether it is all of it: on failure, to its sender, on request."""
    job = about.job
    parameters = job.message.esmtp_parameters
    full = parameter_value(parameters, "RET").upper() == "FULL" and about.to == job.message.reverse_path
    full = full and "REQUIRETLS" not in parameters.split()
    failed = any(outcome.state is State.FAILED for outcome in about.told)
    if full and job.message.size <= MAX_RETURNED and failed:
        with contextlib.suppress(ContentUnreadable):
            return b"".join(job.content()), True
    first = job.beginning()
    return first[: header_end(first)], False


@dataclass(frozen=True, slots=True, kw_only=True)
class Notices:
    """Decides on notices, and adds them. `late_after` is in seconds from arrival, `lifetime` in all;
    `copy_to` gets a copy of each that tells of a failure. `compose` writes the content of one.

    `postmaster` is who they are from.
    """

    server: str
    postmaster: str
    ids: IdMaker
    late_after: float
    lifetime: float
    copy_to: str = ""
    carrier: Callable[[str, str], str] = lambda to, sender: ""  # which connector carries them
    compose: Callable[[Notices, About, int, float], bytes] = compose_notice

    def late_at(self, arrived: float, expires: float) -> float:
        """When the sender gets a notice of delay, if the message still waits.

        Where the clock was set meanwhile, the end of the lifetime was shifted, and tells when it came.
        """
        return max(arrived, expires - self.lifetime) + self.late_after

    def has_become_late(self, outcome: RecipientOutcome, message: Message, now: float) -> bool:
        """Whether a delayed recipient has passed its time for a notice since its last change (RFC 3461 5.2.5)."""
        late = self.late_at(message.arrived, message.expires)
        return outcome.state is State.DELAYED and outcome.recipient.changed < late <= now

    def after(
        self, job: Job, outcomes: Sequence[RecipientOutcome], attempt: Attempt, now: float, *, passed_on: bool
    ) -> list[tuple[AddMessage, list[JournalEntry]]]:
        """The notices, each with what the journal says of it. `passed_on`: the next hop was told what is asked for.

        None goes to an empty reverse-path (RFC 5321 4.5.5); the copy goes all the same, but not about itself.
        """
        message, written = job.message, []
        told = [outcome for outcome in outcomes if self._is_told(outcome, message, now, passed_on=passed_on)]
        if told and message.reverse_path:
            written.append(self._notice(job, told, attempt, message.reverse_path, now))
        failed = [
            outcome
            for outcome in outcomes
            if outcome.state is State.FAILED and outcome.recipient.address != self.copy_to
        ]
        if failed and self.copy_to:
            written.append(self._notice(job, failed, attempt, self.copy_to, now))
        return written

    def text_message(self, subject: str, text: str, now: float, to: str = "", connector: str = "") -> AddMessage:
        """A message through a named connector to an address, by default the postmaster or the address for copies."""
        id, to = self.ids.next(now), to or self.copy_to or self.postmaster
        content = make_text_message(
            server=self.server, sender=self.postmaster, to=to, subject=subject, text=text, id=id_text(id), at=now
        )
        message = self._own(id, now, now + OWN_LIFETIME, content)
        recipient = self._to(to, id, now)
        if connector:
            recipient = recipient._replace(connector=connector, via=connector)
        return AddMessage(message, [recipient], content)

    def own_message(self, content: bytes, to: str, now: float) -> AddMessage:
        """A complete message from this server, for the queue."""
        id = self.ids.next(now)
        return AddMessage(self._own(id, now, now + OWN_LIFETIME, content), [self._to(to, id, now)], content)

    def _to(self, address: str, id: int, now: float) -> Recipient:
        return Recipient(id, 1, address, next_try=now, connector=self.carrier(address, ""), changed=now)

    def _own(
        self,
        id: int,
        now: float,
        expires: float,
        content: bytes,
        *,
        utf8: bool = False,
        esmtp_parameters: str = "",
        priority: int = 0,
    ) -> Message:
        """A message from this server: its reverse-path is empty, so that it is never answered (RFC 5321 4.5.5)."""
        return Message(
            id=id,
            arrived=now,
            expires=expires,
            reverse_path="",
            size=len(content),
            eight_bit=not content.isascii(),
            utf8=utf8,
            message_id=f"<{id_text(id)}.notice@{self.server}>",
            listener="",
            client="",
            hello="",
            user="",
            protocol=PROTOCOL,
            esmtp_parameters=esmtp_parameters,
            priority=priority,
        )

    def _is_told(self, outcome: RecipientOutcome, message: Message, now: float, *, passed_on: bool) -> bool:
        parameters = outcome.recipient.esmtp_parameters
        if outcome.state is State.FAILED:
            return wants(parameters, "FAILURE")
        if outcome.state is State.RELAYED:
            return not passed_on and wants(parameters, "SUCCESS")
        return self.has_become_late(outcome, message, now) and wants(parameters, "DELAY")

    def _notice(
        self, job: Job, told: Sequence[RecipientOutcome], attempt: Attempt, to: str, now: float
    ) -> tuple[AddMessage, list[JournalEntry]]:
        id, about = self.ids.next(now), id_text(job.message.id)
        content = self.compose(self, About(job, told, attempt, to), id, now)
        expires = now + job.message.expires - job.message.arrived
        message = self._own(
            id,
            now,
            expires,
            content,
            utf8=not to.isascii(),
            esmtp_parameters=_demands(job.message),
            priority=job.message.priority,
        )
        return AddMessage(message, [self._to(to, id, now)], content), [
            JournalEntry(at=now, event=Event.NOTICE, message=job.message.id, facts={"notice": id_text(id), "to": to}),
            JournalEntry(at=now, event=Event.ABOUT, message=id, facts={"about": about}),
        ]


def _demands(message: Message) -> str:
    """The message's requirements that hold for its notice, too; with REQUIRETLS it has only the header (RFC 8689 5)."""
    kept = ("REQUIRETLS", f"MT-PRIORITY={message.priority}")  # a notice is as urgent as its message (RFC 6710)
    return " ".join(word for word in message.esmtp_parameters.split() if word in kept)


def make_notices(loaded: Loaded, ids: IdMaker) -> Notices:
    """The notices as the configuration wants them."""
    settings = loaded.settings
    return Notices(
        server=loaded.server_name,
        postmaster=loaded.postmaster,
        ids=ids,
        late_after=settings.retry.notice_after,
        lifetime=settings.retry.lifetime,
        copy_to=settings.retry.notice_copy,
        carrier=Router(settings.connector).carrier,
    )


def _explained(outcome: RecipientOutcome, job: Job, attempt: Attempt) -> NoticeRecipient:
    reply = outcome.reply
    said_there = str(reply) if reply is not None and outcome.cause is Cause.REPLY and attempt.next_hop else ""
    delayed, relayed = outcome.state is State.DELAYED, outcome.state is State.RELAYED
    expired = outcome.state is State.FAILED and (reply is None or not reply.permanent) and not outcome.cause.final
    explanation = f"It was handed to {attempt.next_hop}, which tells nobody what becomes of it there."
    if not relayed:
        explanation = _meaning(outcome, job, attempt)
    return NoticeRecipient(
        address=outcome.recipient.address,
        original=parameter_value(outcome.recipient.esmtp_parameters, "ORCPT"),
        action=outcome.state.value,
        status="4.4.7" if expired else _status(outcome),
        until=job.message.expires if delayed else None,
        explanation=f"It could not be sent within its lifetime. {explanation}" if expired else explanation,
        next_hop=host_of(attempt.next_hop),
        next_hop_address=attempt.address,
        reply=said_there,
    )


def _meaning(outcome: RecipientOutcome, job: Job, attempt: Attempt) -> str:
    facts = {
        "recipient": outcome.recipient.address,
        "next_hop": attempt.next_hop,
        "host": host_of(attempt.next_hop),
        "connector": job.connector,
        "text": outcome.text,
        "id": id_text(job.message.id),
    }
    code, enhanced = (outcome.reply.code, outcome.reply.enhanced) if outcome.reply else (None, "")
    return judge_attempt(outcome.stage, outcome.cause, code, enhanced, facts).meaning


# What stopped it, where no reply says so: subject and detail (RFC 3463 3, RFC 5248).
_DETAILS = {
    Cause.INTERNAL: "3.0",
    Cause.NO_CONNECTOR: "4.4",
    Cause.NAME_NOT_FOUND: "4.4",
    Cause.DOMAIN_NOT_FOUND: "1.2",
    Cause.NAME_LOOKUP_FAILED: "4.3",
    Cause.CONNECTION_REFUSED: "4.1",
    Cause.CONNECTION_TIMED_OUT: "4.1",
    Cause.UNREACHABLE: "4.1",
    Cause.LOST: "4.2",
    Cause.TIMED_OUT: "4.2",
    Cause.UNFINISHED: "4.2",
    Cause.PROTOCOL: "5.0",
    Cause.OUT_OF_STEP: "5.0",
    Cause.SPEAKS_TLS: "5.0",
    Cause.SPEAKS_CLEAR: "5.0",
    Cause.TLS_NOT_OFFERED: "7.10",
    Cause.TLS_REFUSED: "7.10",
    Cause.LOGIN_IN_CLEAR: "7.11",
    Cause.CONTENT_UNREADABLE: "3.0",
    **{cause: "7.5" for cause in Cause if cause.kind & (CauseKind.CERTIFICATE | CauseKind.TLS)},
}


def _status(outcome: RecipientOutcome) -> str:
    """The peer's enhanced code where its class is that of the state, else what we know ourselves (RFC 3464 2.3.4)."""
    kind = {State.RELAYED: "2", State.DELAYED: "4"}.get(outcome.state, "5")
    enhanced = outcome.reply.enhanced if outcome.reply is not None else ""
    if not enhanced and outcome.reply is None and outcome.cause in _DETAILS:
        return f"{kind}.{_DETAILS[outcome.cause]}"
    return f"{kind}{enhanced[1:]}" if enhanced and (enhanced[0] == kind or kind == "4") else f"{kind}.0.0"
