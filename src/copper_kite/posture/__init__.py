"""The quality of a set-up: the configuration checked as a whole, and what others see of its domains.

`check_source` gives the findings about a configuration; `examine_domains` what receivers look up about a domain.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.posture.audit import RISKS, Audited, Surroundings, Weakness, audit_configuration, look_around
    from copper_kite.posture.check import check_file, check_source
    from copper_kite.posture.domain import (
        Difference,
        DomainReport,
        Grade,
        Line,
        Question,
        TxtRecord,
        check_key,
        compare_published,
        examine_domains,
        key_records,
        own_addresses,
        records_to_publish,
        sending_domains,
    )

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "audit": "Audited RISKS Surroundings Weakness audit_configuration look_around",
        "check": "check_file check_source",
        "domain": "Difference DomainReport Grade Line Question TxtRecord check_key compare_published examine_domains"
        " key_records own_addresses records_to_publish sending_domains",
    },
)
