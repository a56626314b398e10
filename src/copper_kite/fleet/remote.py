"""Run `kite` on other servers over ssh: never asking, host keys verified, within a time, a few at once."""

from __future__ import annotations

import asyncio
import json
import shlex
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from copper_kite.settings import Fleet, FleetServer

__all__ = ["Answered", "ask_all"]

NOT_REACHED = 255  # the exit status of ssh itself
NOT_THERE = (126, 127)  # of a shell that finds no such command
MAX_ANSWER = 64 * 1024 * 1024  # octets


@dataclass(frozen=True, slots=True)
class Answered:
    """A server's answer: the exit status and the JSON of its command; or the `problem` that prevented it."""

    server: FleetServer
    status: int = 0
    value: Any = None
    text: str = ""
    problem: str = ""


async def ask_all(
    fleet: Fleet,
    words: Sequence[str],
    *,
    stdin: bytes = b"",
    as_json: bool = True,
    progress: Callable[[Answered], None] = lambda answered: None,
) -> list[Answered]:
    """The answer of each enabled server to `kite` with these words, in the order of the file."""
    turns = asyncio.Semaphore(fleet.at_once)

    async def ask(server: FleetServer) -> Answered:
        async with turns:
            answered = await _ask(fleet, server, words, stdin, as_json=as_json)
        progress(answered)
        return answered

    return list(await asyncio.gather(*(ask(server) for server in fleet.server if server.enabled)))


def _ssh(fleet: Fleet, server: FleetServer, words: Sequence[str]) -> list[str]:
    config = ["--config", server.config] if server.config else []
    there = f"{server.command} {shlex.join([*config, *words])}"
    seconds = max(int(fleet.seconds) - 1, 1)
    options = ["-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=yes", "-o", f"ConnectTimeout={seconds}"]
    return ["ssh", *options, *fleet.ssh, "--", server.address, there]


async def _ask(fleet: Fleet, server: FleetServer, words: Sequence[str], stdin: bytes, *, as_json: bool) -> Answered:
    try:
        process = await asyncio.create_subprocess_exec(
            *_ssh(fleet, server, words),
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
        )
    except FileNotFoundError:
        return Answered(server, problem="there is no ssh on this machine")
    try:
        async with asyncio.timeout(fleet.seconds):
            out, err = await process.communicate(stdin)
    except TimeoutError:
        process.kill()
        await process.wait()
        return Answered(server, problem=f"no answer in {fleet.seconds:g} s")
    return _understood(server, process.returncode or 0, out[:MAX_ANSWER], err, as_json=as_json)


def _understood(server: FleetServer, status: int, out: bytes, err: bytes, *, as_json: bool) -> Answered:
    said = err.decode("utf-8", "replace").strip().splitlines()
    last = said[-1].removeprefix("kite: ")[:200] if said else ""
    if status == NOT_REACHED:
        return Answered(server, status, problem=last or "ssh cannot reach it")
    if status in NOT_THERE:
        return Answered(server, status, problem=f"{server.command} is not there: {last}")
    text = out.decode("utf-8", "replace")
    if not as_json:
        return Answered(server, status, text=text, problem=last if status > 1 else "")
    try:
        return Answered(server, status, json.loads(text), text)
    except ValueError:
        return Answered(server, status, problem=last or "its answer is not JSON; is its kite of this version?")
