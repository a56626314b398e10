"""The path of a received message, from its header: the servers, the delay at each, and anomalies."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from copper_kite.clock import span_text
from copper_kite.mail import Checked, Hop, decode_words, header_fields, parse_received, parse_results
from copper_kite.trace.clocks import SKEW, Estimate, Offset, Wait, estimate
from copper_kite.verdict import Verdict
from copper_kite.words import Side

__all__ = ["Claim", "Step", "Way", "find_way", "wait_words", "way_verdict"]

SLOW = 60.0  # seconds at one server that are worth a word
MAX_HOPS = 1000  # the newest; that many are no way, but a loop


@dataclass(frozen=True, slots=True)
class Step:
    """One hop with what it took: `delay` is the difference of its date to that of the hop before that has one, in
    seconds, None where there is none; `wait` what that was as far as can be known, for clocks may be wrong.
    `waited_at` is the server that had it all that time; `fast` by how much this one's clock likely is, in seconds."""

    hop: Hop
    delay: float | None = None
    wait: Wait | None = None
    waited_at: str = ""
    fast: float = 0.0
    repeated: bool = False


@dataclass(frozen=True, slots=True)
class Claim:
    """One field of results; `verified` when a server that is trusted wrote it, and on this side of the boundary."""

    checked: Checked
    verified: bool


@dataclass(frozen=True, slots=True)
class Way:
    """A message's way, in the order of time; `clocks` is what its dates tell of the clocks, and of all of it."""

    fields: Mapping[str, str]
    steps: Sequence[Step]
    claims: Sequence[Claim]
    clocks: Estimate

    @property
    def total(self) -> Wait:
        """The total time."""
        return self.clocks.total

    @property
    def longest(self) -> Step | None:
        """The step with the longest likely wait."""
        dated = [step for step in self.steps if step.wait is not None and step.wait.likely > 0]
        return max(dated, key=lambda step: step.wait.likely if step.wait else 0.0, default=None)


def find_way(content: bytes, trusted: Sequence[str] = ()) -> Way:
    """The way of a message; `trusted` names the servers (authserv-id) whose results count (RFC 8601 5, 7.1)."""
    fields = header_fields(content)
    shown = {
        name: decode_words(next((value for other, value in fields if other == name), ""))
        for name in ("from", "to", "subject", "date", "message-id", "return-path")
    }
    places = [place for place, (name, _) in enumerate(fields) if name == "received"][:MAX_HOPS]
    hops = [(place, parse_received(fields[place][1])) for place in places]
    claims = []
    for place, (name, value) in enumerate(fields):
        if name == "authentication-results":
            checked = parse_results(value)
            boundary = _boundary(checked.server, hops) if checked.server in map(str.lower, trusted) else -1
            claims.append(Claim(checked, place < boundary))
    in_time = [hop for _, hop in hops][::-1]
    clocks = estimate([(hop.receiver, hop.when.at) for hop in in_time if hop.when.at is not None])
    return Way(shown, _steps(in_time, clocks), claims, clocks)


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


def _steps(hops: Sequence[Hop], clocks: Estimate) -> list[Step]:
    """Hops in the order of time, each with its delay (RFC 5321 4.4)."""
    fast, waits = dict(clocks.wrong), iter(clocks.waits)
    met = Counter((hop.sender.lower(), hop.receiver.lower()) for hop in hops)
    steps: list[Step] = []
    before: Hop | None = None
    for hop in hops:
        step = Step(hop, repeated=bool(hop.receiver) and met[hop.sender.lower(), hop.receiver.lower()] > 1)
        if hop.when.at is not None:
            step = replace(step, fast=fast.get(hop.receiver, 0.0))
            if before is not None and before.when.at is not None:
                delay, waited_at = hop.when.at - before.when.at, before.receiver or hop.sender
                step = replace(step, delay=delay, wait=next(waits), waited_at=waited_at)
            before = hop
        steps.append(step)
    return steps


def way_verdict(way: Way, own: str) -> Verdict:
    """The remarks on the path. `own` is this server's name."""
    steps, longest = way.steps, way.longest
    if not steps:
        meaning = "The header has no Received field: it never passed a server, or they were taken out."
        advice = "take the message as the receiver has it, with its whole header"
        return Verdict(None, meaning, "0 hops", advice=advice)
    hops = "1 hop" if len(steps) == 1 else f"{len(steps)} hops"
    evidence = f"{hops}, {wait_words(way.total)} in all"
    loop = next((step.hop for step in steps if step.repeated), None)
    if loop is not None:
        meaning = f"It goes in a circle: {loop.receiver} took it from {loop.sender} more than once."
        again = sum(step.repeated for step in steps)
        side, evidence = Side.HERE if _is_own(loop, own) else Side.BEYOND, f"{again} of {evidence}"
        if loop.recipient and side is Side.HERE:
            advice = "it shows where this server sends it; the servers in the circle have to agree who keeps it"
            return Verdict(side, meaning, evidence, f"kite route {loop.recipient}", advice)
        return Verdict(side, meaning, evidence, advice="the servers in the circle have to agree who keeps it")
    if longest is not None and longest.wait is not None and longest.wait.likely >= SLOW and longest.wait.certain:
        where, ours = longest.waited_at, longest.waited_at.lower() == own.lower()
        id = next((step.hop.id for step in steps if step.hop.receiver == where), "")
        waited, taker = wait_words(longest.wait), longest.hop.receiver or "the next server"
        meaning = f"It waited {waited} at {where} before {taker} took it.{_clock_words(way.clocks)}"
        if ours and id:
            return Verdict(Side.HERE, meaning, evidence, f"kite trace {id}")
        advice = f"ask who runs {where} about {id or 'it'}"
        return Verdict(Side.HERE if ours else Side.BEYOND, meaning, evidence, advice=advice)
    if way.clocks.wrong:
        slow = any(step.wait is not None and step.wait.high >= SLOW for step in steps)
        ours = any(offset.server.lower() == own.lower() for offset in way.clocks.wrong)
        outcome = "Whether it waited anywhere cannot be told" if slow else "It went through without a wait"
        meaning = f"{outcome}.{_clock_words(way.clocks)}"
        remedy = f"have the clock of {way.clocks.wrong[0].server} set"
        return Verdict(Side.HERE if ours else Side.BEYOND, meaning, evidence, advice=remedy)
    return Verdict(None, "It went through without a wait.", evidence, advice="nothing to do")


def _is_own(hop: Hop, own: str) -> bool:
    return own.lower() in (hop.receiver.lower(), hop.sender.lower())


def wait_words(wait: Wait) -> str:
    """A wait with what is not known of it."""
    likely = span_text(wait.likely, " ")
    if wait.high - wait.low <= SKEW:
        return likely
    return f"{likely} (between {span_text(wait.low, ' ')} and {span_text(wait.high, ' ')})"


def _clock_words(clocks: Estimate) -> str:
    """The sentence on servers whose clocks are wrong; empty where all may be right."""
    if not clocks.wrong:
        return ""
    wrong = " and ".join(map(_offset_words, clocks.wrong))
    others = f", unless that of {' or '.join(map(_offset_words, clocks.others))}" if clocks.others else ""
    return f" The clock of {wrong}{others}."


def _offset_words(offset: Offset) -> str:
    return f"{offset.server} is {span_text(abs(offset.seconds), ' ')} {'fast' if offset.seconds > 0 else 'slow'}"
