"""The other loads: so many messages an hour, and what was submitted once, again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from copper_kite.rehearsal.arrivals import Arrival

__all__ = ["BURST_RATE", "Replay", "Steady"]

BURST_RATE = 500.0  # messages in a second, as fast as a program submits them
SIZE = 4096


@dataclass(frozen=True, slots=True)
class Steady:
    """A Poisson process of so many messages in a second, from one sender to one address."""

    rate: float
    address: str
    who: str = "program"
    sender: str = "program@localhost"

    @property
    def by_day(self) -> float:
        """Recipients of a day."""
        return self.rate * 86400.0

    @property
    def most_active(self) -> str:
        """The only sender."""
        return self.who

    def between(self, since: float, until: float, seed: int) -> Iterator[Arrival]:
        """The messages."""
        from math import log
        from random import Random

        chance, at, mean, recipients = Random(seed).random, since, 1 / self.rate, (self.address,)
        while (at := at - log(1.0 - chance()) * mean) < until:
            yield Arrival(at, self.who, self.sender, recipients, SIZE)

    def burst(self, messages: int, who: str, at: float, rate: float, seed: int) -> Iterator[Arrival]:
        """So many messages from an instant on."""
        recipients, sender = (self.address,), self.sender
        return (Arrival(at + number / rate, who, sender, recipients, SIZE) for number in range(messages))


@dataclass(frozen=True, slots=True)
class Replay:
    """Messages that were submitted once, at least one, from `since` on; each seed replays the same."""

    messages: Sequence[Arrival]
    since: float
    days: float
    scale: float = 1.0

    @property
    def by_day(self) -> float:
        """Recipients of a day."""
        return sum(len(arrival.recipients) for arrival in self.messages) * self.scale / max(self.days, 1e-9)

    @property
    def most_active(self) -> str:
        """The sender of most messages."""
        return Counter(arrival.who for arrival in self.messages).most_common(1)[0][0]

    def between(self, since: float, until: float, seed: int) -> Iterator[Arrival]:
        """The messages, at the same times of the day; of a scale above 1 some twice, below 1 only some."""
        from random import Random

        dice, shift = Random(seed), since - self.since
        for arrival in self.messages:
            copies = int(self.scale) + (dice.random() < self.scale % 1)
            for _ in range(copies):
                if arrival.at + shift < until:
                    yield arrival._replace(at=arrival.at + shift)

    def burst(self, messages: int, who: str, at: float, rate: float, seed: int) -> Iterator[Arrival]:
        """So many messages of one sender, repeated from an instant on."""
        known = [arrival for arrival in self.messages if arrival.who == who]
        for number in range(messages if known else 0):
            yield known[number % len(known)]._replace(at=at + number / rate)
