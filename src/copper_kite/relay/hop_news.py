"""Journal entries about the next hops of connectors: when one goes down, when it is back, and its certificate.

Mail may go on by another one, and then no attempt of a message tells of it.
"""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.net import Plan, read_certificate
from copper_kite.relay.hops import Down
from copper_kite.relay.log import Log
from copper_kite.store import JournalEntry, NoteFailure, Operation, Submit, WriteEntry
from copper_kite.words import Event

__all__ = ["note_certificate", "note_hop"]


def note_hop(log: Log, submit: Submit, now: Callable[[], float], connector: str, plan: Plan, down: Down | None) -> None:
    """Log that a next hop went down, or with None that it is back, and have the journal and its connector know.

    It is not tried again where that cannot be written: nothing hangs on it.
    """
    facts = {"connector": connector, "next_hop": plan.where}
    if down is not None:
        failure = down.failure
        facts |= {"stage": failure.stage.value, "cause": failure.cause.value, "text": failure.said}
    event = Event.BACK if down is None else Event.DOWN
    log.write("notice" if down is None else "warning", event.value, **facts)
    operations: list[Operation] = [WriteEntry(JournalEntry(at=now(), event=event, facts=facts))]
    if down is not None:
        operations.append(NoteFailure(connector, now(), f"{plan.where}: {down.failure.said}"))
    submit(operations, lambda error: None)


def note_certificate(submit: Submit, now: Callable[[], float], connector: str, plan: Plan, certificate: bytes) -> None:
    """Record the expiry of a next hop's certificate (DER) in the journal; an unreadable one is left out."""
    try:
        ends = read_certificate(certificate).not_after
    except ValueError:
        return
    facts = {"connector": connector, "next_hop": plan.where, "ends": ends}
    submit([WriteEntry(JournalEntry(at=now(), event=Event.CERTIFICATE, facts=facts))], lambda error: None)
