"""One attempt: a message handed to a next hop, and what becomes of each of its recipients."""

from __future__ import annotations

import random
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from copper_kite.net import Dialogue, PassedOver, Plan, SessionFailed, SessionSeen, StageDone, Tried
from copper_kite.relay.decide import Retry, backoff, classify, retry_at
from copper_kite.relay.job import Job
from copper_kite.relay.network import Session
from copper_kite.relay.notices import Notices
from copper_kite.relay.recipient_outcome import RecipientOutcome
from copper_kite.relay.recorded import Recorded
from copper_kite.relay.recordings import Recordings, kept_lines
from copper_kite.smtp import Reply, Result
from copper_kite.store import (
    Attempt,
    AttemptFacts,
    IdMaker,
    Message,
    PassedOverHop,
    RecipientResult,
    RecordRelayed,
    SessionFacts,
    SetState,
    StageTook,
    TriedAddress,
)
from copper_kite.verdict import side_of
from copper_kite.words import Cause, Side, Stage, State

__all__ = ["AttemptFailure", "HandOver", "Recorder", "Report"]

MAX_REPLY_KEPT = 300  # characters of a reply on the recipient; the attempt keeps all of it


@dataclass(slots=True, kw_only=True)
class AttemptFailure:
    """The place and the reason of a failure, for those recipients that have no reply of their own.

    `until`, in seconds since 1970, is when they may go on, where that is known; `attempted` is False for what only
    waits, without a session: `shown` says for what, where the `reply` is one that others got; `seen` is how far the
    session got.
    """

    stage: Stage
    cause: Cause
    text: str
    reply: Reply | None = None
    until: float | None = None
    attempted: bool = True
    shown: str = ""
    seen: SessionSeen = field(default_factory=SessionSeen)

    @classmethod
    def of(cls, failure: SessionFailed, *, until: float | None = None) -> AttemptFailure:
        """From a session's failure."""
        return cls(
            stage=failure.stage,
            cause=failure.cause,
            text=failure.text,
            reply=failure.reply,
            until=until,
            seen=failure.seen,
        )


# For a recipient that an attempt left without any result: a fault of ours, after which it is tried again.
UNDECIDED = AttemptFailure(stage=Stage.ACCEPT, cause=Cause.INTERNAL, text="the attempt ended without a result for it")


@dataclass(slots=True)
class HandOver:
    """The result of handing one job over; a job with too many recipients becomes two, of which this is the first.

    It `waits` where its content could not be fetched, since the store was away.
    """

    job: Job
    results: tuple[Result, ...] = ()
    stop: AttemptFailure | None = None
    failure: SessionFailed | None = None
    waits: bool = False


class Report(NamedTuple):
    """The result of an attempt. `began` in seconds since 1970, `seconds` long.

    `results` are the replies that decided recipients; `stop` is what happened to the others.
    """

    job: Job
    began: float
    seconds: float
    results: Sequence[Result] = ()
    stop: AttemptFailure | None = None
    session: Session | None = None
    dialogue: Dialogue | None = None


