"""The path of one message through several of our servers, joined by its Message-ID and the ids in last replies."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

__all__ = ["Crossing", "cross_servers"]


class Crossing(NamedTuple):
    """A message at one server: its story as JSON, and the server that handed it over, where that is one of ours."""

    server: str
    story: Mapping[str, Any]
    handed_by: str


def cross_servers(stories: Sequence[tuple[str, Mapping[str, Any]]]) -> list[Crossing]:
    """The stories of a message in the order of its way; `stories` are those of each server, with its name.

    A server comes after the one whose last reply has the id by which it calls the message, or else by time.
    """
    by_id = {story["id"]: server for server, story in stories}
    handed: dict[str, str] = {}
    for server, story in stories:
        for attempt in story.get("attempts", ()):
            for result in attempt.get("results", ()):
                for word in str(result.get("reply", "")).split():
                    if word in by_id and by_id[word] != server:
                        handed[by_id[word]] = server
    ordered = sorted(stories, key=lambda pair: (_depth(pair[0], handed), str(pair[1].get("arrived", ""))))
    return [Crossing(server, story, handed.get(server, "")) for server, story in ordered]


def _depth(server: str, handed: Mapping[str, str]) -> int:
    """How many of our servers had it before."""
    depth, seen = 0, {server}
    while (server := handed.get(server, "")) and server not in seen:
        seen.add(server)
        depth += 1
    return depth
