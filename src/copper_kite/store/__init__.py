"""The queue and the journal. Whoever else needs them imports from here, and knows nothing of the engine behind it.

A server starts the process that writes (`start_process`) and hands changes to a `GroupWriter`, which calls back when
each is on stable storage: `Change`, or its short forms `Fresh` and `Relayed`. Commands without a server use
`write_alone`. `Reader` looks at the queue, `History` at what happened, beside a running server or without one.
`FolderLock` sees to it that one server at a time serves a folder.

What is named here is imported when it is first used: most commands need little of it, and quickly.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from copper_kite.store.folder import FolderLock as FolderLock
    from copper_kite.store.folder import Note as Note
    from copper_kite.store.folder import Running as Running
    from copper_kite.store.folder import read_note as read_note
    from copper_kite.store.folder import running_server as running_server
    from copper_kite.store.folder import write_note as write_note
    from copper_kite.store.ids import ID_LENGTH as ID_LENGTH
    from copper_kite.store.ids import IdMaker as IdMaker
    from copper_kite.store.ids import id_range as id_range
    from copper_kite.store.ids import id_text as id_text
    from copper_kite.store.live import LaneNow as LaneNow
    from copper_kite.store.live import read_live as read_live
    from copper_kite.store.live import remove_live as remove_live
    from copper_kite.store.live import write_live as write_live
    from copper_kite.store.model import Attempt as Attempt
    from copper_kite.store.model import Change as Change
    from copper_kite.store.model import ConnectorState as ConnectorState
    from copper_kite.store.model import Done as Done
    from copper_kite.store.model import Due as Due
    from copper_kite.store.model import Fresh as Fresh
    from copper_kite.store.model import JournalEntry as JournalEntry
    from copper_kite.store.model import LaneStop as LaneStop
    from copper_kite.store.model import Message as Message
    from copper_kite.store.model import Outcome as Outcome
    from copper_kite.store.model import QueueGroup as QueueGroup
    from copper_kite.store.model import QueueRow as QueueRow
    from copper_kite.store.model import QueueShape as QueueShape
    from copper_kite.store.model import Recipient as Recipient
    from copper_kite.store.model import Record as Record
    from copper_kite.store.model import Relayed as Relayed
    from copper_kite.store.model import Selection as Selection
    from copper_kite.store.model import Submit as Submit
    from copper_kite.store.model import Waiting as Waiting
    from copper_kite.store.model import Wanted as Wanted
    from copper_kite.store.sqlite.alone import write_alone as write_alone
    from copper_kite.store.sqlite.commit import want as want
    from copper_kite.store.sqlite.handed import Handed as Handed
    from copper_kite.store.sqlite.history import Happened as Happened
    from copper_kite.store.sqlite.history import History as History
    from copper_kite.store.sqlite.history import Place as Place
    from copper_kite.store.sqlite.process import Channel as Channel
    from copper_kite.store.sqlite.process import start_process as start_process
    from copper_kite.store.sqlite.reads import Reader as Reader
    from copper_kite.store.sqlite.rescue import Lost as Lost
    from copper_kite.store.sqlite.rescue import Rescued as Rescued
    from copper_kite.store.sqlite.rescue import rescue as rescue
    from copper_kite.store.sqlite.schema import connect_writer as connect_writer
    from copper_kite.store.sqlite.verify import verify as verify
    from copper_kite.store.sqlite.witness import Witness as Witness
    from copper_kite.store.sqlite.writer import GroupWriter as GroupWriter

__all__ = [
    "ID_LENGTH",
    "Attempt",
    "Change",
    "Channel",
    "ConnectorState",
    "Done",
    "Due",
    "FolderLock",
    "Fresh",
    "GroupWriter",
    "Handed",
    "Happened",
    "History",
    "IdMaker",
    "JournalEntry",
    "LaneNow",
    "LaneStop",
    "Lost",
    "Message",
    "Note",
    "Outcome",
    "Place",
    "QueueGroup",
    "QueueRow",
    "QueueShape",
    "Reader",
    "Recipient",
    "Record",
    "Relayed",
    "Rescued",
    "Running",
    "Selection",
    "Submit",
    "Waiting",
    "Wanted",
    "Witness",
    "connect_writer",
    "id_range",
    "id_text",
    "read_live",
    "read_note",
    "remove_live",
    "rescue",
    "running_server",
    "start_process",
    "verify",
    "want",
    "write_alone",
    "write_live",
    "write_note",
]

_PLACES = {
    "folder": ("FolderLock", "Note", "Running", "read_note", "running_server", "write_note"),
    "ids": ("ID_LENGTH", "IdMaker", "id_range", "id_text"),
    "live": ("LaneNow", "read_live", "remove_live", "write_live"),
    "model": (
        "Attempt",
        "Change",
        "ConnectorState",
        "Done",
        "Due",
        "Fresh",
        "JournalEntry",
        "LaneStop",
        "Message",
        "Outcome",
        "QueueGroup",
        "QueueRow",
        "QueueShape",
        "Recipient",
        "Record",
        "Relayed",
        "Selection",
        "Submit",
        "Waiting",
        "Wanted",
    ),
    "sqlite.alone": ("write_alone",),
    "sqlite.commit": ("want",),
    "sqlite.handed": ("Handed",),
    "sqlite.history": ("Happened", "History", "Place"),
    "sqlite.process": ("Channel", "start_process"),
    "sqlite.reads": ("Reader",),
    "sqlite.rescue": ("Lost", "Rescued", "rescue"),
    "sqlite.schema": ("connect_writer",),
    "sqlite.verify": ("verify",),
    "sqlite.witness": ("Witness",),
    "sqlite.writer": ("GroupWriter",),
}
_MODULES = {name: module for module, names in _PLACES.items() for name in names}


def __getattr__(name: str) -> Any:
    """What is exported, from its module."""
    module = _MODULES.get(name)
    if module is None:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = globals()[name] = getattr(import_module(f"{__name__}.{module}"), name)
    return value
