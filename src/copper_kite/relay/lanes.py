"""The lanes there are: one for each connector, and with `mx` one for each domain that mail is on its way to."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

from copper_kite.clock import Clock
from copper_kite.net import Plan, StsPolicies
from copper_kite.relay.backlog import Key
from copper_kite.relay.decide import Retry
from copper_kite.relay.hops import Down, Hops, MxHops, literal_address
from copper_kite.relay.job import Job
from copper_kite.relay.lane import Lane
from copper_kite.relay.lane_sink import Sink
from copper_kite.relay.signatures import Signatures
from copper_kite.relay.surroundings import Surroundings
from copper_kite.routing import Router, make_plan, make_plans
from copper_kite.settings import Connector, Endpoint, Loaded
from copper_kite.store import DownNow, LaneNow

__all__ = ["Lanes"]

MAX_LANES = 2000  # of domains; beyond, those without a session are forgotten


class Lanes:
    """The lanes of one configuration after another. `sink` is where they report; `fault` notes exceptions; `told` is
    called when a named next hop of a connector goes down or is back, `shown` gets its certificate."""

    def __init__(
        self,
        sink: Sink,
        clock: Clock,
        fault: Callable[..., str],
        told: Callable[[str, Plan, Down | None], None],
        shown: Callable[[str, Plan, bytes], None],
        surroundings: Surroundings,
    ) -> None:
        self._network = surroundings.network
        self._make_lane = surroundings.make_lane
        self._sink = sink
        self._clock = clock
        self._fault = fault
        self._told = told
        self._shown = shown
        self._lanes: dict[Key, Lane] = {}
        self._retired: list[Lane] = []  # their sessions finish what they have in hand
        self._mx: dict[str, Connector] = {}
        self._plans: dict[str, Plan] = {}  # by which the mail exchangers of each are met
        self._listening: list[Endpoint] = []
        self._signatures = Signatures(clock.now)

    def take_up(self, loaded: Loaded) -> list[str]:
        """Go by these settings. Lanes that stay the same stay open; the connectors whose lanes do not, by name."""
        settings, clock = loaded.settings, self._clock
        retry = self._retry = Retry(settings.retry.waits)
        self._router = Router(settings.connector)
        self._enabled = {entry.name for entry in settings.connector if entry.enabled}
        self._limits = {entry.name: entry.max_size for entry in settings.connector if entry.max_size is not None}
        self._own = {loaded.server_name.lower()}
        before, self._lanes = self._lanes, {}
        kept = self._keep_mx(loaded)
        changed = [name for name in self._mx if name not in kept]
        self._lanes |= {key: before.pop(key) for key in list(before) if key[0] in kept}
        for connector in settings.connector:
            if connector.mx:
                continue
            key = (connector.name, "")
            plans, lane = make_plans(loaded, connector), before.get(key)
            if lane is not None and lane.hops.plans == plans and lane.fits(connector):
                self._lanes[key] = before.pop(key)
            else:
                changed.append(connector.name)
                told, shown = partial(self._told, connector.name), partial(self._shown, connector.name)
                hops = Hops(plans, retry, clock.now, spread=connector.spread, fault=self._fault, told=told, shown=shown,
                            dane=connector.policy == "dane", network=self._network)  # fmt: skip
                self._lanes[key] = self._make_lane(connector, hops, self._sink, clock.now, self._signatures)
        self._retired = [*(lane for lane in self._retired if lane.at_work), *before.values()]
        if self._signatures.take_up(loaded):  # what waited for a key may go
            changed += [entry.name for entry in settings.connector if entry.sign]
        return [*changed, *(name for name, _ in before)]

    def _keep_mx(self, loaded: Loaded) -> set[str]:
        """Take up the connectors that use MX; those whose lanes stay as they are."""
        known, listening, plans = self._mx, self._listening, self._plans
        self._mx = {entry.name: entry for entry in loaded.settings.connector if entry.mx}
        self._listening = [bind for entry in loaded.settings.listener if entry.enabled for bind in entry.bind]
        self._plans = {name: make_plan(loaded, entry) for name, entry in self._mx.items()}
        self._policies = {name: self._sts(loaded, entry) for name, entry in self._mx.items() if entry.policy == "auto"}
        return {
            name
            for name, entry in self._mx.items()
            if known.get(name) == entry and plans.get(name) == self._plans[name] and listening == self._listening
        }

    def _sts(self, loaded: Loaded, connector: Connector) -> StsPolicies:
        plan, file = self._plans[connector.name], loaded.data / f"sts-{connector.name}.json"
        return StsPolicies(file, self._clock.now, plan.dns, plan.trust, connector.policy_port)

    def withdraw(self) -> list[Job]:
        """Take the jobs that wait for a session out of all lanes; those that are retired end their sessions."""
        jobs = [job for lane in self._lanes.values() for job in lane.withdraw()]
        return jobs + [job for lane in self._retired for job in lane.retire()]

    def carrier(self, address: str, reverse_path: str, via: str = "") -> str:
        """The connector that carries a recipient: `via`, if an administrator chose it; empty where none does."""
        return via if via and via in self._enabled else self._router.carrier(address, reverse_path)

    def key(self, connector: str, address: str) -> Key:
        """The lane of a recipient of that connector."""
        return (connector, address.rpartition("@")[2].lower()) if connector in self._mx else (connector, "")

    def limit(self, connector: str) -> int | None:
        """The largest message a connector carries, in octets."""
        return self._limits.get(connector)

    def get(self, key: Key) -> Lane | None:
        """A lane, created now if it is one of many domains; None when no connector carries its mail."""
        lane = self._lanes.get(key)
        name, domain = key
        if lane is not None or name not in self._mx:
            return lane
        if len(self._lanes) >= MAX_LANES:
            self._lanes = {other: lane for other, lane in self._lanes.items() if not other[1] or lane.load.jobs}
        connector, plan = self._mx[name], self._plans[name]
        hops = MxHops(domain, plan, self._retry, self._clock.now, self._own, self._listening, fault=self._fault,
                      policies=self._policies.get(name), dane=connector.policy != "off",
                      network=self._network)  # fmt: skip
        where = Endpoint(literal_address(domain) or domain, connector.next_hop.port)
        lane = self._lanes[key] = self._make_lane(
            connector, hops, self._sink, self._clock.now, self._signatures, where, domain
        )
        return lane

    def keys_of(self, connector: str) -> list[Key]:
        """The lanes of a connector, as far as they are there."""
        return [key for key in self._lanes if key[0] == connector]

    def existing(self, key: Key) -> Lane | None:
        """A lane, where there is one already."""
        return self._lanes.get(key)

    def now(self) -> list[LaneNow]:
        """The lanes whose state differs from their settings."""
        lanes = [
            LaneNow(name, domain, *lane.sessions, _down_now(lane.hops), lane.attempts)
            for (name, domain), lane in self._lanes.items()
        ]
        return [lane for lane in lanes if lane.open or lane.allowed < lane.most or lane.down or lane.attempts]

    def clock_stepped(self, by: float) -> None:
        """The clock was set by so many seconds."""
        for lane in self.all():
            lane.hops.clock_stepped(by)

    def all(self) -> Iterable[Lane]:
        """The lanes of the present configuration, and those of earlier ones that still work."""
        return (*self._lanes.values(), *self._retired)


def _down_now(hops: Hops) -> tuple[DownNow, ...]:
    return tuple(
        DownNow(
            plan.where,
            down.failure.seen.address,
            down.since,
            down.until,
            down.failure.stage.value,
            down.failure.cause.value,
            down.failure.said,
        )
        for plan, down in hops.all_down.items()
    )
