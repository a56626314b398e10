"""Access tokens of connectors that log in by OAuth: renewed before they end, once for all sessions, and kept beside the
queue, so that the server and the commands share one.

What a token server gives in exchange for a refresh token may replace that: it is kept before anybody uses the rest.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import hashlib
import json
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from copper_kite.net.oauth import Granted, TokenFailed, request_token
from copper_kite.settings import OAuthClient
from copper_kite.smtp import Secret
from copper_kite.store import put_file
from copper_kite.words import Cause

__all__ = ["TokenSource", "read_token_problems", "token_source"]

NAME = "tokens.json"
RENEW_AT = 0.75  # of its life: then another one is fetched, while this one still holds
LOCK_SECONDS = 30.0  # for which another process may be renewing it


@dataclass(frozen=True, slots=True)
class _Token:
    """An access token that is valid until `expires` and due for renewal at `renew` (seconds since 1970)."""

    access: Secret
    renew: float
    expires: float

    def holds(self, now: float) -> bool:
        """Whether it is worth being shown: it is not about to end."""
        return now < (self.renew + self.expires) / 2


class TokenSource:
    """The tokens of one credential. `file` is where they are kept; `now` gives seconds since 1970."""

    def __init__(self, client: OAuthClient, file: Path) -> None:
        self.client = client
        self.now: Callable[[], float] = time.time
        self._file = file
        self._token: _Token | None = None
        self._renewing: asyncio.Task[_Token] | None = None
        self.waited = 0  # how often somebody had to wait for a renewal

    @property
    def renew_at(self) -> float:
        """When to renew the token; 0 for now."""
        return self._token.renew if self._token is not None else 0.0

    async def get(self) -> Secret:
        """A token that holds; where one is near its end, another one is fetched meanwhile. Raises TokenFailed."""
        token, now = self._token, self.now()
        if token is None or not token.holds(now):
            self.waited += 1
            token = await self.renew()
        elif now >= token.renew:
            self._begin()
        return token.access

    async def renew(self) -> _Token:
        """Fetch another one; those who want it meanwhile wait for the same. Raises TokenFailed."""
        return await asyncio.shield(self._begin())

    def discard(self, access: Secret) -> None:
        """Stop using a token that was refused."""
        if self._token is not None and self._token.access == access:
            self._token = None
            with contextlib.suppress(OSError), self._locked():
                kept = self._read()
                kept.pop("access_token", None)
                self._write(kept)

    def _begin(self) -> asyncio.Task[_Token]:
        if self._renewing is None or self._renewing.done():
            self._renewing = asyncio.get_running_loop().create_task(self._renew())
            self._renewing.add_done_callback(lambda task: task.cancelled() or task.exception())  # somebody may not wait
        return self._renewing

    async def _renew(self) -> _Token:
        async with _lock(self._file):
            kept = self._read()
            shared = self._shared(kept)
            if shared is not None:
                self._token = shared
                return shared
            refresh = kept.get("refresh_token")
            try:
                granted = await request_token(self.client, Secret(refresh) if refresh else self.client.refresh_token)
            except TokenFailed as failure:
                if failure.cause is Cause.TOKEN_REFUSED:
                    await self._store({**kept, "problem": str(failure), "since": kept.get("since", self.now())})
                raise
            token, values = self._granted(granted, kept)
            await self._store(values)
            self._token = token
            return token

    def _shared(self, kept: dict[str, Any]) -> _Token | None:
        """A token that another process has fetched, if it is newer than ours and holds."""
        access, renew, expires = (kept.get(name) for name in ("access_token", "renew", "expires"))
        if not isinstance(access, str) or not isinstance(renew, float) or not isinstance(expires, float):
            return None
        newer = self._token is None or self._token.access.reveal() != access
        return _Token(Secret(access), renew, expires) if newer and self.now() < renew else None

    def _granted(self, granted: Granted, kept: dict[str, Any]) -> tuple[_Token, dict[str, Any]]:
        """The token, and what the file has of it; a new refresh token replaces the one that was `kept`."""
        now = self.now()
        token = _Token(granted.access, now + RENEW_AT * granted.seconds, now + granted.seconds)
        refresh = granted.refresh.reveal() if granted.refresh is not None else kept.get("refresh_token")
        values = {"access_token": granted.access.reveal(), "renew": token.renew, "expires": token.expires}
        return token, {**({"refresh_token": refresh} if refresh else {}), **values}

    # --- the file ---------------------------------------------------------------------------------------------------

    @property
    def _origin(self) -> str:
        """Tells one login from another: what was kept for an earlier one does not count."""
        client = self.client
        secrets = [item.reveal() for item in (client.refresh_token, client.client_secret) if item is not None]
        return hashlib.sha256("\0".join([client.token_endpoint, client.client_id, *secrets]).encode()).hexdigest()

    def _read(self) -> dict[str, Any]:
        kept = _read_file(self._file).get(self.client.name, {})
        return kept if isinstance(kept, dict) and kept.get("origin") == self._origin else {}

    async def _store(self, values: dict[str, Any]) -> None:
        """Durably, since a refresh token that a power failure takes away needs a person to log in again; in a thread,
        since the loop would stand still meanwhile."""
        await asyncio.to_thread(self._write, values, durable=True)

    def _write(self, values: dict[str, Any], *, durable: bool = False) -> None:
        kept = {**_read_file(self._file), self.client.name: {**values, "origin": self._origin}}
        put_file(self._file, json.dumps(kept), durable=durable)

    @contextlib.contextmanager
    def _locked(self) -> Iterator[None]:
        descriptor = _open_lock(self._file)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield
        finally:
            os.close(descriptor)


def _open_lock(file: Path) -> int:
    return os.open(file.with_name(f".{file.name}.lock"), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)


@contextlib.asynccontextmanager
async def _lock(file: Path) -> Any:
    """Keep other processes from renewing meanwhile. Raises TokenFailed."""
    try:
        descriptor = _open_lock(file)
    except OSError as error:
        raise TokenFailed(Cause.TOKEN_UNAVAILABLE, f"{file}: {(error.strerror or str(error)).lower()}") from error
    try:
        for _ in range(int(LOCK_SECONDS * 20)):
            with contextlib.suppress(BlockingIOError):
                fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            await asyncio.sleep(0.05)
        else:
            raise TokenFailed(Cause.TOKEN_UNAVAILABLE, "another process has been renewing the token for too long")
        yield
    finally:
        os.close(descriptor)


def _read_file(file: Path) -> dict[str, Any]:
    try:
        kept = json.loads(file.read_text())
    except (OSError, ValueError):
        return {}
    return kept if isinstance(kept, dict) else {}


def read_token_problems(folder: Path) -> list[tuple[str, str, float]]:
    """The credentials whose tokens were refused for good: name, why, and since when (seconds since 1970)."""
    return [
        (name, str(kept["problem"]), float(kept.get("since", 0.0)))
        for name, kept in _read_file(folder / NAME).items()
        if isinstance(kept, dict) and "problem" in kept
    ]


_sources: dict[tuple[OAuthClient, Path], TokenSource] = {}


def token_source(client: OAuthClient, folder: Path) -> TokenSource:
    """The source of a credential's tokens, the same for all who ask in this process; `folder` is the data folder."""
    key = client, folder / NAME
    source = _sources.get(key)
    if source is None:
        source = _sources[key] = TokenSource(client, folder / NAME)
    return source
