"""The interface of an engine: a `Store`, which opens the rest. Users of the queue know only this.

A new engine implements the protocols of this module over the operations of `store.operations` and the values of
`store.model`, and `open_store` learns to open it. What must hold is in the docstrings here and there; the tests in
`tests/store/test_contract.py` run against any engine.

Reads see every transaction that was on stable storage before they began. They are short: the loop of the server calls
them. All of them raise `StoreError` where the store cannot be read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol

from copper_kite.errors import KiteError
from copper_kite.store.health import Rescued, Verified
from copper_kite.store.model import (
    AdminRequest,
    ConnectorState,
    CountFilter,
    Due,
    Happened,
    HourlyCount,
    JournalEntry,
    LaneStop,
    Message,
    QueueGroup,
    QueueRow,
    QueueSummary,
    Recipient,
    Record,
    Selection,
    ServerState,
    Tally,
    Waiting,
)
from copper_kite.store.operations import Done, Transaction
from copper_kite.words import OPEN, Event, State

__all__ = ["CallbackFailed", "Defer", "History", "Place", "Reader", "ServerReads", "Store", "Writer"]

Defer = Callable[[Callable[[], None]], object]
CallbackFailed = Callable[[Transaction, bool, Exception], None]


class ServerReads(Protocol):
    """The queries of the running server. Where several servers share the queue, each sees the mail that is its own.

    `slot` is its number among them, which all ids that it makes have in them; None for a server alone.
    """

    slot: int | None

    def close(self) -> None:
        """Close it."""

    def adopt(self, limit: int, *, from_dead: bool = True) -> list[int]:
        """The ids of messages that are this server's now: handed over by another; or taken over from servers that
        have died, of which about `limit` at most."""

    def exchange(self, waiting: int) -> list[tuple[int, int]]:
        """Tell the others how many wait here; of each of them that is alive the slot, and how many wait there."""

    def reserve(self, connector: str, allowance: str, since: float, most: int, count: int) -> int | None:
        """Reserve a part of what a connector may relay from an instant on, `most` recipients by all servers together:
        enough for `count`, or more; how much it is, 0 where too little is left. None for a server alone.
        """

    def last_id(self) -> int:
        """The highest id in use by a message or an attempt."""

    def queued(self, after: int, until: int, limit: int) -> list[Waiting]:
        """Recipients without an attempt, of messages with an id above `after` and up to `until`, in their order.

        At most `limit`; all of the last message's, for it is not looked at again.
        """

    def delayed(self, after: tuple[float, int, int], until: float, limit: int) -> list[Waiting]:
        """Recipients that are due again, in that order: (when, message, number) is above `after`, and the first
        `until`."""

    def waiting(self, ids: Sequence[int], until: float) -> list[Waiting]:
        """Recipients of these messages that are due."""

    def ages(self, after: int, limit: int) -> list[tuple[int, float, float]]:
        """Messages that wait, with an id above `after`, in their order: (id, arrived, expires)."""

    def due(self, ids: Sequence[int], until: float, octets: int = 0) -> list[Due]:
        """The recipients of these messages (each named once) that are queued, or delayed `until` then, in their order;
        messages without any are left out.

        So many `octets` of content are read with it, as far as a message is a single portion.
        """

    def next_due(self, after: float) -> float | None:
        """The first instant after `after` at which a delayed recipient is due, or None."""

    def lanes(self) -> list[LaneStop]:
        """The lanes that do not move."""

    def relayed_since(self, connector: str, since: float) -> int:
        """How many recipients were relayed through a connector since an instant."""

    def taken(self, who: str, since: int) -> list[tuple[int, int]]:
        """A sender's submissions: (hour, recipients), from the hour `since` on."""

    def hourly(self, since: int, until: int) -> Iterator[HourlyCount]:
        """The counts of the hours (since 1970) from `since` to before `until`."""

    def summed_counts(
        self, since: int, until: int, by: Sequence[str], only: CountFilter | None = None, outcome: str = ""
    ) -> list[tuple[Any, ...]]:
        """The same, summed by these fields of `HourlyCount`: a row has their values, recipients and octets. With an
        `outcome`, of that alone."""

    def recounted(self, since: int, until: int) -> Iterator[HourlyCount]:
        """The same, counted again from the journal. Slow, as it reads all entries of those hours."""

    def tallies(self, since: float) -> list[Tally]:
        """The messages accepted and the results of recipients, by the minute, from that of an instant on."""

    def noted(self, event: Event, since: float) -> list[JournalEntry]:
        """The entries of the journal for one kind of event since an instant, in order."""

    def stops(self, since: float) -> list[tuple[float, float]]:
        """When no server ran, since an instant: from the stop, or the last sign of life, to the next start.

        A server that was killed leaves no stop; then it is the last thing in the journal or the last attempt before.
        """

    def content(self, message: int) -> Iterator[bytes]:
        """A message's octets, a portion at a time; none when it has ended."""

    def stray_content(self) -> list[int]:
        """Messages that have content and no other rows: submissions that were cut off."""

    def admin_requests(self) -> list[AdminRequest]:
        """The pending requests of administrators, in order."""

    def failed_between(self, after: tuple[float, int, int], until: float, limit: int) -> list[tuple[float, int, int]]:
        """Recipients that failed, in the order of time: (when, message, number); those after `after`, which is one."""

    def has_ended(self, message: int, before: float) -> bool:
        """Whether all its recipients had ended by then."""

    def forgettable(self, before: float, limit: int) -> list[int]:
        """Messages whose recipients had all ended by then, the oldest first."""

    def size(self) -> int:
        """Octets in use, content included; what is free in the files does not count."""

    def scattered(self, most: int) -> list[tuple[int, int, bytes]]:
        """Content that stands nearly alone in a large file: (message, number of the portion, octets), about `most`
        octets of it. While it stands there, all of the file stays.
        """

    def recipients(self, id: int) -> tuple[Message, list[Recipient]]:
        """A message with its recipients. Raises NotFound."""


