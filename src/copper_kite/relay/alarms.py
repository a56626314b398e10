"""The states of alarms: raised, repeated, cleared; the messages about them, and the commands that they run."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Literal, NamedTuple

from copper_kite.clock import span_text
from copper_kite.relay.log import Log
from copper_kite.settings import Alarm
from copper_kite.store import RaisedAlarm, read_alarms, write_alarms

__all__ = ["AlarmEvent", "Alarms", "CommandRunner"]

COMMAND_SECONDS = 30.0
MOST_IN_SUBJECT = 120  # characters

Change = Literal["raised", "repeated", "cleared", "test"]


class AlarmEvent(NamedTuple):
    """A change of an alarm, for its recipients. `since` and `at` in seconds since 1970."""

    alarm: Alarm
    change: Change
    text: str
    since: float
    at: float

    @property
    def subject(self) -> str:
        """The subject of the mail about it."""
        return {
            "raised": f"Alarm {self.alarm.name}: {self.summary}",
            "repeated": f"Alarm {self.alarm.name} lasts: {self.summary}",
            "cleared": f"Alarm {self.alarm.name} is over",
            "test": f"Alarm {self.alarm.name}: test",
        }[self.change]

    @property
    def summary(self) -> str:
        """The beginning of the text, short enough for a subject."""
        summary = self.text.partition(";")[0].partition(" (")[0]
        return summary if len(summary) <= MOST_IN_SUBJECT else f"{summary[:MOST_IN_SUBJECT]}..."

    @property
    def sentence(self) -> str:
        """The text of the mail about it."""
        lasted = span_text(self.at - self.since)
        return {
            "raised": self.text,
            "repeated": f"For {lasted} now: {self.text}",
            "cleared": f"It lasted {lasted}. It was: {self.text}",
            "test": f"{self.text}. Nothing is wrong: somebody wanted to see whether this arrives.",
        }[self.change]

    def facts(self, server: str) -> dict[str, object]:
        """The event as JSON values, for the alarm's command."""
        return {
            "server": server,
            "alarm": self.alarm.name,
            "when": self.alarm.when,
            "change": self.change,
            "text": self.text,
            "since": self.since,
            "at": self.at,
        }


class Alarms:
    """The state of each alarm, kept in a file across restarts.

    `notify` gets each event, and a function to call when the event is on stable storage. Only then does the alarm count
    as notified, so that a crash in between repeats an event and loses none.
    """

    def __init__(self, folder: Path, notify: Callable[[AlarmEvent, Callable[[], None]], None]) -> None:
        self._folder = folder
        self._notify = notify
        self._alarms: dict[str, Alarm] = {}
        self._raised = {alarm.name: alarm for alarm in read_alarms(folder)}
        self._in_flight: set[str] = set()

    def take_up(self, alarms: Sequence[Alarm]) -> None:
        """Use these alarms; the state of others is forgotten."""
        self._alarms = {alarm.name: alarm for alarm in alarms if alarm.enabled}
        self._set({name: result for name, result in self._raised.items() if name in self._alarms})

    def update(self, conditions: Mapping[str, str], now: float) -> None:
        """Take the result of an evaluation, and send the events that follow from it.

        `conditions` has the text of each alarm's condition by the alarm's name, empty where it does not hold; an alarm
        that could not be evaluated is missing. `now` in seconds since 1970.
        """
        known = {
            name: text for name, text in conditions.items() if name in self._alarms and name not in self._in_flight
        }
        raised = dict(self._raised)
        for name, text in known.items():
            result = raised.get(name)
            if text:
                raised[name] = result._replace(text=text) if result is not None else RaisedAlarm(name, now, None, text)
            elif result is not None and result.notified_at is None:
                del raised[name]
        self._set(raised)
        for name in known.keys() & raised.keys():
            self._notify_if_due(self._alarms[name], raised[name], now, over=not known[name])

    def _notify_if_due(self, alarm: Alarm, raised: RaisedAlarm, now: float, *, over: bool) -> None:
        """Send the event that is due: raised after `after`, repeated after `again`, cleared when it is `over`."""
        if over:
            self._notify_of(AlarmEvent(alarm, "cleared", raised.text, raised.since, now), None)
        elif raised.notified_at is None and now - raised.since >= alarm.after:
            self._notify_of(
                AlarmEvent(alarm, "raised", raised.text, raised.since, now), raised._replace(notified_at=now)
            )
        elif raised.notified_at is not None and now - raised.notified_at >= alarm.again:
            self._notify_of(
                AlarmEvent(alarm, "repeated", raised.text, raised.since, now), raised._replace(notified_at=now)
            )

    def _notify_of(self, event: AlarmEvent, after: RaisedAlarm | None) -> None:
        """Send an event; `after` is the state of the alarm when the event is stored, None for cleared."""
        name = event.alarm.name

        def stored() -> None:
            self._in_flight.discard(name)
            others = {other: result for other, result in self._raised.items() if other != name}
            self._set({**others, name: after} if after is not None else others)

        self._in_flight.add(name)
        self._notify(event, stored)

    def send_test(self, name: str, now: float) -> None:
        """Send a test event of an alarm, if there is an enabled one of this name."""
        alarm = self._alarms.get(name)
        if alarm is not None:
            text = f"This is what the alarm {name} ({alarm.when.replace('_', ' ')}) looks like"
            self._notify(AlarmEvent(alarm, "test", text, now, now), lambda: None)

    def _set(self, raised: dict[str, RaisedAlarm]) -> None:
        if raised != self._raised:
            self._raised = raised
            with contextlib.suppress(OSError):  # on a full disk, an event may be sent twice after a restart
                write_alarms(self._folder, raised.values())


class CommandRunner:
    """Runs the commands of alarms in the background."""

    def __init__(self, log: Log, server: str) -> None:
        self._log = log
        self._server = server
        self._running: set[asyncio.Task[None]] = set()

    def run(self, event: AlarmEvent) -> None:
        """Start the alarm's command."""
        task = asyncio.get_running_loop().create_task(self._run(event))
        self._running.add(task)
        task.add_done_callback(self._running.discard)

    async def stop(self) -> None:
        """Kill those that still run."""
        for task in self._running:
            task.cancel()
        await asyncio.gather(*self._running, return_exceptions=True)

    async def _run(self, event: AlarmEvent) -> None:
        """Run it within COMMAND_SECONDS; its output is discarded, its failure logged."""
        quiet = asyncio.subprocess.DEVNULL
        process = await asyncio.create_subprocess_shell(
            event.alarm.command, stdin=asyncio.subprocess.PIPE, stdout=quiet, stderr=quiet, start_new_session=True
        )
        try:
            async with asyncio.timeout(COMMAND_SECONDS):
                await process.communicate(json.dumps(event.facts(self._server)).encode() + b"\n")
            said = f"its command ended with exit status {process.returncode}" if process.returncode else ""
        except TimeoutError:
            said = f"its command took over {COMMAND_SECONDS:g} s and was ended"
        finally:
            _end_group(process)
        if said:
            self._log.write("warning", "alarm", name=event.alarm.name, text=said)


def _end_group(process: asyncio.subprocess.Process) -> None:
    """Kill the shell and its children."""
    if process.returncode is None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
