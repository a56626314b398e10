"""`kite trace --refused`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from copper_kite.cli.show import age, echo, json_time, local_times, print_json, print_table, print_verdict

if TYPE_CHECKING:
    from pathlib import Path

__all__ = ["show_refused"]


def show_refused(folder: Path, seconds: float, *, as_json: bool) -> None:
    """What listeners refused in the last so many seconds."""
    from copper_kite.smtp.replies import printable
    from copper_kite.store import open_store
    from copper_kite.trace.refused import group_refused, refused_verdict
    from copper_kite.words import Event

    with open_store(folder).reader() as reader:
        groups = group_refused(reader.noted(Event.REFUSED, time.time() - seconds))
    if as_json:
        print_json(
            [
                {
                    "listener": one.listener,
                    "who": one.who,
                    "stage": one.stage,
                    "reply": one.reply,
                    "count": one.count,
                    "first": json_time(one.first),
                    "last": json_time(one.last),
                    "example": one.example,
                }
                for one in groups
            ]
        )
        return
    if groups:
        times = local_times([one.last for one in groups])
        print_table(
            ("last", "count", "who", "listener", "stage", "reply"),
            [
                (at, str(one.count), one.who, one.listener, one.stage, printable(one.reply))
                for at, one in zip(times, groups, strict=True)
            ],
            right=("count",),
            wraps=True,
        )
        echo()
    print_verdict(refused_verdict(groups, age(seconds)))
