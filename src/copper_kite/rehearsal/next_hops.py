"""Next hops as a rehearsal has them: how long they take, what they answer, and when they are away.

Chance is a number that follows from the seed, the message and its attempt: two configurations that are compared meet
the same luck.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from copper_kite.net import (
    AddressMemory,
    Dialogue,
    PassedOver,
    Plan,
    SessionFailed,
    Sessions,
    SessionSeen,
    StageDone,
    Tried,
)
from copper_kite.rehearsal.loop import SimulatedLoop
from copper_kite.rehearsal.queue import MemoryQueue
from copper_kite.relay import Network, Session
from copper_kite.smtp import Capabilities, Envelope, Reply, Result
from copper_kite.store import Message, Recipient
from copper_kite.words import Cause, Stage

__all__ = ["Away", "HopModel", "ModelNetwork", "Outcome", "Refusal", "Slow", "domain_of"]

CONNECT_SECONDS = 0.05  # to open a session, where nothing says how long
SERVICE_SECONDS = 0.2  # for a message, where nothing says how long
REFUSED_SECONDS = 0.001
SILENT_SECONDS = 30.0  # until a connection that nobody answers is given up
ACCEPTED = Reply(250, "2.0.0", "taken")
OFFERED = Capabilities(dict.fromkeys(("PIPELINING", "8BITMIME", "SMTPUTF8", "DSN", "REQUIRETLS"), ()))
_MASK, _SCALE = (1 << 61) - 1, float(1 << 61)  # for the hash of a tuple


class Away(NamedTuple):
    """A span (seconds since 1970) in which a next hop refuses connections, or with `silent` answers nothing."""

    since: float
    until: float
    silent: bool = False


class Slow(NamedTuple):
    """A span in which each message takes `factor` times as long."""

    since: float
    until: float
    factor: float


class Refusal(NamedTuple):
    """A span in which recipients in a domain (or `*.domain`, or `*`) are refused with a reply."""

    domain: str
    reply: Reply
    since: float
    until: float

    def hits(self, domain: str, now: float) -> bool:
        """Whether it is for a domain now."""
        if not self.since <= now < self.until:
            return False
        return self.domain in ("*", domain) or (self.domain.startswith("*.") and domain.endswith(self.domain[1:]))


class Outcome(NamedTuple):
    """A refusal that happens to a share of the attempts."""

    share: float
    reply: Reply
    stage: Stage = Stage.RECIPIENT


@dataclass(slots=True)
class HopModel:
    """The next hops of a connector. `service` holds how long a message takes, each of the values alike likely (sorted,
    seconds); `interval` is the least time from one message to the next over all sessions, in seconds.

    `first` and `later` have what first and later attempts come to, by the recipient's domain; `away` and `slow` are in
    the order of time.
    """

    service: Sequence[float] = (SERVICE_SECONDS,)
    connect: float = CONNECT_SECONDS
    interval: float = 0.0
    first: Mapping[str, Sequence[Outcome]] = field(default_factory=dict)
    later: Mapping[str, Sequence[Outcome]] = field(default_factory=dict)
    away: Sequence[Away] = ()
    slow: Sequence[Slow] = ()
    refusals: Sequence[Refusal] = ()
    free: float = 0.0  # when it takes the next message

    def is_away(self, since: float, until: float) -> Away | None:
        """The span in which it is away that meets this one."""
        for span in self.away:
            if span.since <= until and since < span.until:
                return span
        return None

    def factor(self, now: float) -> float:
        """How many times as long a message takes now."""
        return next((span.factor for span in self.slow if span.since <= now < span.until), 1.0)

    def takes(self, now: float, chance: float) -> float:
        """When a message that begins now is done; `chance` in [0, 1) chooses among `service`."""
        service = self.service[int(chance * len(self.service))]
        if not self.slow and not self.interval:
            return now + service
        factor = self.factor(now)
        self.free = max(self.free, now) + self.interval * factor
        return max(self.free if self.interval else now, now + service * factor)

    def answer(self, domain: str, attempts: int, now: float, chance: float) -> tuple[Stage, Reply]:
        """The reply that decides a recipient after so many earlier attempts."""
        for refusal in self.refusals:
            if refusal.hits(domain, now):
                return Stage.RECIPIENT, refusal.reply
        for outcome in (self.later if attempts else self.first).get(domain, ()):
            if chance < outcome.share:
                return outcome.stage, outcome.reply
            chance -= outcome.share
        return Stage.ACCEPT, ACCEPTED


class ModelNetwork(Network):
    """Sessions with modelled next hops, by `host:port`; `others` is the model of what is not there, as of exchangers
    that DNS would name."""

    def __init__(
        self,
        loop: SimulatedLoop,
        queue: MemoryQueue,
        models: Mapping[str, HopModel],
        others: HopModel,
        seed: int,
    ) -> None:
        self.loop = loop
        self.queue = queue
        self.chance = self.chance_of(seed)
        self._models = models
        self._others = others

    async def open(
        self, plan: Plan, dialogue: Dialogue, earlier: Sessions, memory: AddressMemory, looked: SessionFailed | None
    ) -> Session:
        """A session, unless the next hop is away."""
        where = plan.where
        model = self._models.get(where) or self._others
        away = model.is_away(self.loop.now, self.loop.now)
        if away is not None:
            await asyncio.sleep(SILENT_SECONDS if away.silent else REFUSED_SECONDS)
            cause = Cause.CONNECTION_TIMED_OUT if away.silent else Cause.CONNECTION_REFUSED
            raise SessionFailed(Stage.CONNECT, cause, cause.value, seen=SessionSeen(next_hop=where))
        if model.connect:
            await asyncio.sleep(model.connect)
        return ModelSession(self, model, plan, where, dialogue)

    async def explain(self, plan: Plan, failure: SessionFailed) -> SessionFailed:
        """There is nothing more to see."""
        return failure

    async def exchangers(self, domain: str, plan: Plan) -> tuple[Sequence[tuple[int, str]], bool]:
        """Each domain takes its mail itself."""
        return [(10, domain)], False

    async def addresses(self, host: str, plan: Plan) -> list[str]:
        """None: no exchanger is this server itself."""
        return []

    @staticmethod
    def chance_of(seed: int) -> Callable[[float, int, int], float]:
        """The function that gives a number in [0, 1) for what happens to a recipient of a message that arrived at an
        instant, by the number of the recipient (0: to the message) and of earlier attempts."""

        def chance(arrived: float, number: int, attempts: int) -> float:
            return (hash((seed, arrived, number, attempts)) & _MASK) / _SCALE

        return chance


class ModelSession:
    """A session with a modelled next hop."""

    resumed = broken = False
    verified = usable = True
    spent = False
    address = tls_version = cipher = mechanism = ""

    def __init__(self, network: ModelNetwork, model: HopModel, plan: Plan, where: str, dialogue: Dialogue) -> None:
        self._network = network
        self._model = model
        self.plan = self.hop = plan
        self.where = where
        self.dialogue = dialogue
        self.capabilities = OFFERED
        self.stage = Stage.LOGIN
        self.stages: list[StageDone] = []
        self.tried: list[Tried] = []
        self.passed_over: tuple[PassedOver, ...] = ()
        self.chain: list[bytes] = []
        self.begun = self.carried = 0
        self.carries: tuple[int, float] | None = None

    async def relay(
        self,
        envelope: Envelope,
        content: Callable[[], Iterable[bytes]],
        before_content: Awaitable[None] | None = None,
        following: Callable[[], Envelope | None] = lambda: None,
    ) -> tuple[Result, ...]:
        """Take as long as the next hop takes, and have it answer."""
        if before_content is not None:
            await before_content
        assert self.carries is not None
        message, recipients = self._network.queue.open_message(self.carries[0])
        wanted = set(envelope.recipients)
        recipients = [recipient for recipient in recipients if recipient.address in wanted]
        began = self._network.loop.now
        await asyncio.sleep(self.begin(message, recipients) - began)
        return self.end(message, recipients, began)

    def begin(self, message: Message, recipients: Sequence[Recipient]) -> float:
        """Begin with a message; when it is done."""
        return self.begin_at(message.arrived, recipients[0].attempts)

    def begin_at(self, arrived: float, attempts: int) -> float:
        """The same for a message that arrived at an instant, after so many attempts."""
        self.begun += 1
        self.stage = Stage.ACCEPT
        model, network = self._model, self._network
        chance = network.chance(arrived, 0, attempts) if len(model.service) > 1 else 0.0
        return model.takes(network.loop.now, chance)

    def accepts(self, arrived: float, address: str, began: float) -> bool:
        """Whether the first attempt of a message to one recipient, begun at an instant, goes well now."""
        model, now = self._model, self._network.loop.now
        if model.away and model.is_away(began, now):
            return False
        if not model.refusals and not model.first:
            return True
        domain = domain_of(address)
        return model.answer(domain, 0, now, self._network.chance(arrived, 1, 0))[0] is Stage.ACCEPT

    def end(self, message: Message, recipients: Sequence[Recipient], began: float) -> tuple[Result, ...]:
        """The answer to a message that began at an instant. Raises SessionFailed where the next hop went away."""
        model, now = self._model, self._network.loop.now
        if model.away and model.is_away(began, now):
            self.usable, self.broken = False, True
            failure = SessionFailed(Stage.ACCEPT, Cause.LOST, "the connection was lost")
            failure.content_begun = True
            raise failure
        self.carried += 1
        results = []
        for recipient in recipients:
            luck = self._network.chance(message.arrived, recipient.number, recipient.attempts)
            stage, reply = model.answer(domain_of(recipient.address), recipient.attempts, now, luck)
            results.append(Result(recipient.address, stage, reply))
        return tuple(results)

    async def close(self, seconds: float | None = None) -> None:
        """Nothing is open."""

    def abort(self) -> None:
        """Nothing is open."""
        self.usable = False


def domain_of(address: str) -> str:
    """The domain of an address, in lower case."""
    return address[address.rfind("@") + 1 :].lower()
