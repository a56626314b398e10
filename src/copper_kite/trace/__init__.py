"""A message's story: what happened to it, in order, and the verdict.

`tell_story` makes it of what the store has, `follow_elsewhere` goes on in the logs of others, `find_way` reads the way
of a received message, and `journal_entries` what happened at all.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.trace.allowances import UsedAllowance, used_allowances
    from copper_kite.trace.beyond import Group, Told, find_message, group_told, notice_entries
    from copper_kite.trace.certificates import certificate_ends
    from copper_kite.trace.clocks import SKEW
    from copper_kite.trace.departure import Departure, find_departure, own_step
    from copper_kite.trace.elsewhere import follow_elsewhere
    from copper_kite.trace.flow import DAY, HOURS, Flow, flow_of
    from copper_kite.trace.journal import dialogue_entries, history_entries, journal_entries
    from copper_kite.trace.linemap import Entry
    from copper_kite.trace.logs import LogSource
    from copper_kite.trace.pulse import Pulse
    from copper_kite.trace.refused import Refused, group_refused, matching_refusals, refused_verdict
    from copper_kite.trace.running import attempt_of
    from copper_kite.trace.signatures import SignatureChecks, check_signatures, signatures_verdict
    from copper_kite.trace.sought import Sought
    from copper_kite.trace.sources import configured_sources, find_map, found_files, named_sources
    from copper_kite.trace.story import Story, tell_story
    from copper_kite.trace.syslog import parse_line
    from copper_kite.trace.timeline import session_words
    from copper_kite.trace.told import judge_told
    from copper_kite.trace.way import Step, Way, find_way, way_verdict

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "allowances": "UsedAllowance used_allowances",
        "beyond": "Group Told find_message group_told notice_entries",
        "certificates": "certificate_ends",
        "clocks": "SKEW",
        "departure": "Departure find_departure own_step",
        "elsewhere": "follow_elsewhere",
        "flow": "DAY Flow HOURS flow_of",
        "journal": "dialogue_entries history_entries journal_entries",
        "linemap": "Entry",
        "logs": "LogSource",
        "pulse": "Pulse",
        "refused": "Refused group_refused matching_refusals refused_verdict",
        "running": "attempt_of",
        "signatures": "SignatureChecks check_signatures signatures_verdict",
        "sought": "Sought",
        "sources": "configured_sources find_map found_files named_sources",
        "story": "Story tell_story",
        "syslog": "parse_line",
        "timeline": "session_words",
        "told": "judge_told",
        "way": "Step Way find_way way_verdict",
    },
)
