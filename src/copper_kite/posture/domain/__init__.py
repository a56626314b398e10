"""The sending domain: what receivers look up about it, how they judge it, and what to publish."""

from __future__ import annotations

from copper_kite.posture.domain.authenticity import check_key
from copper_kite.posture.domain.examine import examine_domains, own_addresses, sending_domains
from copper_kite.posture.domain.model import DomainReport, Grade, Line, Question, TxtRecord
from copper_kite.posture.domain.published import Difference, compare_published, key_records, records_to_publish

__all__ = [
    "Difference",
    "DomainReport",
    "Grade",
    "Line",
    "Question",
    "TxtRecord",
    "check_key",
    "compare_published",
    "examine_domains",
    "key_records",
    "own_addresses",
    "records_to_publish",
    "sending_domains",
]
