"""The listeners of a running server: their addresses, what their sessions share, and the certificates they show."""

from __future__ import annotations

import asyncio
import os
import ssl
from collections.abc import Callable, Sequence
from copy import copy
from functools import partial

from copper_kite.errors import ListenFailed
from copper_kite.net import Dialogue, ServerSession, SessionRegistry
from copper_kite.relay.intake import Intake
from copper_kite.relay.listening import Listening
from copper_kite.relay.log import Log
from copper_kite.relay.submission import Submission
from copper_kite.relay.supervisor import Supervisor
from copper_kite.settings import Endpoint, Listener, Loaded, server_context
from copper_kite.smtp import Limits, Offers, Takes
from copper_kite.store import Submit

__all__ = ["Listeners"]

LOOK_SECONDS = 30.0  # from one look at the certificates' files to the next
LOGINS = ("SCRAM-SHA-256", "PLAIN", "LOGIN")  # what can be checked against the keys that are kept


class Listeners:
    """Opens and closes addresses as the configuration has them. `submission` makes what the sessions of one share."""

    def __init__(
        self,
        registry: SessionRegistry,
        submission: Callable[[Loaded, Listener], Submission],
        supervisor: Supervisor,
        log: Log,
    ) -> None:
        self._registry = registry
        self._submission = submission
        self._log = log
        self._listening = Listening()
        self.shared: dict[Endpoint, Submission] = {}  # by where the client came in
        self._contexts: dict[Endpoint, ssl.SSLContext] = {}
        self._shown: dict[Endpoint, tuple[tuple[str, ...], tuple[float, ...]]] = {}  # files, and when they changed
        self._looker = supervisor.every(LOOK_SECONDS, self.look_at_certificates)

    @property
    def endpoints(self) -> list[Endpoint]:
        """The addresses that are open."""
        return self._listening.endpoints

    def close(self) -> None:
        """Take no more clients; sessions go on."""
        self._looker.cancel()
        self._listening.close_all()

    async def take_up(self, loaded: Loaded) -> None:
        """Listen at what `loaded` names and nowhere else; when an address cannot be opened, nothing changes.

        Raises ListenFailed.
        """
        wanted = {endpoint: entry for entry in loaded.settings.listener if entry.enabled for endpoint in entry.bind}
        opened: list[Endpoint] = []
        try:
            for endpoint, listener in wanted.items():
                if endpoint in self._listening:
                    continue
                self.shared[endpoint] = self._submission(loaded, listener)
                self._take_certificate(loaded, endpoint, listener)
                await self._listening.open(listener.name, endpoint, partial(self._open_session, endpoint))
                opened.append(endpoint)
        except ListenFailed:
            for endpoint in opened:
                self._listening.close(endpoint)
            raise
        for endpoint in self._listening.endpoints:
            if endpoint not in wanted:
                self._listening.close(endpoint)
            elif endpoint not in opened:
                self.shared[endpoint].renew(loaded, wanted[endpoint])
                self._take_certificate(loaded, endpoint, wanted[endpoint])

    def _open_session(self, endpoint: Endpoint) -> ServerSession:
        return self._session(endpoint, self.shared[endpoint])

    def local_session(self, submit_through: Callable[[Submit], Submit]) -> ServerSession | None:
        """A session as one of the first Unix socket's, whose transactions go through what is given; None where there is
        no such socket."""
        endpoint = next((endpoint for endpoint in self.endpoints if endpoint.path), None)
        if endpoint is None:
            return None
        shared = copy(self.shared[endpoint])
        shared.submit = submit_through(shared.submit)
        return self._session(endpoint, shared)

    def _session(self, endpoint: Endpoint, shared: Submission) -> ServerSession:
        listener = shared.listener
        tls = "off" if endpoint.path else listener.tls  # a Unix socket's clients are on this machine, and known
        offers = Offers(
            max_size=listener.max_size,
            starttls=tls == "starttls",
            demands_tls=tls == "starttls",
            logins=LOGINS if listener.login != "never" and not endpoint.path else (),
            clear_logins=tls == "off",
            priorities=listener.choose_priority,
        )
        recorded = shared.recordings.wants("listener", listener.name)
        return ServerSession(
            shared.server,
            offers,
            Intake(shared),
            self._registry,
            limits=Limits(
                recipients=listener.max_recipients,
                messages=listener.max_messages,
                patience=listener.patience,
                lenient=not listener.strict,
                takes=Takes.FIT if listener.strict else Takes.LOCAL if endpoint.path else Takes.MENDABLE,
            ),
            directory=shared,
            context=self._contexts.get(endpoint),
            secure=tls == "implicit",
            idle=listener.idle,
            longest=listener.longest,
            dialogue=Dialogue(asyncio.get_running_loop().time()) if recorded else None,
        )

    # --- certificates -----------------------------------------------------------------------------------------------

    def _take_certificate(self, loaded: Loaded, endpoint: Endpoint, listener: Listener) -> None:
        """Make the TLS context of an address; one that is in use gets the certificate as it is in the files now."""
        if listener.tls == "off" or listener.certificate is None or listener.key is None:
            return
        files = tuple(str(loaded.path.parent / name) for name in (listener.certificate, listener.key))
        context = self._contexts.get(endpoint)
        if context is None:
            self._contexts[endpoint] = server_context(*files)
        else:
            context.load_cert_chain(*files)
        self._shown[endpoint] = files, _changed(files)

    def look_at_certificates(self) -> None:
        """Reload certificates that changed on disk; a pair that does not match is reported and not used."""
        for endpoint, (files, before) in list(self._shown.items()):
            if (now := _changed(files)) == before or not now:
                continue
            self._shown[endpoint] = files, now
            try:
                server_context(*files)  # first a try: one that fails midway would leave half a pair
                self._contexts[endpoint].load_cert_chain(*files)
                self._log.write("notice", "certificate", listener=self.shared[endpoint].listener.name, file=files[0])
            except OSError as error:  # of ssl, too
                self._log.write("error", "certificate", file=files[0], text=f"cannot be used: {error}")


def _changed(files: Sequence[str]) -> tuple[float, ...]:
    """When each of them was changed last; nothing while one is not there."""
    try:
        return tuple(os.stat(file).st_mtime for file in files)  # noqa: PTH116
    except OSError:
        return ()
