"""The surroundings of a dispatcher, apart from its decisions. A rehearsal replaces them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from copper_kite.relay.lane import Lane
from copper_kite.relay.network import Network
from copper_kite.relay.notices import Notices, make_notices
from copper_kite.settings import Loaded
from copper_kite.store import IdMaker

__all__ = ["Surroundings"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """The network; how lanes carry jobs through sessions (`Lane` or a subclass); and the notices of a configuration."""

    network: Network = field(default_factory=Network)
    make_lane: Callable[..., Lane] = Lane
    make_notices: Callable[[Loaded, IdMaker], Notices] = make_notices
