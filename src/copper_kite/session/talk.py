"""A session by hand: lines go out as they are typed, replies come back with their time and their meaning.

What was typed can be saved as a session script. No secret is kept: not in the script, not in the dialogue.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from copper_kite.errors import EngineMisuse, InputError, KiteError
from copper_kite.mail import normalise_line_ends
from copper_kite.net import NOTE, SERVER, Dialogue, Plan, SessionFailed
from copper_kite.session.interactive_session import InteractiveSession
from copper_kite.session.probe import verdict_on_stop
from copper_kite.settings import Credential
from copper_kite.smtp import Reply, visible
from copper_kite.verdict import Verdict
from copper_kite.words import Cause

__all__ = ["HELPERS", "PREFIX", "Said", "Talk", "holds_secret"]

PREFIX = ":"  # no SMTP command begins with it
HELPERS = {
    ":hello": "EHLO with our name, or another: :hello [NAME]",
    ":tls": "STARTTLS, the handshake, and EHLO again",
    ":login": "log in under TLS: :login [CREDENTIAL]",
    ":content": "DATA and a file as the content: :content FILE",
    ":offers": "what the server offers now, and the TLS",
    ":save": "write what was said so far as a session script: :save FILE",
    ":again": "a new session with the same server",
    ":help": "these",
    ":quit": "QUIT, and leave",
}


@dataclass(frozen=True, slots=True)
class Said:
    """One line to show. `mark`: `<` heard, `*` happened, `?` what it means, `!` a mistake; `seconds` it took."""

    mark: str
    text: str
    seconds: float | None = None


def holds_secret(line: str) -> bool:
    """Whether a typed line holds a secret: AUTH with an initial response (RFC 4954 4)."""
    words = line.split()
    return len(words) > 2 and words[0].upper() == "AUTH"


_PATH = re.compile(r"(MAIL FROM|RCPT TO):<([^>]*)>", re.IGNORECASE)


def _message_in(name: str) -> tuple[Path, bytes]:
    """A file as a message, and where it is. Raises InputError."""
    path = Path(name).expanduser().absolute()
    try:
        return path, normalise_line_ends(path.read_bytes())
    except OSError as error:
        raise InputError(f"{name}: cannot be read ({error.strerror})") from error


def _write(name: str, text: str) -> None:
    """Raises InputError."""
    try:
        Path(name).expanduser().write_text(text, "utf-8")
    except OSError as error:
        raise InputError(f"{name}: cannot be written ({error.strerror})") from error


class Talk:
    """A session by hand. `over` says that it is to end, `failed` that something stopped it, with the `verdict`."""

    def __init__(self, plan: Plan, credentials: Mapping[str, Credential], facts: Mapping[str, Any]) -> None:
        self.plan = plan
        self.over = False
        self.failed = False
        self.verdict: Verdict | None = None
        self._credentials = credentials
        self._facts = facts
        self._session: InteractiveSession | None = None
        self._content: list[str] | None = None  # the lines typed so far, while content is typed
        self._script: list[str] = []
        self._needs: list[str] = []
        self._paths: dict[str, str] = {}  # the sender and the recipient typed last, for the sentences
        self._helpers: dict[str, Callable[[str], Awaitable[list[Said]]]] = {
            ":hello": self._hello,
            ":tls": self._tls,
            ":login": self._login,
            ":content": self._content_file,
            ":offers": self._offers,
            ":save": self._save,
            ":again": self._again,
            ":help": self._help,
            ":quit": self._quit,
        }

    @property
    def prompt(self) -> str:
        """The stage that the session is in."""
        if self._content is not None:
            return "content"
        return self._session.stage.value if self._session is not None else "closed"

    @property
    def secret(self) -> bool:
        """Whether what is typed next is a secret: the answer to a challenge."""
        return self._session is not None and self._content is None and self._session.wants_answer

    @property
    def complete(self) -> bool:
        """Whether the line typed next is a command, and not content."""
        return self._content is None

    async def begin(self) -> list[Said]:
        """Connect, and read the greeting."""
        dialogue = Dialogue(asyncio.get_running_loop().time())
        self._script = ["connect with TLS" if self.plan.tls == "implicit" else "connect"]
        try:
            self._session = await InteractiveSession.open(self.plan, dialogue)
        except SessionFailed as failure:
            return self._stopped(failure)
        happened = [Said(NOTE, f"TLS: {self._session.tls}")] if self._session.tls else []
        return [*happened, *self._heard(self._session.reply)]

    async def enter(self, line: str) -> list[Said]:
        """Handle one typed line; the lines to show."""
        try:
            if self._content is not None:
                return await self._content_line(line)
            if line.startswith(PREFIX):
                word, _, rest = line.partition(" ")
                if word not in self._helpers:
                    return [Said("!", f"no helper {word}; :help lists them")]
                return await self._helpers[word](rest.strip())
            if not line.strip():
                return []
            return await self._say(line)
        except SessionFailed as failure:
            return self._stopped(failure)
        except EngineMisuse as error:
            return [Said("!", f"not now: {error}")]
        except KiteError as error:
            return [Said("!", str(error))]

    def _open(self) -> InteractiveSession:
        if self._session is None or self._session.closed:
            raise InputError("the session is over; :again opens another, :quit leaves")
        return self._session

    # --- what is typed ----------------------------------------------------------------------------------------------

    async def _say(self, line: str) -> list[Said]:
        session = self._open()
        if session.wants_answer:
            self._script.append("answer " + (line if line == "*" else self._hidden("an answer to a challenge")))
        elif holds_secret(line):
            verb, mechanism, *_ = line.split()
            self._script.append(f"say {verb} {mechanism} " + self._hidden(f"what stands after AUTH {mechanism}"))
        else:
            self._script.append(f"say {line}")
        if (match := _PATH.match(line)) is not None:
            self._paths["sender" if match[1].upper() == "MAIL FROM" else "recipient"] = match[2] or "the empty sender"
        before = session.tls
        reply = await session.say(line)
        said = self._heard(reply)
        if session.tls != before:
            said.append(Said(NOTE, f"TLS: {session.tls}; say EHLO again"))
        if session.wants_content:
            self._content = []
            said.append(Said(NOTE, "type the message; a line of one dot ends it"))
        if reply.code == 221:
            await self._leave()
        return said

    def _hidden(self, what: str) -> str:
        name = f"secret{len(self._needs) + 1}"
        self._needs.append(f"needs {name} {what}")
        return f"${{{name}}}"

    async def _content_line(self, line: str) -> list[Said]:
        assert self._content is not None
        if line != ".":
            self._content.append(line)
            return []
        lines, self._content = self._content, None
        return await self._send(lines)

    async def _send(self, lines: list[str]) -> list[Said]:
        self._script += ["content", *(f"| {line}" for line in lines or [""])]
        content = "".join(f"{line}\r\n" for line in lines).encode()
        return self._heard(await self._open().content(content))

    def _heard(self, reply: Reply | None) -> list[Said]:
        """A reply with its time; for a refusal its meaning too."""
        assert reply is not None and self._session is not None
        seconds: float | None = self._session.seconds
        said = []
        for number, line in enumerate(reply.lines):
            more = "-" if number + 1 < len(reply.lines) else " "
            status = f"{reply.enhanced} " if reply.enhanced else ""
            said.append(Said(SERVER, visible(f"{reply.code}{more}{status}{line}"), seconds))
            seconds = None
        self._script.append(f"expect {reply.code}")
        if not reply.positive:
            failure = SessionFailed(self._session.asked, Cause.REPLY, str(reply), reply)
            known = {"login": self.plan.login or "that was typed", **self._facts, **self._paths}
            stop = verdict_on_stop(self.plan, failure, known, None)
            assert stop.side is not None
            said.append(Said("?", f"{stop.meaning} (side: {stop.side.value})"))
        return said

    def _stopped(self, failure: SessionFailed) -> list[Said]:
        self.failed = True
        self.verdict = verdict_on_stop(self.plan, failure, self._facts, None)
        self._session, self._content = None, None
        return [Said(NOTE, f"{failure.stage.value}: {visible(failure.text)}"), Said("?", self.verdict.meaning)]

    async def _leave(self) -> None:
        session, self._session = self._session, None
        if session is not None:
            session.abort()

    # --- the helpers ------------------------------------------------------------------------------------------------

    async def _hello(self, name: str) -> list[Said]:
        reply = await self._open().hello(name)
        self._script.append(f"hello {name}".rstrip())
        return self._heard(reply)

    async def _tls(self, rest: str) -> list[Said]:
        session = self._open()
        self._script.append("secure")
        await session.secure()
        return [Said(NOTE, f"TLS: {session.tls}", session.seconds), *(await self._offers(""))[1:]]

    async def _login(self, name: str) -> list[Said]:
        session = self._open()
        if name and name not in self._credentials:
            known = ", ".join(self._credentials) or "none"
            return [Said("!", f"no credential {name!r}; there are: {known}")]
        if not name and not self.plan.login:
            return [Said("!", "log in as whom? :login CREDENTIAL, or start with --login or --credential")]
        plan = self.plan.logging_in_as(self._credentials[name]) if name else self.plan
        self._script.append(f"login {name}".rstrip())
        await session.login(plan)
        return [Said(NOTE, f"logged in as {plan.login}", session.seconds)]

    async def _content_file(self, name: str) -> list[Said]:
        session, (path, content) = self._open(), _message_in(name)
        said = []
        if not session.wants_content:
            said = self._heard(await session.say("DATA"))
            self._script.insert(-1, "say DATA")
            if not session.wants_content:
                return said
        self._script.append(f"content from {path}")
        return [*said, *self._heard(await session.content(content))]

    async def _offers(self, rest: str) -> list[Said]:
        session = self._open()
        tls = session.tls or "no TLS"
        lines = [" ".join((key, *values)) for key, values in session.offers.items()] or ["nothing; say EHLO first"]
        return [Said(NOTE, visible(line)) for line in (tls, *lines)]

    async def _save(self, name: str) -> list[Said]:
        if not name:
            return [Said("!", "save to which file? :save FILE")]
        where = self.plan.where
        title = f"title a session with {where}, saved from kite talk"
        _write(name, "\n".join([title, *self._needs, "", *self._script, ""]))
        steps = sum(not line.startswith(("|", "expect")) for line in self._script)
        return [Said(NOTE, f"{steps} steps are in {name}; kite play {name} --server {where}")]

    async def _again(self, rest: str) -> list[Said]:
        if self._session is not None:
            await self._session.close()
        self.failed, self.verdict = False, None
        before, self._script = self._script, []
        said = await self.begin()
        self._script = [*before, *self._script]
        return said

    async def _help(self, rest: str) -> list[Said]:
        return [Said(NOTE, f"{name:<10}{about}") for name, about in HELPERS.items()]

    async def _quit(self, rest: str) -> list[Said]:
        self.over = True
        session, self._session = self._session, None
        if session is None or session.closed:
            return []
        await session.close()
        return [Said(NOTE, "over")]
