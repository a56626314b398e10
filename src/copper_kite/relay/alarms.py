"""When an alarm is raised, repeated and cleared, and how somebody hears of it: by mail, by a command, in the log."""

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

__all__ = ["AlarmNews", "Alarms", "CommandRunner"]

COMMAND_SECONDS = 30.0

Change = Literal["raised", "repeated", "cleared", "tried"]


class AlarmNews(NamedTuple):
    """Something about an alarm that somebody is to hear. `since` and `at` in seconds since 1970."""

    alarm: Alarm
    change: Change
    text: str
    since: float
    at: float

    @property
    def subject(self) -> str:
        """In a line."""
        return {
            "raised": f"Alarm {self.alarm.name}",
            "repeated": f"Alarm {self.alarm.name} lasts",
            "cleared": f"Alarm {self.alarm.name} is over",
            "tried": f"Alarm {self.alarm.name}: a trial",
        }[self.change]

    @property
    def sentence(self) -> str:
        """In a sentence or two."""
        lasted = span_text(self.at - self.since)
        return {
            "raised": self.text,
            "repeated": f"{self.text} (for {lasted} now)",
            "cleared": f"It lasted {lasted}. It was: {self.text}",
            "tried": f"{self.text}. Nothing is wrong: somebody wanted to see whether this arrives.",
        }[self.change]

    def facts(self, server: str) -> dict[str, object]:
        """For a program."""
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
    """Remembers what is so, over a restart too. `tell` is called with what somebody is to hear, and with what to call
    when that is kept: only then does the alarm count as told."""

    def __init__(self, folder: Path, tell: Callable[[AlarmNews, Callable[[], None]], None]) -> None:
        self._folder = folder
        self._tell = tell
        self._alarms: dict[str, Alarm] = {}
        self._raised = {one.name: one for one in read_alarms(folder)}
        self._on_the_way: set[str] = set()

    def take_up(self, alarms: Sequence[Alarm]) -> None:
        """Go by these; of those that are gone, nobody hears any more."""
        self._alarms = {alarm.name: alarm for alarm in alarms if alarm.enabled}
        self._set({name: one for name, one in self._raised.items() if name in self._alarms})

    def hear(self, found: Mapping[str, str], now: float) -> None:
        """What is so at this moment, in words, by the name of the alarm: empty when it is not, not there when nobody
        knows. `now` in seconds since 1970."""
        known = {name: text for name, text in found.items() if name in self._alarms and name not in self._on_the_way}
        raised = dict(self._raised)
        for name, text in known.items():
            one = raised.get(name)
            if text:
                raised[name] = one._replace(text=text) if one is not None else RaisedAlarm(name, now, None, text)
            elif one is not None and one.told_at is None:
                del raised[name]
        self._set(raised)
        for name in known.keys() & raised.keys():
            self._consider(self._alarms[name], raised[name], now, over=not known[name])

    def _consider(self, alarm: Alarm, one: RaisedAlarm, now: float, *, over: bool) -> None:
        """Tell of what is so, if it has lasted, and not been told of lately; and of what is `over`."""
        if over:
            self._tell_of(AlarmNews(alarm, "cleared", one.text, one.since, now), None)
        elif one.told_at is None and now - one.since >= alarm.after:
            self._tell_of(AlarmNews(alarm, "raised", one.text, one.since, now), one._replace(told_at=now))
        elif one.told_at is not None and now - one.told_at >= alarm.again:
            self._tell_of(AlarmNews(alarm, "repeated", one.text, one.since, now), one._replace(told_at=now))

    def _tell_of(self, news: AlarmNews, after: RaisedAlarm | None) -> None:
        """`after` is how the alarm stands when it is told."""
        name = news.alarm.name

        def kept() -> None:
            self._on_the_way.discard(name)
            others = {other: one for other, one in self._raised.items() if other != name}
            self._set({**others, name: after} if after is not None else others)

        self._on_the_way.add(name)
        self._tell(news, kept)

    def try_out(self, name: str, now: float) -> bool:
        """Tell of an alarm as if it were raised; whether there is one of this name."""
        alarm = self._alarms.get(name)
        if alarm is not None:
            text = f"This is what the alarm {name} ({alarm.when.replace('_', ' ')}) looks like"
            self._tell(AlarmNews(alarm, "tried", text, now, now), lambda: None)
        return alarm is not None

    def _set(self, raised: dict[str, RaisedAlarm]) -> None:
        if raised != self._raised:
            self._raised = raised
            with contextlib.suppress(OSError):  # with no room for it, somebody may hear twice after a restart
                write_alarms(self._folder, raised.values())


class CommandRunner:
    """Runs commands of alarms, each on its own."""

    def __init__(self, log: Log, server: str) -> None:
        self._log = log
        self._server = server
        self._running: set[asyncio.Task[None]] = set()

    def run(self, news: AlarmNews) -> None:
        """Start the alarm's command."""
        task = asyncio.get_running_loop().create_task(self._run(news))
        self._running.add(task)
        task.add_done_callback(self._running.discard)

    async def stop(self) -> None:
        """End what still runs."""
        for task in self._running:
            task.cancel()
        await asyncio.gather(*self._running, return_exceptions=True)

    async def _run(self, news: AlarmNews) -> None:
        """Its own words are not kept: where they are wanted, the command writes them somewhere."""
        quiet = asyncio.subprocess.DEVNULL
        process = await asyncio.create_subprocess_shell(
            news.alarm.command, stdin=asyncio.subprocess.PIPE, stdout=quiet, stderr=quiet, start_new_session=True
        )
        try:
            async with asyncio.timeout(COMMAND_SECONDS):
                await process.communicate(json.dumps(news.facts(self._server)).encode() + b"\n")
            said = f"its command ended with exit status {process.returncode}" if process.returncode else ""
        except TimeoutError:
            said = f"its command took over {COMMAND_SECONDS:g} s and was ended"
        finally:
            _end_group(process)
        if said:
            self._log.write("warning", "alarm", name=news.alarm.name, text=said)


def _end_group(process: asyncio.subprocess.Process) -> None:
    """End the shell and what it started."""
    if process.returncode is None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
