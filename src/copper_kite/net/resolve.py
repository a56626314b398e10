"""From a host name to addresses, with the operating system's resolver."""

from __future__ import annotations

import asyncio
import socket

from copper_kite.errors import SessionFailed
from copper_kite.words import Cause, Stage

__all__ = ["resolve"]

_NOT_FOUND = {socket.EAI_NONAME, getattr(socket, "EAI_NODATA", socket.EAI_NONAME)}


async def resolve(host: str, port: int, seconds: float) -> list[str]:
    """The addresses of `host` in the system's order, each once, within `seconds`.

    Raises SessionFailed at the stage `resolve`.
    """
    try:
        async with asyncio.timeout(seconds):
            found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except TimeoutError as error:
        text = f"{host}: no answer from the resolver in {seconds:g} s"
        raise SessionFailed(Stage.RESOLVE, Cause.NAME_LOOKUP_FAILED, text) from error
    except UnicodeError as error:
        raise SessionFailed(Stage.RESOLVE, Cause.NAME_NOT_FOUND, f"{host}: not a host name") from error
    except socket.gaierror as error:
        cause = Cause.NAME_NOT_FOUND if error.errno in _NOT_FOUND else Cause.NAME_LOOKUP_FAILED
        raise SessionFailed(Stage.RESOLVE, cause, f"{host}: {error.strerror}".lower()) from error
    return list(dict.fromkeys(entry[4][0] for entry in found if isinstance(entry[4][0], str)))
