"""Playing a session script: step by step, until an expectation fails or the session stops where none was expected."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from copper_kite.errors import EngineMisuse, InputError, KiteError
from copper_kite.mail import normalise_line_ends, padding
from copper_kite.net import Dialogue, Plan, SessionFailed
from copper_kite.session.expecting import Expectation, parse_expectation
from copper_kite.session.interactive_session import InteractiveSession
from copper_kite.session.probe import verdict_on_stop
from copper_kite.session.script import Script, Step, expand
from copper_kite.settings import Credential, parse_duration, parse_endpoint, parse_size
from copper_kite.verdict import Verdict
from copper_kite.words import Cause, Side, Stage

__all__ = ["Failed", "Played", "play_script"]

MAX_TURNS = 100_000
MAX_CONTENT = 1024**3  # octets of a message made up here
_CONNECT = re.compile(r"(?:to (\S+))?\s*(with TLS)?")
_ESCAPE = re.compile(rb"\\(?:([rnt0\\\"])|x([0-9A-Fa-f]{2}))")
_ESCAPES = {b"r": b"\r", b"n": b"\n", b"t": b"\t", b"0": b"\0", b"\\": b"\\", b'"': b'"'}


class Failed(KiteError):
    """Raised when a script does not go as it says: at which step, what was expected, what came instead."""

    def __init__(
        self,
        step: Step,
        expected: str,
        came: str,
        session: InteractiveSession | None = None,
        failure: SessionFailed | None = None,
    ) -> None:
        super().__init__(f"line {step.line}: expected {expected}, came {came}")
        self.step = step
        self.expected = expected
        self.came = came
        self.reply = session.reply if session is not None else None
        self.stage = session.asked if session is not None else Stage.CONNECT
        self.failure = failure


@dataclass(frozen=True, slots=True, kw_only=True)
class Played:
    """The result of a script. `outcome`: `ok`, `FAILED`, `known` (a known fault, still there) or `mended`."""

    script: Script
    outcome: str
    seconds: float
    expectations: int
    dialogue: Dialogue
    failed: Failed | None = None
    verdict: Verdict | None = None

    @property
    def good(self) -> bool:
        """Whether the result is as expected: a known fault may fail, and is reported when it no longer does."""
        return self.outcome in ("ok", "known")


@dataclass(slots=True)
class _Counted:
    """The count that the sessions of one script share."""

    expectations: int = 0


async def play_script(
    script: Script,
    plan: Plan,
    given: Mapping[str, str],
    credentials: Mapping[str, Credential],
    facts: Mapping[str, Any],
) -> Played:
    """Play a script against the server of `plan`, unless it connects elsewhere. `given` are variables.

    Raises InputError for a script that cannot be played: a variable without value, a file that is not there.
    """
    loop = asyncio.get_running_loop()
    began, dialogue, counted = loop.time(), Dialogue(loop.time()), _Counted()
    variables = _variables(script, plan, given)
    player = _Player(script, plan, variables, credentials, dialogue, counted)
    failed: Failed | None = None
    try:
        await player.play(script.steps)
    except Failed as error:
        failed = error
    finally:
        await player.leave()
    outcome = ("known" if failed else "mended") if script.known_fault is not None else ("FAILED" if failed else "ok")
    return Played(
        script=script,
        outcome=outcome,
        seconds=loop.time() - began,
        expectations=counted.expectations,
        dialogue=dialogue,
        failed=failed,
        verdict=_verdict(failed, player.plan, facts) if failed else None,
    )


def _variables(script: Script, plan: Plan, given: Mapping[str, str]) -> dict[str, str]:
    known = {"host": plan.host, "port": str(plan.port), "server": plan.where, "name": plan.name}
    for name, value in script.variables.items():
        known[name] = value
    known |= given
    for name, value in known.items():
        if name in script.variables and name not in given:
            known[name] = expand(value, known)
    missing = [name for name in script.needs if name not in known]
    if missing:
        settings = "; ".join(
            f"--set {name}=… ({script.needs[name]})" if script.needs[name] else name for name in missing
        )
        raise InputError(f"{script.path.name} needs {settings}", usage=True)
    return known


class _Player:
    """One session of one script."""

    def __init__(
        self,
        script: Script,
        plan: Plan,
        variables: dict[str, str],
        credentials: Mapping[str, Credential],
        dialogue: Dialogue,
        counted: _Counted,
    ) -> None:
        self.plan = plan
        self._script = script
        self._variables = variables
        self._credentials = credentials
        self._dialogue = dialogue
        self._counted = counted
        self._session: InteractiveSession | None = None
        self._words: dict[str, Callable[[Step], Awaitable[None]]] = {
            "connect": self._connect,
            "hello": self._hello,
            "secure": self._secure,
            "login": self._login,
            "say": self._say,
            "answer": self._say,
            "octets": self._octets,
            "hear": self._read_reply,
            "content": self._content,
            "wait": self._wait,
            "expect": self._expect,
            "close": self._close,
            "cut": self._cut,
            "together": self._together,
            "if": self._if,
            "repeat": self._repeat,
            "at once": self._at_once,
        }

    async def play(self, steps: Sequence[Step]) -> None:
        """Step by step. Raises Failed, InputError."""
        place = 0
        while place < len(steps):
            step = steps[place]
            place += 1
            following = steps[place] if place < len(steps) else None
            stop = self._stop_expected(following)
            self._dialogue.trim()
            try:
                await self._words[step.word](step)
            except SessionFailed as failure:
                self._session = None
                if stop is None or following is None:
                    came = f"stopped at {failure.stage.value}: {failure.text}"
                    raise Failed(step, "to go on", came, failure=failure) from failure
                self._check_stop(following, stop, failure)
                place += 1
            except EngineMisuse as error:
                raise Failed(step, "its turn", f"not now: {error}") from error
            else:
                if stop is not None and following is not None:
                    raise Failed(following, stop.text, "it went on", self._session)

    def _stop_expected(self, step: Step | None) -> Expectation | None:
        if step is None or step.word != "expect" or not step.rest.startswith("stop"):
            return None
        return self._parsed(step)

    def _check_stop(self, step: Step, wanted: Expectation, failure: SessionFailed) -> None:
        self._counted.expectations += 1
        right_stage = wanted.stage is None or wanted.stage is failure.stage
        if not right_stage or wanted.cause.lower() not in f"{failure.cause.value}: {failure.text}".lower():
            came = f"stop at {failure.stage.value}: {failure.cause.value}: {failure.text}"
            raise Failed(step, wanted.text, came, failure=failure)

    def _text(self, step: Step) -> str:
        known = dict(self._variables)
        if self._session is not None:
            known |= {f"offer.{key}": " ".join(values) for key, values in self._session.offers.items()}
            known["reply"] = self._session.reply.text if self._session.reply is not None else ""
        try:
            return expand(step.rest, known)
        except InputError as error:
            raise self._bad(step, str(error)) from error

    def _parsed(self, step: Step) -> Expectation:
        try:
            return parse_expectation(self._text(step))
        except ValueError as error:
            raise self._bad(step, str(error)) from error

    def _bad(self, step: Step, problem: str) -> InputError:
        return InputError(f"{self._script.path}:{step.line}: {problem}", usage=True)

    def _open(self, step: Step) -> InteractiveSession:
        if self._session is None:
            raise self._bad(step, f"{step.word} needs a session; connect first")
        return self._session

    # --- the words --------------------------------------------------------------------------------------------------

    async def _connect(self, step: Step) -> None:
        match = _CONNECT.fullmatch(self._text(step))
        if match is None:
            raise self._bad(step, "write connect, connect to HOST:PORT, … with TLS")
        await self.leave()
        plan = self.plan
        if match[1]:
            try:
                endpoint = parse_endpoint(match[1])
            except ValueError as error:
                raise self._bad(step, str(error)) from error
            plan = replace(plan, host=endpoint.host or "localhost", port=endpoint.port, path=endpoint.path)
        elif not plan.port and not plan.path:
            text = "no server to connect to; name one with --server, or write connect to HOST:PORT"
            raise self._bad(step, text)
        implicit = bool(match[2]) or (not match[1] and plan.tls == "implicit")
        self.plan = replace(plan, tls="implicit" if implicit else "starttls")
        self._session = await InteractiveSession.open(self.plan, self._dialogue)

    async def _hello(self, step: Step) -> None:
        await self._open(step).hello(self._text(step))

    async def _secure(self, step: Step) -> None:
        await self._open(step).secure()

    async def _login(self, step: Step) -> None:
        session, name = self._open(step), self._text(step)
        if name and name not in self._credentials:
            known = ", ".join(self._credentials) or "none"
            raise self._bad(step, f"no credential {name!r} (there are: {known})")
        if not name and not self.plan.login:
            text = "login as whom? give --login or --credential, or write login CREDENTIAL"
            raise self._bad(step, text)
        await session.login(self.plan.logging_in_as(self._credentials[name]) if name else self.plan)

    async def _say(self, step: Step) -> None:
        await self._open(step).say(self._text(step))

    async def _octets(self, step: Step) -> None:
        self._open(step).octets(_unescape(self._text(step).strip('"')))

    async def _read_reply(self, step: Step) -> None:
        await self._open(step).read_reply()

    async def _content(self, step: Step) -> None:
        await self._open(step).content(self._message(step))

    def _message(self, step: Step) -> bytes:
        if step.lines is not None:
            lines = [expand(line, self._variables) for line in step.lines]
            return "".join(f"{line}\r\n" for line in lines).encode()
        how, _, source = self._text(step).partition(" ")
        try:
            if how == "from":
                return normalise_line_ends((self._script.path.parent / source).read_bytes())
            if how == "of":
                return _filled(parse_size(source))
        except (OSError, ValueError) as error:
            raise self._bad(step, str(error)) from error
        raise self._bad(step, "write content from FILE, or content of SIZE")

    async def _wait(self, step: Step) -> None:
        try:
            await asyncio.sleep(parse_duration(self._text(step)))
        except ValueError as error:
            raise self._bad(step, str(error)) from error

    async def _expect(self, step: Step) -> None:
        wanted, session = self._parsed(step), self._open(step)
        self._counted.expectations += 1
        if wanted.kind == "stop":
            raise Failed(step, wanted.text, "it went on", session)
        if wanted.kind == "silence":
            if not await session.silent_for(wanted.seconds):
                raise Failed(step, wanted.text, str(await session.read_reply()), session)
        elif wanted.kind == "closed":
            await self._expect_closed(step, session)
        elif came := wanted.check(session):
            raise Failed(step, wanted.text, came, session)

    async def _expect_closed(self, step: Step, session: InteractiveSession) -> None:
        if not session.closed:
            await session.silent_for(self.plan.timeouts.quit)
        if not session.closed:
            raise Failed(step, "closed", "the line is open", session)

    async def _close(self, step: Step) -> None:
        await self._open(step).close()
        self._session = None

    async def _cut(self, step: Step) -> None:
        self._open(step).abort()
        self._session = None

    async def _together(self, step: Step) -> None:
        await self._open(step).say_all([self._text(item) for item in step.body])

    async def _if(self, step: Step) -> None:
        asks_login = self._text(step) == "login"
        if bool(self.plan.login) if asks_login else not self._parsed(step).check(self._open(step)):
            await self.play(step.body)

    async def _repeat(self, step: Step) -> None:
        for turn in range(1, self._count(step) + 1):
            self._variables["turn"] = str(turn)
            await self.play(step.body)

    async def _at_once(self, step: Step) -> None:
        players = [self._another(turn) for turn in range(1, self._count(step) + 1)]
        results = await asyncio.gather(*(item.play(step.body) for item in players), return_exceptions=True)
        await asyncio.gather(*(item.leave() for item in players))
        for result in results:
            if isinstance(result, BaseException):
                raise result

    def _another(self, turn: int) -> _Player:
        variables = {**self._variables, "turn": str(turn)}
        return _Player(self._script, self.plan, variables, self._credentials, self._dialogue, self._counted)

    def _count(self, step: Step) -> int:
        text = self._text(step)
        if not text.isdigit() or not 0 < int(text) <= MAX_TURNS:
            raise self._bad(step, f"{text!r} is no number from 1 to {MAX_TURNS}")
        return int(text)

    async def leave(self) -> None:
        """End the session, if one is open."""
        session, self._session = self._session, None
        if session is not None and not session.closed:
            await session.close()


def _unescape(text: str) -> bytes:
    """`\\r\\n.\\n` and `\\x00` as octets; all else as UTF-8."""

    def octet(match: re.Match[bytes]) -> bytes:
        return _ESCAPES[match[1]] if match[1] else bytes([int(match[2], 16)])

    return _ESCAPE.sub(octet, text.encode())


def _filled(octets: int) -> bytes:
    """A message of exactly so many octets. Raises ValueError for one that is too large, or too small to be one."""
    head = b"Subject: a message of this size\r\n\r\n"
    if not len(head) + 2 < octets <= MAX_CONTENT:
        raise ValueError(f"content has {len(head) + 3} octets at least and {MAX_CONTENT // 1024**2} MiB at most")
    return head + padding(octets - len(head))


def _verdict(failed: Failed, plan: Plan, facts: Mapping[str, Any]) -> Verdict:
    evidence = f"{failed.came} (line {failed.step.line})"
    where, failure = plan.where, failed.failure
    more, advice = f"kite probe {where} --dialogue", "it shows what it offers and says"
    if failed.step.otherwise:
        return Verdict(Side.NEXT_HOP, f"{where}: {failed.step.otherwise}.", evidence, more, advice)
    if failure is None and failed.reply is not None and not failed.reply.positive:
        failure = SessionFailed(failed.stage, Cause.REPLY, str(failed.reply), failed.reply)
    if failure is not None:
        stop = verdict_on_stop(plan, failure, facts, None)
        return replace(stop, evidence=evidence)
    return Verdict(Side.NEXT_HOP, f"{where} does not do what the script expects.", evidence, more, advice)
