"""One attempt: a message handed to a next hop, and what becomes of each of its recipients."""

from __future__ import annotations

import random
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

from copper_kite.errors import SessionFailed
from copper_kite.mail.header import header_end
from copper_kite.mail.notice import NoticeRecipient, make_notice
from copper_kite.net.client import ClientSession
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.plan import Plan
from copper_kite.relay.decide import Retry, classify, retry_at
from copper_kite.settings.units import Endpoint
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.transaction import Envelope, Result, misfit
from copper_kite.store.ids import IdMaker, id_text
from copper_kite.store.model import Attempt, Change, JournalEntry, Message, Outcome, Recipient
from copper_kite.verdict.judge import judge, side_of
from copper_kite.words import DOMAIN_CAUSES, FINAL, Cause, Event, Stage, State

__all__ = ["Fresh", "Job", "Recorder", "Report", "Stop", "unfit"]

MAX_REPLY_KEPT = 300  # characters of a reply on the recipient; the attempt keeps all of it


@dataclass(slots=True)
class Fresh:
    """A message just made durable. `content` is None when it is too large to be kept in memory."""

    message: Message
    recipients: list[Recipient]
    content: bytes | None


@dataclass(slots=True)
class Job:
    """What one attempt is to carry: a message to those of its recipients that share a connector."""

    message: Message
    recipients: list[Recipient]
    connector: str  # empty when none carries them
    next_hop: Endpoint | None
    content: Callable[[], Iterable[bytes]]
    domain: str = ""  # of the recipients, where that decides the next hop
    whole: bool = False  # these are all the recipients that the message has, and its content is a single portion
    envelope: Envelope = field(init=False)

    def __post_init__(self) -> None:
        message = self.message
        self.envelope = Envelope(
            message.reverse_path,
            tuple(recipient.address for recipient in self.recipients),
            message.size,
            message.eight_bit,
            message.utf8,
            message.asked,
            tuple(each) if any(each := [recipient.asked for recipient in self.recipients]) else (),
        )

    def divided(self, apart: Collection[str]) -> tuple[Job, Job]:
        """The same without the recipients `apart`, and one with them alone."""
        ours = [recipient for recipient in self.recipients if recipient.address not in apart]
        theirs = [recipient for recipient in self.recipients if recipient.address in apart]
        return replace(self, recipients=ours, whole=False), replace(self, recipients=theirs, whole=False)


@dataclass(slots=True, kw_only=True)
class Stop:
    """Where and why something stopped, for those recipients that have no reply of their own."""

    stage: Stage
    cause: Cause
    text: str
    reply: Reply | None = None
    facts: dict[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, failure: SessionFailed) -> Stop:
        """From a session's failure."""
        return cls(
            stage=failure.stage, cause=failure.cause, text=failure.text, reply=failure.reply, facts=failure.facts
        )


def unfit(envelope: Envelope, capabilities: Capabilities, *, proven: bool) -> Stop | None:
    """Why this next hop cannot take the message, known before anything is sent; `proven` as in `misfit`."""
    if (found := misfit(envelope, capabilities, proven=proven)) is None:
        return None
    cause, reply = found
    return Stop(stage=Stage.SENDER, cause=cause, text=reply.text, reply=reply)


class Report(NamedTuple):
    """What an attempt found. `began` in seconds since 1970, `seconds` long.

    `results` are the replies that decided recipients; `stop` is what happened to the others.
    """

    job: Job
    began: float
    seconds: float
    results: Sequence[Result] = ()
    stop: Stop | None = None
    session: ClientSession | None = None
    dialogue: Dialogue | None = None


@dataclass(slots=True)
class _Fate:
    """What became of one recipient: its state and the words that say why."""

    recipient: Recipient
    state: State
    stage: Stage
    cause: Cause
    reply: Reply | None
    text: str
    next_try: float | None = None
    sent: bool = True  # whether this was an attempt, and not only a wait

    @property
    def said(self) -> str:
        return str(self.reply) if self.reply is not None else self.text


