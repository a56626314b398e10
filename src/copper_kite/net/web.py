"""One HTTP request with a time limit and a size limit: policies of MTA-STS, tokens, reports on TLS."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from copper_kite.net.tls import client_context

__all__ = ["WebFailed", "fetch"]


class WebFailed(Exception):
    """There is no usable reply; the message says why."""


async def fetch(
    method: str,
    url: str,
    *,
    seconds: float,
    limit: int,
    trust: str = "system",
    server_name: str = "",
    headers: Mapping[str, str] | None = None,
    **body: Any,
) -> tuple[int, bytes]:
    """The status and the body of a reply within `seconds` and of at most `limit` octets; redirections are not followed.

    `trust` is as in `tls.client_context`; `server_name` is the name for TLS where `url` has an address; `body` is
    `data` (a form) or `content` (octets). Raises WebFailed.
    """
    import httpx

    extensions = {"sni_hostname": server_name} if server_name else {}
    octets = b""
    try:
        async with (
            asyncio.timeout(seconds),
            httpx.AsyncClient(verify=client_context(trust), trust_env=False, timeout=seconds) as client,
            client.stream(method, url, headers=headers, extensions=extensions, **body) as response,
        ):
            async for portion in response.aiter_bytes():
                octets += portion
                if len(octets) > limit:
                    raise WebFailed(f"its reply has more than {limit} octets")
    except (TimeoutError, httpx.TimeoutException) as error:
        raise WebFailed(f"no complete reply in {seconds:g} s") from error
    except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
        raise WebFailed((str(error) or type(error).__name__).lower()) from error
    return response.status_code, octets
