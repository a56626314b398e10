"""How much mail flowed, hour by hour."""

from __future__ import annotations

from copper_kite.store import Tally
from copper_kite.trace.flow import DAY, flow_of

MINUTE = 29_000_000  # the present one, since 1970


def test_hours_are_counted_back_from_now() -> None:
    """The present minute and the 59 before it are the last hour; what is a day old, or yet to come, is left out."""
    of_minutes = [(0, 1), (59, 2), (60, 4), (24 * 60 - 1, 8), (24 * 60, 16), (-1, 32)]
    tallies = [Tally(MINUTE - back, "beacon", "relayed", recipients) for back, recipients in of_minutes]
    flow = flow_of([*tallies, Tally(MINUTE, "", "accepted", 5)], MINUTE * 60 + 59.9)
    assert flow.hours["relayed"] == [8, *[0] * 21, 4, 3] and flow.last_hour("relayed") == 3
    assert flow.last_day("relayed") == 15 and flow.relayed_by == {"beacon": 3}
    assert flow.last_day("accepted") == 5 and flow.last_day("failed") == 0 and len(flow.hours["failed"]) * 3600 == DAY
