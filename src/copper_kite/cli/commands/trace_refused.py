"""`kite trace --refused`."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import age, echo, json_time, local_times, print_json, print_table, print_verdict

if TYPE_CHECKING:
    from collections.abc import Mapping

    from copper_kite.store import StorePlace
    from copper_kite.trace import Refused

__all__ = ["show_refused"]


def show_refused(
    place: StorePlace, seconds: float, until: float | None, given: Mapping[str, Any], *, as_json: bool
) -> None:
    """The submissions that listeners refused in the last seconds, filtered."""
    from copper_kite.store import open_store
    from copper_kite.trace import group_refused, matching_refusals, refused_verdict
    from copper_kite.words import Event

    with open_store(place).reader() as reader:
        entries = reader.noted(Event.REFUSED, time.time() - seconds)
    groups = matching_refusals(
        group_refused([entry for entry in entries if until is None or entry.at <= until]),
        who=given["who"],
        reason=given["reason"],
        sender=given["sender"],
        to=given["to"],
    )
    if as_json:
        print_json(
            [
                {
                    "listener": group.listener,
                    "who": group.who,
                    "stage": group.stage,
                    "account": group.account or None,
                    "reply": group.reply,
                    "count": group.count,
                    "first": json_time(group.first),
                    "last": json_time(group.last),
                    "example": group.example,
                }
                for group in groups
            ]
        )
        return
    if groups:
        times = local_times([group.last for group in groups])
        print_table(
            ("last", "count", "who", "account", "listener", "stage", "reply"),
            [
                (at, str(result.count), result.who, result.account, result.listener, result.stage, _said(result))
                for at, result in zip(times, groups, strict=True)
            ],
            right=("count",),
            wraps=True,
        )
        echo()
    print_verdict(refused_verdict(groups, age(seconds)))


def _said(refused: Refused) -> str:
    why = refused.example.get("why", "")
    return refused.reply + (f" ({why})" if why else "")
