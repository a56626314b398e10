"""A secret from its source: a literal value, or the output of a command, for tokens that are renewed."""

from __future__ import annotations

import asyncio

from copper_kite.errors import KiteError
from copper_kite.smtp import Secret

__all__ = ["SecretUnavailable", "fetch"]

COMMAND_SECONDS = 30.0
MAX_SECRET = 16384  # octets


class SecretUnavailable(KiteError):
    """Raised when the command that should print a secret does not."""


async def fetch(known: Secret | None, command: str) -> Secret | None:
    """`known`, or the first line that `command` prints; None where there is neither. Raises SecretUnavailable.

    The command runs in a shell, within 30 s; what it says on standard error is not kept, since it may name secrets.
    """
    if not command:
        return known
    process = await asyncio.create_subprocess_shell(
        command, stdin=asyncio.subprocess.DEVNULL, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.DEVNULL
    )
    try:
        async with asyncio.timeout(COMMAND_SECONDS):
            printed, _ = await process.communicate()
    except TimeoutError as error:
        process.kill()
        await process.wait()
        raise SecretUnavailable(f"the command for the secret took over {COMMAND_SECONDS:g} s") from error
    line = printed[:MAX_SECRET].decode("utf-8", "replace").partition("\n")[0].rstrip("\r")
    if process.returncode or not line:
        raise SecretUnavailable(f"the command for the secret printed none (exit status {process.returncode})")
    return Secret(line)
