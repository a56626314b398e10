"""SPF (RFC 7208): the result of a domain's record for an address, and the problems of the record."""

from __future__ import annotations

from copper_kite.posture.spf.evaluate import MAX_LOOKUPS, MAX_VOID, SpfResult, evaluate
from copper_kite.posture.spf.record import Mechanism, SpfProblem, SpfRecord, parse_record, select_record
from copper_kite.posture.spf.survey import SpfNode, survey

__all__ = [
    "MAX_LOOKUPS",
    "MAX_VOID",
    "Mechanism",
    "SpfNode",
    "SpfProblem",
    "SpfRecord",
    "SpfResult",
    "evaluate",
    "parse_record",
    "select_record",
    "survey",
]
