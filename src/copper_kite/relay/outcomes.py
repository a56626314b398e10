"""A line of the log for each recipient, as an attempt left it."""

from __future__ import annotations

from copper_kite.mail import format_date
from copper_kite.relay.job import Job
from copper_kite.relay.log import Log
from copper_kite.relay.recorded import Recorded
from copper_kite.store import Attempt, RecordRelayed, id_text
from copper_kite.words import Stage, State

__all__ = ["log_recorded", "log_relayed"]

_LEVELS = {State.RELAYED: "info", State.DELAYED: "notice", State.FAILED: "warning"}


def log_recorded(log: Log, job: Job, recorded: Recorded) -> None:
    """Log each recipient of an attempt; the level is lower for one that waits without an attempt of its own."""
    attempt = recorded.attempt
    if attempt is None:
        return
    for state, recipient in zip(recorded.states, job.recipients, strict=True):
        waits = state.state is State.DELAYED and state.attempts == recipient.attempts
        level = "info" if waits else _LEVELS[state.state]
        if log.wants(level):
            _write(log, level, state.state, job, recipient.address, attempt, state.reply, state.next_try)


def log_relayed(log: Log, job: Job, relayed: RecordRelayed) -> None:
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
    attempt: Attempt | RecordRelayed,
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
