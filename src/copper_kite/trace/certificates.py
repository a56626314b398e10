"""When certificates end: our own, and those that next hops showed."""

from __future__ import annotations

from copper_kite.net import certificate_end
from copper_kite.settings import Loaded
from copper_kite.store import Reader
from copper_kite.words import Event

__all__ = ["certificate_ends"]


def certificate_ends(loaded: Loaded, reader: Reader) -> list[tuple[str, str, float]]:
    """`listener` or `next hop`, its name, and the end in seconds since 1970; one that cannot be read is left out."""
    return [*_own(loaded), *_shown(reader, loaded)]


def _own(loaded: Loaded) -> list[tuple[str, str, float]]:
    ends = []
    for listener in loaded.settings.listener:
        if listener.enabled and listener.tls != "off" and listener.certificate:
            end = certificate_end(loaded.path.parent / listener.certificate)
            if end is not None:
                ends.append(("listener", listener.name, end))
    return ends


def _shown(reader: Reader, loaded: Loaded) -> list[tuple[str, str, float]]:
    """The certificates of the next hops that are configured now, as each was last seen."""
    hops = {(entry.name, str(hop)) for entry in loaded.settings.connector if not entry.mx for hop in entry.next_hops}
    last = {
        (entry.facts["connector"], entry.facts["next_hop"]): entry.facts["ends"]
        for entry in reader.noted(Event.CERTIFICATE, 0.0)
    }
    shown = [(hop, connector, ends) for (connector, hop), ends in sorted(last.items()) if (connector, hop) in hops]
    return [("next hop", f"{hop} of {connector}", ends) for hop, connector, ends in shown]
