"""The monitoring of a running server: the process beside it, alarms, and reports sent by schedule."""

from __future__ import annotations

import base64
from collections.abc import Callable
from typing import Any

from copper_kite.clock import Clock
from copper_kite.relay.alarms import AlarmEvent, Alarms, CommandRunner
from copper_kite.relay.dispatch import Dispatcher
from copper_kite.relay.monitoring_process import MonitoringProcess
from copper_kite.relay.supervisor import Supervisor
from copper_kite.settings import Loaded
from copper_kite.store import JournalEntry, Submit, WriteEntry
from copper_kite.words import Event

__all__ = ["Monitoring"]


class Monitoring:
    """Connects the monitoring process to the alarms, and both to the mail that they send."""

    def __init__(
        self, loaded: Loaded, dispatcher: Dispatcher, submit: Submit, clock: Clock, supervisor: Supervisor
    ) -> None:
        self._dispatcher = dispatcher
        self._submit = submit
        self._clock = clock
        self._commands = CommandRunner(dispatcher.log, loaded.server_name)
        self._alarms = Alarms(loaded.data, self._notify)
        self.process = MonitoringProcess(supervisor, dispatcher.log, self._on_message)

    def take_up(self, loaded: Loaded) -> None:
        """Use `loaded`; the process has bound its address already."""
        self._alarms.take_up(loaded.settings.alarm)
        self.process.take_up(loaded)

    async def stop(self) -> None:
        """Stop the process and the commands."""
        self.process.stop()
        await self._commands.stop()

    def _on_message(self, message: dict[str, Any]) -> None:
        """A line from the process: the conditions of alarms, or a report that is due."""
        now = self._clock.now()
        self._alarms.update(message.get("alarms", {}), now)
        if "tls_report" in message:
            self._send_tls_report(message["tls_report"], now)
        report = message.get("report", {})
        if "fault" in report:
            self._dispatcher.log.write("error", "report", text=f"it cannot be made: {report['fault']}")
        elif report:
            facts = {"to": report["to"], "period": report["period"]}
            entry = JournalEntry(at=now, event=Event.REPORTED, facts=facts)
            self._dispatcher.own_mail.send_message(base64.b64decode(report["content"]), report["to"], entry)
            self._dispatcher.log.write("notice", "report", **facts)

    def _send_tls_report(self, report: dict[str, Any], now: float) -> None:
        """Send the report on a domain to its addresses, and note what came of those that went by HTTPS."""
        if "fault" in report:
            self._dispatcher.log.write("error", "TLS report", text=f"it cannot be made: {report['fault']}")
            return
        facts = {"domain": report["domain"], "period": report["period"]}
        for to, content in report["messages"].items():
            entry = JournalEntry(at=now, event=Event.TLS_REPORTED, facts={**facts, "to": to})
            self._dispatcher.own_mail.send_message(base64.b64decode(content), to, entry)
        for url, said in report["posted"].items():
            entry = JournalEntry(at=now, event=Event.TLS_REPORTED, facts={**facts, "to": url, "said": said})
            self._submit([WriteEntry(entry)], lambda error: None)
        self._dispatcher.log.write("notice", "TLS report", **facts)

    def send_test(self, name: str) -> None:
        """Send a test event of an alarm."""
        self._alarms.send_test(name, self._clock.now())

    def _notify(self, event: AlarmEvent, done: Callable[[], None]) -> None:
        """Log the event, put it into the journal, and send it by mail and to the command, as the alarm says."""
        alarm = event.alarm
        level = "error" if event.change in ("raised", "repeated") else "notice"
        self._dispatcher.log.write(level, "alarm", name=alarm.name, change=event.change, text=event.sentence)
        if alarm.command:
            self._commands.run(event)
        facts = {"who": "this server", "alarm": alarm.name, "text": f"{alarm.name} {event.change}: {event.sentence}"}
        entry = JournalEntry(at=event.at, event=Event.ALARM, facts=facts)
        if alarm.to:
            self._dispatcher.own_mail.send_text(event.subject, event.sentence, entry, alarm.to, alarm.connector, done)
        else:
            self._submit([WriteEntry(entry)], lambda error: done())
