"""The exchange between servers that share a queue: how much waits for each, and messages handed over."""

from __future__ import annotations

import contextlib
import math
import threading
from collections.abc import Callable

import psycopg

from copper_kite.store.place import StorePlace
from copper_kite.store.postgres.commit import Identity
from copper_kite.store.postgres.kinds.tables import CHANNEL
from copper_kite.store.postgres.link import Link, connect

__all__ = ["Listening", "exchange", "reserve", "take_given"]

LOOK_SECONDS = 5.0  # without a word, to see whether the connection still is one
AGAIN_SECONDS = 5.0
BLOCKS = 50  # an allowance is reserved in so many parts, or more
LARGEST_BLOCK = 200


def exchange(link: Link, me: Identity, waiting: int) -> list[tuple[int, int]]:
    """Say how many wait here; the other living servers, each with how many wait for it. Raises StoreError."""
    link.do(_SAY_WAITING, (waiting, *me, waiting))
    rows = link.rows(
        "SELECT slot, waiting FROM server WHERE slot <> %s AND lease_until > now() AND folder <> '' ORDER BY waiting",
        (me.slot,),
    )
    return [(slot, count) for slot, count in rows]


# The loop does not wait for a row that the process that writes has locked for its commit: it is said the next time.
_SAY_WAITING = (
    "UPDATE server SET waiting = %s WHERE slot IN (SELECT slot FROM server"
    " WHERE slot = %s AND epoch = %s AND waiting <> %s FOR UPDATE SKIP LOCKED)"
)


def take_given(link: Link, me: Identity) -> list[int]:
    """The messages that another server handed to this one. Raises StoreError."""
    return [id for (id,) in link.rows("DELETE FROM given WHERE server = %s RETURNING message", (me.slot,))]


def reserve(link: Link, connector: str, allowance: str, since: float, most: int, count: int) -> int:
    """Reserve a part of an allowance for `count` recipients or more; how many it is, 0 where nothing is left.

    A message with more recipients than a whole period allows may have a period that is still unused.
    """
    key = {"connector": connector, "allowance": allowance, "since": since}
    block = max(count, min(math.ceil(most / BLOCKS), LARGEST_BLOCK))
    with link.at_once():
        link.do(_BEGIN_PERIOD, key)
        ((used,),) = link.rows(_USED, key)
        granted = count if not used and count > most else min(block, most - int(used))
        if granted < count:
            return 0
        link.do("UPDATE reserved SET used = used + %(granted)s " + _OF_PERIOD, {**key, "granted": granted})
        return granted


_OF_PERIOD = "WHERE connector = %(connector)s AND allowance = %(allowance)s AND since = %(since)s"
_USED = f"SELECT used FROM reserved {_OF_PERIOD} FOR UPDATE"
_BEGIN_PERIOD = (
    "INSERT INTO reserved (connector, allowance, since, used)"
    " SELECT %(connector)s, %(allowance)s, %(since)s, count(*) FROM recipient"
    " WHERE state = 'relayed' AND connector = %(connector)s AND changed >= %(since)s"
    f" AND NOT EXISTS (SELECT 1 FROM reserved {_OF_PERIOD}) ON CONFLICT DO NOTHING"
)


class Listening:
    """Calls `heard`, in a thread of its own, whenever a command or a server has something for the others."""

    def __init__(self, place: StorePlace, heard: Callable[[], object]) -> None:
        self._place = place
        self._heard = heard
        self._ended = threading.Event()
        threading.Thread(target=self._run, name="listening", daemon=True).start()

    def close(self) -> None:
        """Listen no more."""
        self._ended.set()

    def _run(self) -> None:
        while not self._ended.is_set():
            with contextlib.suppress(psycopg.Error), connect(self._place) as connection:
                connection.execute(f"LISTEN {CHANNEL}")
                while not self._ended.is_set():
                    for _ in connection.notifies(timeout=LOOK_SECONDS, stop_after=1):
                        with contextlib.suppress(RuntimeError):  # the loop that was to be told has ended
                            self._heard()
                    connection.execute("SELECT 1")
            self._ended.wait(AGAIN_SECONDS)