class Recorder:
    """Turns what an attempt found into the change that records it."""

    def __init__(self, server: str, retry: Retry, ids: IdMaker, postmaster: str, notice_after: float) -> None:
        self._server = server
        self._retry = retry
        self._ids = ids
        self._postmaster = postmaster
        self._notice_after = notice_after  # seconds from arrival to the notice that a message is late

    def record(self, report: Report, now: float, plan: Plan | None = None) -> tuple[Change, Fresh | None]:
        """The change for one attempt, and the notice that it makes necessary, to be handed on once it is durable.

        `now` in seconds since 1970.
        """
        job, session = report.job, report.session
        if report.stop is None and session is not None and plan is not None and _all_relayed(report):
            return self._relayed(report, now, session, plan), None
        fates = self._fates(job, report.results, report.stop, now)
        if all(_waits_on(fate) and not self._has_become_late(fate, job.message, now) for fate in fates):
            return Change(outcomes=[_outcome(fate, job.connector, now) for fate in fates]), None
        worst = max(fates, key=lambda fate: _RANK[fate.state])
        attempt = self._attempt(report, fates, worst, plan)
        notice = self._notice(job, fates, attempt, now)
        change = Change(
            outcomes=[_outcome(fate, job.connector, now) for fate in fates],
            attempts=[attempt],
            finished=[job.message.id] if job.whole and all(fate.state in FINAL for fate in fates) else (),
        )
        if notice is None:
            return change, None
        fresh, change.journal = notice
        change.messages, change.recipients = [fresh.message], fresh.recipients
        change.content = [(fresh.message.id, 0, fresh.content or b"")]
        return change, fresh

    def _relayed(self, report: Report, now: float, session: ClientSession, plan: Plan) -> Change:
        """All went well, as it mostly does: the same record by the short way."""
        job = report.job
        connector, outcomes, results, said = job.connector, [], [], ""
        for recipient, result in zip(job.recipients, report.results, strict=True):
            said = str(result.reply)
            results.append([recipient.address, _RELAYED.value, result.stage.value, said])
            outcomes.append(
                Outcome(
                    recipient.message,
                    recipient.number,
                    _RELAYED,
                    recipient.attempts + 1,
                    None,
                    connector,
                    said[:MAX_REPLY_KEPT],
                    now,
                )
            )
        reply = report.results[-1].reply
        attempt = Attempt(
            self._ids.next(report.began),
            job.message.id,
            report.began,
            report.seconds,
            connector,
            session.plan.where,
            session.address,
            _ACCEPT,
            "",
            "",
            reply.code,
            reply.enhanced,
            reply.text,
            {"relayed": len(results), "results": results, **_session_facts(session, plan)},
            None,
        )
        return Change(outcomes=outcomes, attempts=[attempt], finished=[job.message.id] if job.whole else ())

    def _fates(self, job: Job, results: Sequence[Result], stop: Stop | None, now: float) -> list[_Fate]:
        decided = {result.recipient: result for result in results}
        fates = []
        for recipient in job.recipients:
            result = decided.get(recipient.address)
            if result is not None:
                state = classify(result.stage, result.reply)
                fate = _Fate(recipient, state, result.stage, Cause.REPLY, result.reply, result.reply.text)
            else:
                assert stop is not None
                state = State.DELAYED if stop.reply is None else classify(stop.stage, stop.reply)
                state = State.FAILED if stop.cause in DOMAIN_CAUSES else state
                sent = "unsent" not in stop.facts
                fate = _Fate(recipient, state, stop.stage, stop.cause, stop.reply, stop.text, sent=sent)
            if stop is not None and result is None and "until" in stop.facts and now < job.message.expires:
                late = job.message.arrived + self._notice_after  # when the sender is to hear of it, tried or not
                until = min(stop.facts["until"], job.message.expires)
                fate.next_try = min(until, late) if now < late else until
            elif fate.state is State.DELAYED:
                attempts = recipient.attempts + 1
                fate.next_try = retry_at(now, attempts, job.message.expires, self._retry, random.random())
                if fate.next_try is None:
                    fate.state = State.FAILED
            fates.append(fate)
        return fates

    def _attempt(self, report: Report, fates: Sequence[_Fate], worst: _Fate, plan: Plan | None) -> Attempt:
        job, stop, session, dialogue = report.job, report.stop, report.session, report.dialogue
        relayed = sum(fate.state is State.RELAYED for fate in fates)
        reply = worst.reply
        facts: dict[str, Any] = {
            "relayed": relayed,
            "results": [
                [fate.recipient.address, fate.state.value, fate.stage.value, str(fate.reply) if fate.reply else ""]
                for fate in fates
            ],
        }
        if session is not None and plan is not None:
            facts |= _session_facts(session, plan)
        else:
            facts["stages"] = _stages(stop.facts.get("stages", []) if stop is not None else [])
            if plan is not None:
                facts["login"], facts["mode"] = plan.login, plan.tls
        return Attempt(
            id=self._ids.next(report.began),
            message=job.message.id,
            at=report.began,
            seconds=report.seconds,
            connector=job.connector,
            next_hop=_next_hop(job, session, stop),
            address=session.address if session else str(stop.facts.get("address", "")) if stop else "",
            stage=worst.stage.value,
            side="" if relayed == len(fates) else _side(worst).value,
            cause="" if relayed == len(fates) else worst.cause.value,
            code=reply.code if reply else None,
            enhanced=reply.enhanced if reply else "",
            text=reply.text if reply else worst.text,
            facts=facts,
            dialogue=None if relayed == len(fates) or dialogue is None else dialogue.export(),
        )

    def _notice(
        self, job: Job, fates: Sequence[_Fate], attempt: Attempt, now: float
    ) -> tuple[Fresh, list[JournalEntry]] | None:
        """The notice about recipients that failed or are late; none for an empty reverse-path (RFC 5321 4.5.5)."""
        told = [fate for fate in fates if fate.state is State.FAILED or self._has_become_late(fate, job.message, now)]
        if not told or not job.message.reverse_path:
            return None
        id = self._ids.next(now)
        first = next(iter(job.content()), b"")
        content = make_notice(
            server=self._server,
            postmaster=self._postmaster,
            reverse_path=job.message.reverse_path,
            id=id_text(id),
            original_id=id_text(job.message.id),
            arrived=job.message.arrived,
            at=now,
            original_header=first[: header_end(first)],
            recipients=[self._explained(fate, job, attempt) for fate in told],
        )
        lifetime = job.message.expires - job.message.arrived
        message = Message(
            id=id,
            arrived=now,
            expires=now + lifetime,
            reverse_path="",
            size=len(content),
            eight_bit=False,
            utf8=False,
            message_id=f"<{id_text(id)}.notice@{self._server}>",
            listener="",
            client="",
            hello="",
            user="",
            protocol="notice",
        )
        recipients = [Recipient(message=id, number=1, address=job.message.reverse_path, next_try=now, changed=now)]
        about = {"notice": id_text(id), "to": job.message.reverse_path}
        return Fresh(message, recipients, content), [
            JournalEntry(at=now, event=Event.NOTICE, message=job.message.id, facts=about),
            JournalEntry(at=now, event=Event.ABOUT, message=id, facts={"about": id_text(job.message.id)}),
        ]

    def _has_become_late(self, fate: _Fate, message: Message, now: float) -> bool:
        """Whether the sender is to hear now, and had not to before, that a recipient waits (RFC 3461 5.2.5)."""
        late = message.arrived + self._notice_after
        return fate.state is State.DELAYED and fate.recipient.changed < late <= now

    def _explained(self, fate: _Fate, job: Job, attempt: Attempt) -> NoticeRecipient:
        reply = fate.reply
        facts = {
            "recipient": fate.recipient.address,
            "next_hop": attempt.next_hop,
            "host": job.next_hop.host if job.next_hop else "",
            "connector": job.connector,
            "text": fate.text,
            "id": id_text(job.message.id),
        }
        code, enhanced = (reply.code, reply.enhanced) if reply else (None, "")
        delayed = fate.state is State.DELAYED
        expired = not delayed and (reply is None or not reply.permanent) and fate.cause not in DOMAIN_CAUSES
        meaning = judge(fate.stage, fate.cause, code, enhanced, facts).meaning
        if expired:
            meaning = f"It could not be sent within its lifetime. {meaning}"
        remote = reply is not None and fate.cause is Cause.REPLY
        enhanced = enhanced or ("5.1.2" if fate.cause is Cause.DOMAIN_NOT_FOUND else "")
        status = "4.4.7" if expired else enhanced or ("4.0.0" if delayed else "5.0.0")
        return NoticeRecipient(
            address=fate.recipient.address,
            action="delayed" if delayed else "failed",
            status=f"4{status[1:]}" if delayed else status,
            until=job.message.expires if delayed else None,
            explanation=meaning,
            next_hop=job.next_hop.host if job.next_hop else "",
            reply=str(reply) if remote else "",
        )


