"""What looks after a running server: the process beside it, its alarms, and how somebody hears of them."""

from __future__ import annotations

import base64
from collections.abc import Callable
from typing import Any

from copper_kite.clock import Clock
from copper_kite.relay.alarms import AlarmNews, Alarms, CommandRunner
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.supervisor import Supervisor
from copper_kite.relay.watch_process import WatchProcess
from copper_kite.settings import Loaded
from copper_kite.store import JournalEntry, Submit, WriteEntry
from copper_kite.words import Event

__all__ = ["Watch"]


class Watch:
    """Watches as the configuration has it."""

    def __init__(
        self, loaded: Loaded, dispatcher: Dispatcher, submit: Submit, clock: Clock, supervisor: Supervisor
    ) -> None:
        self._dispatcher = dispatcher
        self._submit = submit
        self._clock = clock
        self._commands = CommandRunner(dispatcher.log, loaded.server_name)
        self._alarms = Alarms(loaded.data, self._tell)
        self.process = WatchProcess(supervisor, dispatcher.log, self._hear)
        dispatcher.try_alarm = self._try_out

    def take_up(self, loaded: Loaded) -> None:
        """Go by `loaded`, of which the process has bound the address."""
        self._alarms.take_up(loaded.settings.alarm)
        self.process.take_up(loaded)

    async def stop(self) -> None:
        """Watch no more."""
        self.process.stop()
        await self._commands.stop()

    def _hear(self, found: dict[str, Any]) -> None:
        """What the process says: what alarms watch, or a report that is due."""
        now = self._clock.now()
        self._alarms.hear(found.get("alarms", {}), now)
        if (report := found.get("report")) is not None:
            facts = {"to": report["to"], "period": report["period"]}
            entry = JournalEntry(at=now, event=Event.REPORTED, facts=facts)
            self._dispatcher.own_mail.send(base64.b64decode(report["content"]), report["to"], entry)
            self._dispatcher.log.write("notice", "report", **facts)

    def _try_out(self, name: str) -> None:
        self._alarms.try_out(name, self._clock.now())

    def _tell(self, news: AlarmNews, done: Callable[[], None]) -> None:
        """By the command and by mail, as the alarm has it; in the log and in the journal always."""
        alarm = news.alarm
        level = "error" if news.change in ("raised", "repeated") else "notice"
        self._dispatcher.log.write(level, "alarm", name=alarm.name, change=news.change, text=news.sentence)
        if alarm.command:
            self._commands.run(news)
        facts = {"who": "this server", "alarm": alarm.name, "text": f"{news.subject}: {news.sentence}"}
        entry = JournalEntry(at=news.at, event=Event.ALARM, facts=facts)
        if alarm.to:
            self._dispatcher.own_mail.tell(news.subject, news.sentence, entry, alarm.to, alarm.connector, done)
        else:
            self._submit([WriteEntry(entry)], lambda error: done())
