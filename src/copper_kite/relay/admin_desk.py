"""Requests of administrators about messages and connectors, carried out when no attempt has the message in hand."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from functools import partial

from copper_kite.clock import Clock
from copper_kite.errors import KiteError, NotFound
from copper_kite.relay.admin_requests import AdminRequests
from copper_kite.relay.backlog import Key
from copper_kite.relay.delivery import Recorder
from copper_kite.relay.log import Log
from copper_kite.relay.recorded import Recorded
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.supply import Supply
from copper_kite.store import (
    AddMessage,
    AdminRequest,
    FinishRequest,
    JournalEntry,
    Recipient,
    RetryNow,
    ServerReads,
    Submit,
    Transaction,
    WriteEntry,
    id_text,
)
from copper_kite.words import Action, Event, State

__all__ = ["AdminDesk"]

RECORD_AGAIN_SECONDS = 1.0


class AdminDesk:
    """Takes requests from the store, message by message. `key` tells a recipient's lane, `offer` takes a notice that is
    durable, `again` has `carry_out` called once more, and `test_alarm` tells of an alarm by its name."""

    def __init__(
        self,
        reader: ServerReads,
        submit: Submit,
        clock: Clock,
        log: Log,
        supervisor: Supervisor,
        supply: Supply,
        key: Callable[[Recipient, str], Key],
        offer: Callable[[AddMessage], None],
        again: Callable[[], None],
        test_alarm: Callable[[str], object] | None,
    ) -> None:
        self._reader = reader
        self._submit = submit
        self._clock = clock
        self._log = log
        self._supervisor = supervisor
        self._supply = supply
        self._key = key
        self._offer = offer
        self._again = again
        self._try_alarm = test_alarm
        self._wants_more = False

    def carry_out(self, recorder: Recorder) -> None:
        """Carry out the open requests; those about a message in hand wait until it no longer is."""
        requests = AdminRequests(recorder, self._reader.content)
        lanes: set[Key] = set()  # that are to be tried now, each once
        wanted: dict[int, list[AdminRequest]] = {}
        for item in self._reader.admin_requests():
            wanted.setdefault(item.message, []).append(item)
        for item in wanted.pop(0, ()):
            do = self._tell_of_alarm if item.action is Action.TEST_ALARM else self._retry_connector
            self._supervisor.run(partial(do, item))
        for id, group in wanted.items():
            if self._supply.is_free(id):
                self._supervisor.run(partial(self._carry_out, requests, id, group, lanes), message=id_text(id))
            else:
                self._wants_more = True
        for key in lanes:
            self._supply.try_now(key)

    def _tell_of_alarm(self, wanted: AdminRequest) -> None:
        self._submit([FinishRequest(wanted.number)], lambda error: None)
        if self._try_alarm is not None:
            self._try_alarm(wanted.target)

    def _retry_connector(self, wanted: AdminRequest) -> None:
        """Try now what waits for a connector, whatever is remembered of its next hops."""
        now, name = self._clock.now(), wanted.target
        facts: dict[str, object] = {"action": wanted.action.value, "who": wanted.who, "recipients": [], "to": name}
        entry = JournalEntry(at=now, event=Event.ORDERED, facts=facts)
        self._supply.try_connector(name)
        operations: Transaction = [FinishRequest(wanted.number), RetryNow(name, now), WriteEntry(entry)]
        self._submit(operations, lambda error: self._supply.retry_now(now))
        self._log.write("notice", "ordered", **{**facts, "recipients": "all"})

    def _carry_out(self, requests: AdminRequests, id: int, group: Sequence[AdminRequest], lanes: set[Key]) -> None:
        recorded = Recorded(others=[FinishRequest(item.number) for item in group])
        with contextlib.suppress(NotFound):
            message, recipients = self._reader.recipients(id)
            recorded = requests.carry_out(message, recipients, group, self._clock.now())
            queued = {state.number for state in recorded.states if state.state is State.QUEUED}
            for recipient in recipients:
                if recipient.number in queued:
                    lanes.add(self._key(recipient, message.reverse_path))
        self._supply.withhold(id)
        self._submit(recorded.transaction(), partial(self._done, id, recorded))

    def _done(self, id: int, recorded: Recorded, error: KiteError | None) -> None:
        self._supply.let_go(id)
        if error is not None:
            self._supervisor.later(RECORD_AGAIN_SECONDS, self._again)
            return
        for entry in (entry for entry in recorded.entries if entry.event is Event.ORDERED):
            facts = {**entry.facts, "recipients": len(entry.facts["recipients"])}
            self._log.write("notice", "ordered", id=id_text(id), **facts)
        for notice in recorded.notices:
            self._offer(notice)

    def freed(self, free: bool) -> None:
        """Where a message is `free` now, an administrator may have waited for it."""
        if free and self._wants_more:
            self._wants_more = False
            self._supervisor.soon(self._again)