_RELAYED, _ACCEPT = State.RELAYED, Stage.ACCEPT.value


def _all_relayed(report: Report) -> bool:
    every = len(report.results) == len(report.job.recipients)
    return every and all(classify(stage, reply) is _RELAYED for _, stage, reply in report.results)


def _waits_on(fate: _Fate) -> bool:
    """Whether a recipient only waits again, for what it waited for before: that is told already."""
    before = fate.recipient
    again = before.state is State.DELAYED and before.reply == fate.said[:MAX_REPLY_KEPT]
    return again and not fate.sent and fate.state is State.DELAYED


def _next_hop(job: Job, session: ClientSession | None, stop: Stop | None) -> str:
    """Whom an attempt was with, or was to be with."""
    if session is not None:
        return session.plan.where
    return str((stop.facts.get("next_hop") if stop is not None else None) or job.next_hop or "")


def _session_facts(session: ClientSession, plan: Plan) -> dict[str, Any]:
    """What an attempt's record keeps of its session; its opening is told with its first message."""
    return {
        "stages": _stages(session.stages) if session.messages <= 1 else [],
        "tls": session.tls_version,
        "cipher": session.cipher,
        "message_of_session": session.messages,
        "login": plan.login,
        "mechanism": session.mechanism,
        "mode": plan.tls,
        "trust": plan.trust,
    }


def _stages(stages: Iterable[tuple[Stage, float, str]]) -> list[list[Any]]:
    return [[stage.value, round(took, 4), said] for stage, took, said in stages]


_RANK = {State.RELAYED: 0, State.DELAYED: 1, State.FAILED: 2}


def _side(fate: _Fate) -> Any:
    reply = fate.reply if fate.cause is Cause.REPLY else None
    return side_of(fate.stage, fate.cause, reply.code if reply else None, reply.enhanced if reply else "")


def _outcome(fate: _Fate, connector: str, now: float) -> Outcome:
    recipient = fate.recipient
    return Outcome(
        message=recipient.message,
        number=recipient.number,
        state=fate.state,
        attempts=recipient.attempts + fate.sent,
        next_try=fate.next_try,
        connector=connector,
        reply=fate.said[:MAX_REPLY_KEPT],
        at=now,
    )
