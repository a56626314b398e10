"""A model of who submits how much, fitted to the hourly counts: the load of a rehearsal that has a history.

The recipients that a sender submits in an hour have a negative binomial distribution: its mean is the one of that hour
of the week, its variance m + a m², where `a`, the over-dispersion of the sender, comes from all hours by the method of
moments (0: Poisson). Where history is shorter than two weeks, its hours of the day are pooled. Sizes, numbers of
recipients and domains are drawn from what the sender submitted.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from copper_kite.errors import RehearsalFailed
from copper_kite.rehearsal.arrivals import Arrival
from copper_kite.rehearsal.past import Past
from copper_kite.store import Reader

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["Fit", "HourlyModel", "fit_load"]

HOUR = 3600.0
WEEK = 168
FEWEST_HOURS = 72  # of history, below which nothing can be said
TWO_WEEKS = 2 * WEEK
FEWEST_DAYS = 3  # on which a sender must have submitted something, or it is left out
MOST_WEEKS = 26  # of counts that are looked at
WELL = 0.05  # a difference of distributions up to which the model fits


class Sender(NamedTuple):
    """A sender's model: mean recipients by hour of the week, over-dispersion, its domains with their shares, and
    (recipients of a message, octets, priority, reverse-path) of some of its messages."""

    who: str
    means: NDArray[np.float64]
    dispersion: float
    domains: Sequence[str]
    shares: NDArray[np.float64]
    messages: Sequence[tuple[int, int, int, str]]
    mean_recipients: float  # of a message


class Fit(NamedTuple):
    """How well a model fits: over so many hours, the largest difference between the distribution of the counts and the
    model's (Kolmogorov-Smirnov, after the probability transform), and how likely one as large is by chance; senders
    that were left out, with their recipients, since they submitted on too few days."""

    hours: int
    difference: float
    likely: float
    left_out: Sequence[tuple[str, int]]

    @property
    def well(self) -> bool:
        """Whether the difference is small."""
        return self.difference <= WELL


@dataclass(frozen=True, slots=True)
class HourlyModel:
    """Arrivals by the hour, `scale` times as many as there were."""

    senders: Sequence[Sender]
    scale: float = 1.0

    @property
    def by_day(self) -> float:
        """Recipients of a mean day."""
        return float(sum(sender.means.sum() for sender in self.senders)) / 7 * self.scale

    @property
    def most_active(self) -> str:
        """The sender with the most recipients."""
        return max(self.senders, key=lambda sender: sender.means.sum()).who if self.senders else "program"

    def between(self, since: float, until: float, seed: int) -> Iterator[Arrival]:
        """Messages, hour by hour."""
        import numpy as np

        for number in range(int(-(-(until - since) // HOUR))):
            at = since + number * HOUR
            when = datetime.fromtimestamp(at)
            rng = np.random.default_rng((seed & 0xFFFFFFFF, number))
            batch: list[Arrival] = []
            for sender in self.senders:
                mean = sender.means[when.weekday() * 24 + when.hour] * self.scale
                if mean:
                    batch += _hour_of(sender, at, mean, rng)
            batch.sort()
            yield from (arrival for arrival in batch if arrival.at < until)

    def burst(self, messages: int, who: str, at: float, rate: float, seed: int) -> Iterator[Arrival]:
        """So many messages of one sender from an instant on, `rate` in a second. Raises RehearsalFailed."""
        import numpy as np

        sender = next((sender for sender in self.senders if sender.who == who), None)
        if sender is None:
            names = ", ".join(sender.who for sender in self.senders)
            raise RehearsalFailed(f"{who!r} submitted nothing that could be repeated; senders are {names}")
        rng = np.random.default_rng((seed & 0xFFFFFFFF, int(at)))
        domains = rng.choice(len(sender.domains), messages, p=sender.shares)
        return (
            _message(sender, at + number / rate, int(domain), number) for number, domain in enumerate(domains.tolist())
        )


def _hour_of(sender: Sender, at: float, mean: float, rng: np.random.Generator) -> list[Arrival]:
    """The messages of one sender in an hour."""
    if sender.dispersion:
        mean = float(rng.gamma(1 / sender.dispersion, mean * sender.dispersion))
    count = int(rng.poisson(mean / sender.mean_recipients))
    times = (at + rng.random(count) * HOUR).tolist()
    domains = rng.choice(len(sender.domains), count, p=sender.shares).tolist()
    kinds = rng.integers(len(sender.messages), size=count).tolist()
    return [_message(sender, *drawn) for drawn in zip(times, domains, kinds, strict=True)]


def _message(sender: Sender, at: float, domain: int, kind: int) -> Arrival:
    recipients, size, priority, path = sender.messages[kind % len(sender.messages)]
    addresses = tuple(f"r{number}@{sender.domains[domain]}" for number in range(1, recipients + 1))
    return Arrival(at, sender.who, path, addresses, size, priority)


def fit_load(reader: Reader, past: Past, now: float) -> tuple[HourlyModel, Fit]:
    """The model of what the hourly counts say. Raises RehearsalFailed where history is too short."""
    import numpy as np

    until = int(now // HOUR)
    rows = list(reader.summed_counts(until - MOST_WEEKS * WEEK, until, ("who", "domain", "hour"), None, "accepted"))
    first = min((hour for _, _, hour, *_ in rows), default=until)
    hours = until - first
    if hours < FEWEST_HOURS:
        raise RehearsalFailed(
            f"the history has {hours} hours, and a model of it takes {FEWEST_HOURS}; "
            "say how much arrives, as in --rate 600/h"
        )
    places = _hours_of_week(first, hours)
    counts: dict[str, NDArray[np.float64]] = defaultdict(lambda: np.zeros(hours))
    domains: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for who, domain, hour, recipients, _ in rows:
        counts[who][hour - first] += recipients
        domains[who][domain] += recipients
    left_out, senders = [], []
    kinds = _kinds(past)
    for who, of_hour in counts.items():
        if hours >= TWO_WEEKS and len({(first + int(hour)) // 24 for hour in np.flatnonzero(of_hour)}) < FEWEST_DAYS:
            left_out.append((who, int(of_hour.sum())))
        else:
            senders.append(_sender(who, of_hour, places, domains[who], kinds.get(who)))
    fit = _goodness(senders, counts, places, left_out)
    return HourlyModel(sorted(senders, key=lambda sender: -sender.means.sum())), fit


def _hours_of_week(first: int, hours: int) -> NDArray[np.int64]:
    import numpy as np

    whens = (datetime.fromtimestamp((first + hour) * HOUR) for hour in range(hours))
    places = np.array([when.weekday() * 24 + when.hour for when in whens])
    return places if hours >= TWO_WEEKS else places % 24


def _kinds(past: Past) -> dict[str, list[tuple[int, int, int, str]]]:
    kinds: dict[str, list[tuple[int, int, int, str]]] = defaultdict(list)
    for arrival in past.arrivals():
        kinds[arrival.who].append((len(arrival.recipients), arrival.size, arrival.priority, arrival.sender))
    return kinds


def _sender(
    who: str,
    of_hour: NDArray[np.float64],
    places: NDArray[np.int64],
    domains: dict[str, int],
    kinds: list[tuple[int, int, int, str]] | None,
) -> Sender:
    import numpy as np

    seen = np.bincount(places, minlength=WEEK)
    sums = np.bincount(places, weights=of_hour, minlength=WEEK)
    means = np.divide(sums, seen, out=np.zeros(WEEK), where=seen > 0)
    expected = means[places]
    weeks = seen[places]
    bias = np.where(weeks > 1, weeks / np.maximum(weeks - 1, 1), 1.0)  # the mean is of the same hours
    extra = float((((of_hour - expected) ** 2) * bias - expected).sum())
    squares = float((expected**2).sum())
    dispersion = max(extra / squares, 0.0) if squares else 0.0
    if not seen[24:].any():  # less than two weeks: one profile of the day for all days
        means = np.tile(means[:24], 7)
    names = sorted(domains)
    shares = np.array([domains[name] for name in names], dtype=float)
    kinds = kinds or [(1, 4096, 0, who)]
    return Sender(
        who, means, dispersion, names, shares / shares.sum(), kinds, sum(kind[0] for kind in kinds) / len(kinds)
    )


def _goodness(
    senders: Sequence[Sender],
    counts: dict[str, NDArray[np.float64]],
    places: NDArray[np.int64],
    left_out: Sequence[tuple[str, int]],
) -> Fit:
    """The counts, through their distributions by the model, would be uniform in [0, 1]."""
    import numpy as np
    from scipy import stats

    rng, uniform = np.random.default_rng(0), []
    for sender in senders:
        means = sender.means[places]
        some, of_hour = means > 0, counts[sender.who]
        if sender.dispersion:
            size = 1 / sender.dispersion
            model = stats.nbinom(size, size / (size + means[some]))
        else:
            model = stats.poisson(means[some])
        below = model.cdf(of_hour[some] - 1)
        uniform.append(below + rng.random(below.size) * (model.cdf(of_hour[some]) - below))
    together = np.concatenate(uniform) if uniform else np.zeros(0)
    if not together.size:
        return Fit(0, 0.0, 1.0, left_out)
    test = stats.kstest(together, "uniform")
    return Fit(int(places.size), float(test.statistic), float(test.pvalue), left_out)
