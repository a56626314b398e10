"""From MX records to the hosts to try, in order (RFC 5321 5.1, RFC 7505)."""

from __future__ import annotations

import random
from collections.abc import Collection, Sequence

from copper_kite.net import SessionFailed
from copper_kite.smtp import Reply
from copper_kite.words import Cause, Stage

__all__ = ["LOOP", "mx_order"]

LOOP = Reply(554, "5.4.6", "mail for it would come back here")


def mx_order(domain: str, records: Sequence[tuple[int, str]], own: Collection[str]) -> list[str]:
    """The hosts for `domain`: by rising preference, those with the same by chance; without records the domain itself.

    Hosts from our own (`own` names, in lower case) upwards are left out. Raises SessionFailed for a domain that takes
    no mail (a null MX), and where only we ourselves are left.
    """
    if list(records) == [(0, ".")] or (len(records) == 1 and records[0][1] == "."):
        text = f"{domain} takes no mail (null MX)"
        raise SessionFailed(Stage.RESOLVE, Cause.NULL_MX, text, Reply(556, "5.1.10", text))
    results = [(preference, host) for preference, host in records if host != "."]
    if not records:
        results = [(0, domain.lower())]
    ours = min((preference for preference, host in results if host in own), default=None)
    left = [(preference, host) for preference, host in results if ours is None or preference < ours]
    if not left:
        text = f"the mail exchanger of {domain} is this server itself"
        raise SessionFailed(Stage.RESOLVE, Cause.MAIL_LOOP, text, LOOP)
    return [host for _, _, host in sorted((preference, random.random(), host) for preference, host in left)]
