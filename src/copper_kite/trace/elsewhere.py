"""A message's story continues where this server's ends: in the logs of other programs and hosts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from copper_kite.store import id_range, id_text
from copper_kite.trace.joined import Clues, candidates, join
from copper_kite.trace.linemap import Entry
from copper_kite.trace.logs import LogSource
from copper_kite.trace.story import Story
from copper_kite.trace.told import judge_told
from copper_kite.verdict import Verdict
from copper_kite.words import State

__all__ = ["follow_elsewhere"]


def follow_elsewhere(story: Story, sources: Sequence[LogSource], now: float) -> Story:
    """The story with what these logs have of it; what stopped it there is its verdict, if it had left here.

    Raises InputError for a log that cannot be read.
    """
    if not sources:
        return story
    message = story.message
    clues = Clues(
        message_ids={message.message_id} - {""},
        since=message.arrived,
        own={source.name: {id_text(message.id)} for source in sources},
        handed_on={
            word
            for attempt in story.attempts
            for _, state, _, reply in attempt.facts.results
            if state == State.RELAYED
            for word in candidates(reply)
        },
    )
    result = join(sources, clues, now)
    return replace(story, elsewhere=result, verdict=_verdict(story, result))


def _verdict(story: Story, entries: Sequence[Entry]) -> Verdict:
    """Theirs, where we had relayed it all and the last that they tell of somebody is a trouble."""
    if any(recipient.state is not State.RELAYED for recipient in story.recipients):
        return story.verdict
    last = {entry.recipient: entry for entry in entries if entry.outcome in (*_TROUBLES, "relayed") and entry.recipient}
    stopped = next((entry for word in _TROUBLES for entry in last.values() if entry.outcome == word), None)
    if stopped is None:
        return story.verdict
    about = {
        "recipient": stopped.recipient,
        "action": stopped.outcome,
        "status": "",
        "said": stopped.text,
        "at_server": "",
        "reporter": stopped.host or stopped.source,
    }
    judged = judge_told(about, {"id": stopped.id, "sender": story.message.reverse_path})
    opening = f"Relayed here, and {stopped.outcome} at {stopped.host or stopped.source} for {stopped.recipient}."
    evidence = f"{stopped.text} (log {stopped.source})"
    bounds = id_range(stopped.id)
    is_ours = bounds is not None and bounds[0] == bounds[1]  # an id as this product makes them
    meaning = f"{opening} {judged.meaning}"
    if is_ours:
        return Verdict(
            judged.side, meaning, evidence, f"kite trace {stopped.id}", f"at {stopped.host or stopped.source}"
        )
    return judged.verdict(meaning, evidence)


_TROUBLES = ("failed", "delayed")