class Recorder:
    """Turns what an attempt found into what is to be recorded of it; `recordings` say whose dialogues are kept although
    all went well."""

    def __init__(self, retry: Retry, ids: IdMaker, notices: Notices, recordings: Recordings | None = None) -> None:
        self._recordings = recordings
        self._retry = retry
        self._ids = ids
        self._notices = notices

    def record(self, report: Report, now: float, plan: Plan | None = None) -> Recorded:
        """The record of one attempt, with the notices that it makes necessary. `now` in seconds since 1970."""
        job, session = report.job, report.session
        outcomes = self._outcomes(job, report.results, report.stop, now)
        if all(
            _waits_on(outcome) and not self._notices.has_become_late(outcome, job.message, now) for outcome in outcomes
        ):
            where = _next_hop(job, session, report.stop)
            return Recorded(states=[_state(outcome, job.connector, where, now) for outcome in outcomes])
        worst = max(outcomes, key=lambda outcome: _RANK[outcome.state])
        attempt = self._attempt(report, outcomes, worst, plan)
        passed_on = session is not None and "DSN" in session.capabilities
        notices = self._notices.after(job, outcomes, attempt, now, passed_on=passed_on)
        return Recorded(
            states=[_state(outcome, job.connector, attempt.next_hop, now) for outcome in outcomes],
            attempt=attempt,
            entries=[entry for _, entries in notices for entry in entries],
            notices=[notice for notice, _ in notices],
        )

    def relayed(self, report: Report, now: float, plan: Plan | None) -> RecordRelayed | None:
        """The record of an attempt by which all went well, as it mostly does; None for any other."""
        job, began, seconds, result, stop, session, _ = report
        if stop is not None or session is None or plan is None or len(result) != len(job.recipients):
            return None
        if job.envelope.rcpt_parameters or job.changed:
            return None  # it may need a notice or a journal entry
        if self._recordings is not None and self._recordings.wants("connector", job.connector):
            return None
        results = []
        for recipient, (_, stage, reply) in zip(job.recipients, result, strict=True):
            if stage is not _ACCEPT or not 200 <= reply.code < 300:
                return None
            results.append((recipient.number, recipient.attempts + 1, recipient.address, str(reply)[:MAX_REPLY_KEPT]))
        return RecordRelayed(
            self._ids.next(began),
            job.message.id,
            began,
            seconds,
            job.connector,
            session.where,
            session.address,
            reply.code,
            reply.enhanced,
            reply.text,
            results,
            _session_facts(session, plan, job.signed),
            now,
            job.whole,
            job.message.arrived,
            job.message.size,
            job.message.user or job.message.client,
        )

    def record_fault(self, report: Report, now: float, plan: Plan | None, words: str) -> Recorded:
        """The record of an attempt whose record `record` could not make: what is known without any notice.

        Whoever was relayed is relayed; all others are tried again, for nobody may fail without his sender being told.
        """
        job = report.job
        stop = AttemptFailure(
            stage=report.stop.stage if report.stop else Stage.ACCEPT, cause=Cause.INTERNAL, text=words
        )
        good = [result for result in report.results if classify(result.stage, result.reply) is State.RELAYED]
        outcomes = self._outcomes(job, good, stop, now)
        for outcome in outcomes:
            if outcome.state is State.FAILED:  # its lifetime is over: once more, so that a notice can be written
                outcome.state, outcome.next_try = State.DELAYED, now + self._retry.waits[-1]
        attempt = Attempt(
            id=self._ids.next(report.began),
            message=job.message.id,
            at=report.began,
            seconds=report.seconds,
            connector=job.connector,
            next_hop=plan.where if plan is not None else "",
            address="",
            stage=stop.stage.value,
            side=Side.HERE.value,
            cause=stop.cause.value,
            code=None,
            enhanced="",
            text=words,
            facts=AttemptFacts(_results(outcomes)),
            dialogue=None,
        )
        states = [_state(outcome, job.connector, attempt.next_hop, now) for outcome in outcomes]
        return Recorded(states=states, attempt=attempt)

    def _outcomes(
        self, job: Job, results: Sequence[Result], stop: AttemptFailure | None, now: float
    ) -> list[RecipientOutcome]:
        decided = {result.recipient: result for result in results}
        outcomes = []
        for recipient in job.recipients:
            result = decided.get(recipient.address)
            if result is not None:
                state = classify(result.stage, result.reply)
                outcome = RecipientOutcome(recipient, state, result.stage, Cause.REPLY, result.reply, result.reply.text)
            else:
                stop = stop or UNDECIDED
                state = State.DELAYED if stop.reply is None else classify(stop.stage, stop.reply)
                state = State.FAILED if stop.cause.final else state
                outcome = RecipientOutcome(
                    recipient, state, stop.stage, stop.cause, stop.reply, stop.text, sent=stop.attempted
                )
                outcome.shown = stop.shown
            if outcome.state is State.DELAYED:
                self._set_next_try(outcome, job.message, stop.until if result is None and stop else None, now)
            outcomes.append(outcome)
        return outcomes

    def _set_next_try(self, outcome: RecipientOutcome, message: Message, until: float | None, now: float) -> None:
        """When a delayed recipient is tried again: not before `until`; it fails when its lifetime is over."""
        expires = message.expires
        if until is not None and not outcome.sent and now < expires:
            late = self._notices.late_at(message.arrived, message.expires)
            until = min(until, expires)
            outcome.next_try = min(until, late) if now < late else until
            return
        attempts = outcome.recipient.attempts + 1
        outcome.next_try = retry_at(now, attempts, expires, self._retry, random.random())
        if outcome.next_try is None:
            outcome.state = State.FAILED
        elif until is not None and now + backoff(attempts, self._retry, 0.0) < until + 1.0:
            outcome.next_try = min(until, expires)  # with the others that wait for this next hop

    def _attempt(
        self, report: Report, outcomes: Sequence[RecipientOutcome], worst: RecipientOutcome, plan: Plan | None
    ) -> Attempt:
        job, stop, session, dialogue = report.job, report.stop, report.session, report.dialogue
        relayed = sum(outcome.state is State.RELAYED for outcome in outcomes)
        reply = worst.reply
        return Attempt(
            id=self._ids.next(report.began),
            message=job.message.id,
            at=report.began,
            seconds=report.seconds,
            connector=job.connector,
            next_hop=_next_hop(job, session, stop),
            address=session.address if session else stop.seen.address if stop else "",
            stage=worst.stage.value,
            side="" if relayed == len(outcomes) else _side(worst, mx=bool(job.domain)).value,
            cause="" if relayed == len(outcomes) else worst.cause.value,
            code=reply.code if reply else None,
            enhanced=reply.enhanced if reply else "",
            text=reply.text if reply else worst.text,
            facts=AttemptFacts(_results(outcomes), _facts_of(session, plan, stop, job.signed), job.changed),
            dialogue=self._dialogue(job.connector, dialogue, good=relayed == len(outcomes)),
        )

    def _dialogue(self, connector: str, dialogue: Dialogue | None, *, good: bool) -> Sequence[Sequence[Any]] | None:
        """The part of the dialogue to keep: all of it where something failed."""
        if dialogue is None:
            return None
        if not good:
            return dialogue.export()
        if self._recordings is not None and self._recordings.keeps("connector", connector):
            return kept_lines(dialogue)
        return None


