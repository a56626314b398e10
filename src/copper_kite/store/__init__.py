"""The queue and the journal. Other packages import from here, and do not depend on the engine.

`open_store` opens the `Store` of a data folder: its `Reader` looks at the queue, its `History` at what happened, beside
a running server or without one. What is written is a transaction, a sequence of operations (`AddMessage`,
`RecordAttempt` …): a server hands them to the `Writer`, which calls back when each is on stable storage; commands
without a server use `Store.write`. `FolderLock` sees to it that one server at a time serves a folder.

What is named here is imported when it is first used: most commands need little of it, and quickly.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from copper_kite.errors import StoreError
from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.store.contract import CallbackFailed, Defer, History, Place, Reader, ServerReads, Store, Writer
    from copper_kite.store.dropped import DROP_MODE, DROP_NAME, dropped_names, why_no_drop_folder
    from copper_kite.store.facts import (
        AttemptFacts,
        PassedOverHop,
        RecipientResult,
        SessionFacts,
        StageTook,
        TriedAddress,
    )
    from copper_kite.store.files import put_file
    from copper_kite.store.folder import FolderLock, Note, Running, read_note, running_server, write_note
    from copper_kite.store.health import Lost, Rescued, Verified
    from copper_kite.store.ids import ID_LENGTH, IdMaker, id_range, id_text, slot_of
    from copper_kite.store.live import AttemptNow, DownNow, LaneNow, read_live, remove_live, write_live
    from copper_kite.store.model import (
        DELAY_STEPS,
        AdminRequest,
        Attempt,
        CarrierThen,
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
        delay_of_step,
        step_of_delay,
    )
    from copper_kite.store.operations import (
        AddContent,
        AddMessage,
        AddRecipient,
        Done,
        DropContent,
        ExtendLifetime,
        FinishRequest,
        Forget,
        ForgetOld,
        HandOver,
        MoveContent,
        NoteFailure,
        Operation,
        RecordAttempt,
        RecordRelayed,
        Reroute,
        RetryNow,
        SendBy,
        SetState,
        ShiftClock,
        StartLane,
        StopLane,
        Submit,
        Sweep,
        Transaction,
        WriteEntry,
    )
    from copper_kite.store.place import LEASE_SECONDS, DatabaseAddress, StorePlace, parse_store_url
    from copper_kite.store.raised import RaisedAlarm, read_alarms, write_alarms
    from copper_kite.store.recording import Recording, read_recordings, write_recordings

_get, _names = lazy_exports(
    __name__,
    {
        "contract": "CallbackFailed Defer History Place Reader ServerReads Store Writer",
        "dropped": "DROP_MODE DROP_NAME dropped_names why_no_drop_folder",
        "facts": "AttemptFacts PassedOverHop RecipientResult SessionFacts StageTook TriedAddress",
        "files": "put_file",
        "folder": "FolderLock Note Running read_note running_server write_note",
        "health": "Lost Rescued Verified",
        "ids": "ID_LENGTH IdMaker id_range id_text slot_of",
        "live": "AttemptNow DownNow LaneNow read_live remove_live write_live",
        "model": "Attempt CarrierThen ConnectorState CountFilter DELAY_STEPS Due Happened HourlyCount JournalEntry"
        " LaneStop Message QueueGroup QueueRow QueueSummary Recipient Record Selection ServerState Tally"
        " Waiting AdminRequest delay_of_step step_of_delay",
        "place": "LEASE_SECONDS DatabaseAddress StorePlace parse_store_url",
        "raised": "RaisedAlarm read_alarms write_alarms",
        "recording": "Recording read_recordings write_recordings",
        "operations": "AddContent AddMessage AddRecipient Done DropContent ExtendLifetime FinishRequest Forget"
        " ForgetOld HandOver MoveContent NoteFailure Operation RecordAttempt RecordRelayed Reroute"
        " RetryNow SendBy SetState ShiftClock StartLane StopLane Submit Sweep Transaction WriteEntry",
    },
)
__getattr__, __all__ = _get, ["open_store", *_names]


def open_store(place: StorePlace | Path) -> Store:
    """The store at a place, or in a data folder. Nothing is looked at yet, and nothing made.

    Raises StoreError where it is in a PostgreSQL database and the library for that is not installed.
    """
    folder = place if isinstance(place, Path) else place.folder
    if isinstance(place, Path) or not place.url:
        from copper_kite.store.sqlite.engine import SqliteStore

        return SqliteStore(folder)
    try:
        from copper_kite.store.postgres.engine import PostgresStore
    except ImportError as error:
        remedy = "pip install 'copper-kite[postgres]'"
        raise StoreError(str(place), f"it needs a library ({error.name}) that is not installed", remedy) from error
    return PostgresStore(place)
