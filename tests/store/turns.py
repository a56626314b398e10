"""A loop whose turns a test takes by hand, and messages for it to write."""

from __future__ import annotations

import select
from collections import deque
from collections.abc import Callable

from copper_kite.errors import KiteError
from copper_kite.store import Message, Recipient, Store, Transaction, Writer
from tests.support import whole


class Turns:
    """Stands in for the loop: what is deferred, or can be read, runs when the test says so."""

    def __init__(self) -> None:
        self.deferred: deque[Callable[[], None]] = deque()
        self.writer: Writer | None = None
        self.lost = 0
        self.callback_failed: list[tuple[object, bool, str]] = []

    def turn(self) -> None:
        if self.deferred:
            self.deferred.popleft()()
        else:
            assert self.writer is not None and select.select([self.writer], [], [], 10)[0]
            self.writer.answered()

    def note(self, transaction: object, written: bool, error: Exception) -> None:
        self.callback_failed.append((transaction, written, str(error)))

    def lose(self) -> None:
        self.lost += 1

    def start(self, store: Store) -> Writer:
        """Have a store's writer go by these turns."""
        return self.take(store.start_writer(self.deferred.append, self.lose, self.note))

    def take(self, writer: Writer) -> Writer:
        """The same for one that is there."""
        self.writer = writer
        return writer


def message(id: int, **more: object) -> Message:
    facts: dict[str, object] = {
        "id": id, "arrived": 100.0, "expires": 900.0, "reverse_path": "a@x.example", "size": 3, "eight_bit": False,
        "utf8": False, "message_id": "<m@x>", "listener": "programs", "client": "127.0.0.1", "hello": "h", "user": "",
        "protocol": "ESMTP",
    }  # fmt: skip
    return Message(**(facts | more))  # type: ignore[arg-type]


def submission(id: int, *addresses: str, changed: float = 100.0) -> Transaction:
    return whole(
        message(id),
        [
            Recipient(id, number, address, changed=changed)
            for number, address in enumerate(addresses or ("b@y.example",), 1)
        ],
        b"abc",
    )


def write_together(writer: Writer, turns: Turns, *transactions: Transaction) -> list[KiteError | None]:
    """Have them written as one group; their errors."""
    errors: list[KiteError | None] = []
    for transaction in transactions:
        writer.submit(transaction, errors.append)
    turns.turn()  # fill
    turns.turn()  # committed
    return errors