_ACCEPT = Stage.ACCEPT


def _results(outcomes: Iterable[RecipientOutcome]) -> list[RecipientResult]:
    """The result of each recipient, for the record."""
    return [
        RecipientResult(outcome.recipient.address, outcome.state.value, outcome.stage.value, str(outcome.reply or ""))
        for outcome in outcomes
    ]


def _waits_on(outcome: RecipientOutcome) -> bool:
    """Whether a recipient waits again for the same reason as before, which is already reported."""
    before = outcome.recipient
    again = before.state is State.DELAYED and before.reply == outcome.said[:MAX_REPLY_KEPT]
    return again and not outcome.sent and outcome.state is State.DELAYED


def _next_hop(job: Job, session: Session | None, stop: AttemptFailure | None) -> str:
    """The next hop of an attempt, reached or not."""
    if session is not None:
        return session.where
    return (stop.seen.next_hop if stop is not None else "") or str(job.next_hop or "")


def _facts_of(session: Session | None, plan: Plan | None, stop: AttemptFailure | None, signed: str) -> SessionFacts:
    """The record of the session, or of how far it got."""
    if session is not None and plan is not None:
        return _session_facts(session, plan, signed)
    login, mode = (plan.login, plan.tls) if plan is not None else ("", "")
    seen = stop.seen if stop is not None else SessionSeen()
    passed_over = tuple(map(_passed_over, seen.passed_over))
    return SessionFacts(
        _stages(seen.stages),
        _tried(seen.tried),
        login=login,
        mode=mode,
        policy=seen.policy,
        passed_over=passed_over,
    )


def _session_facts(session: Session, plan: Plan, signed: str) -> SessionFacts:
    """The part of a session that is recorded; its opening is recorded with its first message."""
    opens = session.begun <= 1
    return SessionFacts(
        _stages(session.stages) if opens else (),
        _tried(session.tried) if opens else (),
        session.begun,
        session.tls_version,
        session.cipher,
        session.resumed,
        plan.login,
        session.mechanism,
        plan.tls,
        plan.trust,
        plan.demand.name if plan.demand is not None else "",
        signed,
        tuple(map(_passed_over, session.passed_over)) if session.passed_over else (),
    )


def _passed_over(hop: PassedOver) -> PassedOverHop:
    return PassedOverHop(hop.next_hop, hop.address, hop.stage.value, hop.cause.value, hop.said, hop.since)


def _tried(tried: Iterable[Tried]) -> list[TriedAddress]:
    return [TriedAddress(item.next_hop, item.address, item.stage.value, item.cause.value, item.said) for item in tried]


def _stages(stages: Iterable[StageDone]) -> list[StageTook]:
    return [StageTook(stage.value, round(took, 4), said) for stage, took, said in stages]


_RANK = {State.RELAYED: 0, State.DELAYED: 1, State.FAILED: 2}


def _side(outcome: RecipientOutcome, *, mx: bool) -> Side:
    reply = outcome.reply if outcome.cause is Cause.REPLY else None
    code, enhanced = (reply.code, reply.enhanced) if reply else (None, "")
    return side_of(outcome.stage, outcome.cause, code, enhanced, outcome.text, mx=mx)


def _state(outcome: RecipientOutcome, connector: str, next_hop: str, now: float) -> SetState:
    recipient = outcome.recipient
    return SetState(
        message=recipient.message,
        number=recipient.number,
        state=outcome.state,
        attempts=recipient.attempts + outcome.sent,
        next_try=outcome.next_try,
        connector=connector,
        reply=outcome.said[:MAX_REPLY_KEPT],
        at=now,
        next_hop=next_hop,
    )
