"""Orders of an administrator carried out without a server: under its lock, so that none starts meanwhile."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from itertools import groupby
from operator import attrgetter

from copper_kite.relay.admin_requests import AdminRequests
from copper_kite.relay.decide import Retry
from copper_kite.relay.delivery import Recorder
from copper_kite.relay.notices import make_notices
from copper_kite.settings import Loaded
from copper_kite.store import AdminRequest, FolderLock, IdMaker, open_store

__all__ = ["carry_out_offline"]


def carry_out_offline(loaded: Loaded, wanted: Sequence[AdminRequest], now: float) -> None:
    """Carry out the requests; `now` in seconds since 1970. Raises FolderInUse, StoreError, StoreFull, StoreFailed."""
    store = open_store(loaded.store)
    with contextlib.closing(FolderLock(loaded.data, now)):
        store.upgrade()
        with store.reader() as reader:
            ids = IdMaker(reader.last_id())
            recorder = Recorder(Retry(loaded.settings.retry.waits), ids, make_notices(loaded, ids))
            requests = AdminRequests(recorder, reader.content)
            of_messages = groupby(sorted(wanted, key=attrgetter("message")), attrgetter("message"))
            transactions = [
                requests.carry_out(*reader.recipients(id), list(group), now).transaction() for id, group in of_messages
            ]
        for error in store.write(transactions):
            if error is not None:
                raise error
