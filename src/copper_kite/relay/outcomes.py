"""A line of the log for each recipient, as an attempt left it."""

from __future__ import annotations

from copper_kite.mail.received import format_date
from copper_kite.relay.job import Job
from copper_kite.relay.log import Log
from copper_kite.store import Attempt, Change, Relayed, id_text
from copper_kite.words import Stage, State

__all__ = ["log_change", "log_relayed"]

_LEVELS = {State.RELAYED: "info", State.DELAYED: "notice", State.FAILED: "warning"}


def log_change(log: Log, job: Job, change: Change) -> None:
    """What the one attempt in a change did; that a recipient waits without an attempt is hardly news."""
    for outcome, recipient in zip(change.outcomes, job.recipients, strict=True) if change.attempts else ():
        waits = outcome.state is State.DELAYED and outcome.attempts == recipient.attempts
        level = "info" if waits else _LEVELS[outcome.state]
        if log.wants(level):
            attempt, until = change.attempts[0], outcome.next_try
            _write(log, level, outcome.state, job, recipient.address, attempt, outcome.reply, until)


def log_relayed(log: Log, job: Job, relayed: Relayed) -> None:
    """The same for what was relayed to all."""
    if log.wants(_LEVELS[State.RELAYED]):
        for _, _, address, reply in relayed.results:
            _write(log, _LEVELS[State.RELAYED], State.RELAYED, job, address, relayed, reply, None)


def _write(
    log: Log,
    level: str,
    state: State,
    job: Job,
    address: str,
    attempt: Attempt | Relayed,
    reply: str,
    next_try: float | None,
) -> None:
    log.write(
        level,
        state.value,
        id=id_text(job.message.id),
        recipient=address,
        connector=attempt.connector,
        next_hop=attempt.next_hop,
        stage=attempt.stage if isinstance(attempt, Attempt) else Stage.ACCEPT.value,
        reply=reply,
        seconds=f"{attempt.seconds:.3f}",
        next_try=None if next_try is None else format_date(next_try),
    )