class Reader(ServerReads, AbstractContextManager["Reader"], Protocol):
    """A view of the queue that changes nothing. What people are shown of recipients in a lane that does not move comes
    from what stops the lane: they are delayed, with its reply."""

    def close(self) -> None:
        """Close it."""

    def resolve(self, wanted: str) -> int:
        """The id that `wanted` begins. Raises NotFound, or Ambiguous when several begin with it."""

    def select(self, selection: Selection, limit: int = -1, *, newest: bool = False) -> list[QueueRow]:
        """The recipients meant, the oldest message first, or the `newest`."""

    def queue(self, states: Sequence[State] = OPEN, limit: int = -1) -> list[QueueRow]:
        """Messages with their recipients in `states`, the oldest first."""

    def summary(self) -> QueueSummary:
        """The open part of the queue in numbers."""

    def held_by_faults(self) -> int:
        """How many recipients wait, or are parked, because of internal errors (`relay.faults`)."""

    def groups(self, by: str) -> list[QueueGroup]:
        """The waiting recipients, by one of `_GROUPS` (`reason` is the last reply); the largest group first."""

    def totals(self) -> dict[State, int]:
        """Recipients by state, ended ones too; looks at every recipient there is."""

    def connectors(self) -> list[ConnectorState]:
        """The state of each connector that was ever used."""

    def waiting_of(self, server: str) -> list[int]:
        """The messages with open recipients, of the server of that name where several share the queue; and those that
        were handed to nobody (`HandOver` to slot 0)."""

    def servers(self) -> list[ServerState]:
        """The servers that share the queue, by slot; none where it is one server's own."""

    def record(self, id: int) -> Record:
        """Everything about one message. Raises NotFound."""


class Place(Protocol):
    """A reader's position in the history."""

    def export(self) -> dict[str, Any]:
        """The position as JSON values."""


class History(Protocol):
    """Submissions, attempts and the journal, in their order."""

    def close(self) -> None:
        """Close it."""

    def between(self, since: float, until: float, word: str = "", message: int | None = None) -> Iterator[Happened]:
        """The history from `since` to `until`, in order; with `word`, only entries that have it in a column; with
        `message`, only that one's."""

    def now(self) -> Place:
        """The place where everything is read."""

    def place(self, value: dict[str, Any]) -> Place:
        """The position from its `export`. Raises KeyError, TypeError or ValueError for anything else."""

    def after(self, place: Place) -> list[Happened]:
        """The entries since `place`, which moves on."""


