"""The answers of several servers in one table. Each `print_` function gives the servers with problems."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, local_time, print_json, print_table, say

if TYPE_CHECKING:
    from copper_kite.fleet import Answered
    from copper_kite.settings import Difference

__all__ = [
    "answers_json",
    "print_audits",
    "print_checks",
    "print_comparison",
    "print_crossings",
    "print_queues",
    "print_reports",
    "print_statuses",
]


def answers_json(answers: Sequence[Answered]) -> list[dict[str, Any]]:
    """The answer of each server, as it is, or why there is none."""
    return [
        {
            "server": answered.server.name,
            "address": answered.server.address,
            "status": answered.status,
            "problem": answered.problem or None,
            "answer": answered.value,
        }
        for answered in answers
    ]


def _seconds(text: str | None) -> float | None:
    return datetime.fromisoformat(text).timestamp() if text else None


def print_statuses(answers: Sequence[Answered]) -> list[str]:
    """Whether mail flows, by server."""
    rows, bad = [], []
    for answered in answers:
        value = answered.value
        problems = _problems(value)
        if problems:
            bad.append(answered.server.name)
        hour = value["flow"]["last_hour"]
        waiting = sum(value["queue"]["recipients"].values())
        rows.append((
            answered.server.name, "yes" if value["running"] else "NO", str(hour["accepted"]), str(hour["relayed"]),
            str(hour["failed"]), str(waiting), "; ".join(problems) or "none",
        ))  # fmt: skip
    numbers = ("accepted", "relayed", "failed", "waits")
    print_table(("server", "runs", *numbers, "problems"), rows, right=numbers, wraps=True)
    return bad


def _problems(value: dict[str, Any]) -> list[str]:
    problems = [] if value["running"] else ["no server runs"]
    problems += [f"{stop['connector'] or 'mail'}: {stop['text']}" for stop in value["stopped"]]
    problems += [f"alarm {alarm['name']}" for alarm in value["alarms"]]
    problems += value["configuration"] or []
    return problems


def print_checks(answers: Sequence[Answered]) -> list[str]:
    """Findings by server."""
    rows, bad = [], []
    for answered in answers:
        findings = answered.value["findings"]
        if any(finding["level"] == "error" for finding in findings):
            bad.append(answered.server.name)
        rows += [(answered.server.name, item["level"], item["key"] or "", item["problem"]) for item in findings]
        if not findings:
            rows.append((answered.server.name, "", "", "no problems found"))
    print_table(("server", "level", "key", "problem"), rows, wraps=True)
    return bad


def print_audits(answers: Sequence[Answered]) -> list[str]:
    """Print each weakness and the servers where it is open."""
    servers: dict[tuple[str, str], list[str]] = defaultdict(list)
    for answered in answers:
        for weakness in answered.value["open"]:
            servers[weakness["risk"], weakness["of"] or ""].append(answered.server.name)
    rows = [(risk, of, ", ".join(names)) for (risk, of), names in sorted(servers.items())]
    if rows:
        print_table(("weakness", "of", "on"), rows, wraps=True)
        echo("kite fleet --only NAME audit --json has each with its cure")
    else:
        echo(f"nothing is open on {', '.join(answered.server.name for answered in answers)}")
    return [answered.server.name for answered in answers if answered.value["open"]]


def print_queues(answers: Sequence[Answered]) -> list[str]:
    """The waiting recipients, by state and reason over all servers, and by server."""
    for kind in ("state", "connector", "reason"):
        totals: Counter[str] = Counter()
        where: dict[str, list[str]] = defaultdict(list)
        for answered in answers:
            for group in answered.value[kind]:
                totals[group["name"] or "-"] += group["recipients"]
                where[group["name"] or "-"].append(f"{answered.server.name} {group['recipients']}")
        rows = [(name, str(count), ", ".join(where[name])) for name, count in totals.most_common(20)]
        if rows:
            print_table((kind, "recipients", "on"), rows, right=("recipients",), wraps=True)
            echo()
    if not any(answered.value["state"] for answered in answers):
        echo("nothing waits")
    return []


def print_reports(answers: Sequence[Answered]) -> list[str]:
    """The counts of a period, by server and together."""
    words = ("accepted", "relayed", "delayed", "failed", "refused")
    rows = [(answered.server.name, *(f"{answered.value['totals'][word]:,}" for word in words)) for answered in answers]
    together = [f"{sum(answered.value['totals'][word] for answered in answers):,}" for word in words]
    print_table(("server", *words), [*rows, ("all", *together)], right=words)
    return []


def print_comparison(answers: Sequence[Answered], *, as_json: bool) -> list[str]:
    """Compare each configuration with that of the first server."""
    from copper_kite.fleet import compare_exports

    if not answers:
        return []
    first, differences = answers[0], {}
    for answered in answers[1:]:
        differences[answered.server.name] = compare_exports(first.text, answered.text)
    if as_json:
        print_json(
            {name: [difference._asdict() for difference in differing] for name, differing in differences.items()}
        )
        return [name for name, differing in differences.items() if differing]
    _print_differences(first.server.name, differences)
    return [name for name, differing in differences.items() if differing]


def _print_differences(first: str, differences: Mapping[str, Sequence[Difference]]) -> None:
    for name, differing in differences.items():
        say((name, "bold"), f": as {first}" if not differing else "")
        if differing:
            rows = [(place, *("-" if side is None else side for side in sides)) for place, *sides in differing]
            print_table(("what", first, name), rows, wraps=True)
            echo()


def print_crossings(answers: Sequence[Answered]) -> bool:
    """The way of a message through the servers; of several messages, where each is. Whether there is any."""
    from copper_kite.fleet import cross_servers

    stories = [(answered.server.name, answered.value) for answered in answers if isinstance(answered.value, dict)]
    lists = [(answered.server.name, answered.value) for answered in answers if isinstance(answered.value, list)]
    for crossing in cross_servers(stories):
        story = crossing.story
        by = f", from {crossing.handed_by}" if crossing.handed_by else ""
        say((crossing.server, "bold"), f"{by}: {story['id']}, accepted {local_time(_seconds(story['arrived']) or 0.0)}")
        recipients = [
            (recipient["address"], recipient["state"], recipient["last_reply"] or "")
            for recipient in story["recipients"]
        ]
        print_table(("to", "state", "last reply"), recipients, wraps=True)
        say(story["verdict"]["meaning"], indent=2)
        echo()
    rows = [
        (name, row["id"], row["to"], row["state"], row["last_reply"] or "") for name, listed in lists for row in listed
    ]
    if rows:
        print_table(("server", "id", "to", "state", "last reply"), rows, wraps=True)
    if not rows and not stories:
        echo("no server has it")
    return bool(rows or stories)
