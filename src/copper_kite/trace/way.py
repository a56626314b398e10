"""The way of a received message, out of its header: who had it, how long, and what is odd about it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from copper_kite.mail.checked import Checked, parse_results
from copper_kite.mail.header import decode_words, fields
from copper_kite.mail.hop import Hop, parse_received
from copper_kite.verdict.judge import Verdict
from copper_kite.words import Side

__all__ = ["Claim", "Step", "Way", "find_way", "way_verdict"]

SLOW = 60.0  # seconds at one server that are worth a word
SKEW = 2.0  # seconds back in time: less is how clocks are
MAX_HOPS = 1000  # the newest; that many are no way, but a loop


@dataclass(frozen=True, slots=True)
class Step:
    """One hop with what it took: `delay` in seconds since the hop before that has a date, None where there is none;
    below zero, one of the two clocks is wrong. `waited_at` is the server that had it all that time."""

    hop: Hop
    delay: float | None = None
    waited_at: str = ""
    repeated: bool = False

    @property
    def skewed(self) -> bool:
        """Whether the clocks of the two servers disagree."""
        return self.delay is not None and self.delay < -SKEW


@dataclass(frozen=True, slots=True)
class Claim:
    """One field of results; `verified` when a server that is trusted wrote it, and on this side of the boundary."""

    checked: Checked
    verified: bool


@dataclass(frozen=True, slots=True)
class Way:
    """A message's way, in the order of time. `total` leaves out what would run backwards."""

    fields: Mapping[str, str]
    steps: Sequence[Step]
    claims: Sequence[Claim]

    @property
    def total(self) -> float:
        """Seconds that it took, as far as the dates tell."""
        return sum(step.delay for step in self.steps if step.delay is not None and step.delay > 0)

    @property
    def longest(self) -> Step | None:
        """Where it waited longest."""
        dated = [step for step in self.steps if step.delay is not None and step.delay > 0]
        return max(dated, key=lambda step: step.delay or 0.0, default=None)


def find_way(content: bytes, trusted: Sequence[str] = ()) -> Way:
    """The way of a message; `trusted` names the servers (authserv-id) whose results count (RFC 8601 5, 7.1)."""
    found = fields(content)
    shown = {
        name: decode_words(next((value for other, value in found if other == name), ""))
        for name in ("from", "to", "subject", "date", "message-id", "return-path")
    }
    places = [place for place, (name, _) in enumerate(found) if name == "received"][:MAX_HOPS]
    hops = [(place, parse_received(found[place][1])) for place in places]
    claims = []
    for place, (name, value) in enumerate(found):
        if name == "authentication-results":
            checked = parse_results(value)
            boundary = _boundary(checked.server, hops) if checked.server in map(str.lower, trusted) else -1
            claims.append(Claim(checked, place < boundary))
    return Way(shown, _steps([hop for _, hop in hops][::-1]), claims)


def _boundary(server: str, hops: Sequence[tuple[int, Hop]]) -> int:
    """The place of the field by which the domain of `server` took the message in: below it, anybody may have written.

    The fields of that domain at the top follow each other; -1 when the first is another's.
    """
    domain = server.partition(".")[2] if server.count(".") > 1 else server
    last = -1
    for place, hop in hops:
        name = hop.receiver.lower()
        if name != server and name != domain and not name.endswith(f".{domain}"):
            break
        last = place
    return last


def _steps(hops: Sequence[Hop]) -> list[Step]:
    """Hops in the order of time, each with its delay (RFC 5321 4.4)."""
    met = Counter((hop.sender.lower(), hop.receiver.lower()) for hop in hops)
    steps: list[Step] = []
    before: Hop | None = None
    for hop in hops:
        step = Step(hop, repeated=bool(hop.receiver) and met[hop.sender.lower(), hop.receiver.lower()] > 1)
        if hop.when.at is not None:
            if before is not None and before.when.at is not None:
                step = replace(step, delay=hop.when.at - before.when.at, waited_at=before.receiver or hop.sender)
            before = hop
        steps.append(step)
    return steps


def way_verdict(way: Way, own: str, span: Mapping[str, str]) -> Verdict:
    """What is to be said of it. `own` is this server's name; `span` has the words for `total` and `longest`."""
    steps, longest = way.steps, way.longest
    if not steps:
        meaning = "The header has no Received field: it never passed a server, or they were taken out."
        return Verdict(None, meaning, "0 hops", "take the message as the receiver has it, with its whole header")
    evidence = f"{len(steps)} hops, {span['total']} in all"
    loop = next((step.hop for step in steps if step.repeated), None)
    if loop is not None:
        meaning = f"It goes in a circle: {loop.receiver} took it from {loop.sender} more than once."
        again = sum(step.repeated for step in steps)
        remedy = f"kite route {loop.recipient}" if loop.recipient else "kite route ADDRESS"
        return Verdict(Side.HERE if _is_own(loop, own) else Side.BEYOND, meaning, f"{again} of {evidence}", remedy)
    if longest is not None and (longest.delay or 0) >= SLOW:
        where, ours = longest.waited_at, longest.waited_at.lower() == own.lower()
        id = next((step.hop.id for step in steps if step.hop.receiver == where), "")
        meaning = f"It waited {span['longest']} at {where} before {longest.hop.receiver or 'the next server'} took it."
        remedy = f"kite trace {id or 'ID'}" if ours else f"ask who runs {where} about {id or 'it'}"
        return Verdict(Side.HERE if ours else Side.BEYOND, meaning, evidence, remedy)
    skewed = next((step for step in steps if step.skewed), None)
    if skewed is not None:
        clocks = f"{skewed.waited_at} and {skewed.hop.receiver}"
        meaning = f"It went through without a wait; the clocks of {clocks} disagree."
        return Verdict(None, meaning, evidence, "have the clocks set; delays beside them mean little")
    return Verdict(None, "It went through without a wait.", evidence, "nothing to do")


def _is_own(hop: Hop, own: str) -> bool:
    return own.lower() in (hop.receiver.lower(), hop.sender.lower())
