"""Mail from the server itself to its administrators."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.errors import KiteError
from copper_kite.relay.notices import Notices
from copper_kite.store import AddMessage, JournalEntry, SendBy, Submit, WriteEntry

__all__ = ["OwnMail"]


def _nothing() -> None:
    """The default for `done`."""


class OwnMail:
    """Adds messages to the queue, each with its journal entry; `offer` gets those that are durable."""

    def __init__(
        self,
        notices: Callable[[], Notices],
        submit: Submit,
        offer: Callable[[AddMessage], None],
        now: Callable[[], float],
    ) -> None:
        self._notices = notices
        self._submit = submit
        self._offer = offer
        self._now = now

    def send_text(
        self,
        subject: str,
        text: str,
        entry: JournalEntry,
        to: str = "",
        connector: str = "",
        done: Callable[[], None] = _nothing,
    ) -> None:
        """Send a short text to the postmaster or to an address, by a `connector` if one is named.

        `done` is called when that is on stable storage, or cannot be.
        """
        self._send(self._notices().text_message(subject, text, self._now(), to, connector), entry, connector, done)

    def send_message(self, content: bytes, to: str, entry: JournalEntry) -> None:
        """Send a complete message."""
        self._send(self._notices().own_message(content, to, self._now()), entry, "", _nothing)

    def _send(self, addition: AddMessage, entry: JournalEntry, connector: str, done: Callable[[], None]) -> None:
        def written(error: KiteError | None) -> None:
            if error is None:
                self._offer(addition)
            done()

        entry.message = addition.message.id
        by = [SendBy(connector, addition.message.id, 1)] if connector else []
        self._submit([addition, *by, WriteEntry(entry)], written)