class Writer(Protocol):
    """Takes transactions from one thread, the loop's; has them committed in order, many at a time."""

    waiting: int  # transactions that wait, or are on their way
    begun: float  # when those on their way were sent, on the clock of `time.monotonic`; infinite where none are
    octets: int  # handed on to the disk since the start, more or less
    settled: int  # of these, when the last answer came

    def submit(self, transaction: Transaction, done: Done) -> None:
        """Write `transaction`; `done(None)` comes when it is on stable storage, `done(error)` when it is not: StoreFull
        where a retry may work when there is room, else StoreFailed."""

    def fileno(self) -> int:
        """A file descriptor; the owner of the loop calls `answered` when it is readable."""

    def answered(self) -> None:
        """Read the answers: resolve their commits, and begin the next one."""

    def may_send(self) -> bool:
        """Whether what this server has in hand is surely its own to send: no other has taken it over, or soon will."""

    def beat(self) -> None:
        """The server's loop turns; to be said every second. One that does not turn loses its mail to the others."""

    def close(self) -> None:
        """Write what waits, and end. Further transactions are not taken."""


class Listening(Protocol):
    """A subscription that lasts until it is closed."""

    def close(self) -> None:
        """End it."""


class Store(Protocol):
    """The queue and the journal of one server, or of several that share them."""

    def reader(self) -> Reader:
        """Look at the queue, beside a running server or without one. Raises StoreError when there is none."""

    def server_reads(self) -> ServerReads:
        """What the server asks whose writer was started here. Raises StoreError when there is no queue."""

    def history(self) -> History:
        """Look at what happened. Raises StoreError when there is none."""

    def start_writer(
        self, defer: Defer, lost: Callable[[], None], callback_failed: CallbackFailed, keep: Sequence[int] = ()
    ) -> Writer:
        """Write transactions for a server that holds the folder's lock; one at a time.

        `defer` has a function called soon in the loop's thread, and again later while it raises. `callback_failed`
        is called when a `done` raised: with its transaction, whether that was written, and the exception. `lost` is
        called, once, when nothing can be written any more: then it is not known whether those on their way were kept;
        they are answered with StoreFailed, and so is every later one. The file descriptors in `keep` stay open until
        the last transaction is written, however the server ends. Raises StoreError and SchemaTooNew.
        """

    def listen(self, heard: Callable[[], object]) -> Listening:
        """Have `heard` called, in another thread, when somebody has something for the servers that share the queue."""

    def write(self, transactions: Sequence[Transaction], *, durable: bool = True) -> list[KiteError | None]:
        """Write transactions to stable storage, all at once; for each, the error that prevented it, if any.

        For commands that hold the folder's lock, or that only write entries of the journal. With `durable` off, a crash
        of the system may lose all of it. Raises StoreError and SchemaTooNew, OSError where content cannot be written.
        """

    def add_requests(self, wanted: Sequence[AdminRequest]) -> list[int]:
        """Add requests for the server to carry out; the numbers they got. Their own numbers are ignored.

        Raises StoreError and SchemaTooNew.
        """

    def probe(self) -> None:
        """Look whether a server could use it, and change nothing. Raises StoreError, SchemaTooNew."""

    def upgrade(self) -> None:
        """Make a store where there is none, and bring that of an older release up to date.

        Raises StoreError and SchemaTooNew.
        """

    def watch(self) -> Callable[[], str]:
        """A function that says, at any later time, which part of the store is gone or replaced; empty when all is well:
        writes into deleted files are lost."""

    def verify(self) -> Verified:
        """Look at all that is kept, beside a running server or without one. Raises StoreError."""

    def rescue(self, into: Path, now: float) -> Rescued:
        """Make the queue anew in the folder `into`, which is empty or not there yet; the old one stays as it is.

        Raises StoreError, and FolderInUse where a server runs.
        """
