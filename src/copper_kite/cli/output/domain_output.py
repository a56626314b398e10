"""The reports of `kite domain`, and records to publish, as text and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, print_json, print_table, say

if TYPE_CHECKING:
    from copper_kite.posture import Difference, DomainReport, Line, TxtRecord

__all__ = ["GRADE_COLOURS", "print_differences", "print_record_lines", "print_records", "print_report", "report_json"]

GRADE_COLOURS = {"good": "green", "wrong": "bold red", "missing": "bold red", "unknown": "yellow"}


def print_record_lines(lines: list[str], *, as_json: bool) -> None:
    """Print lines of a zone file; as JSON without its comments."""
    if as_json:
        print_json([line for line in lines if not line.startswith(";")])
        return
    for line in lines:
        echo(line)


def print_report(report: DomainReport) -> None:
    """Print the lines of a report, its SPF record with all that it includes, and the records to publish."""
    say((report.domain, "bold"))
    print_table(
        ("", "check", "of", "result"),
        [
            (line.grade.value, line.topic, _of(line, report.domain), line.text + " (DNSSEC)" * line.secure)
            for line in report.lines
        ],
        wraps=True,
        colours=GRADE_COLOURS,
    )
    _show_details(report)
    echo()


def _show_details(report: DomainReport) -> None:
    """The tree of SPF, and the records to publish."""
    if len(report.spf_tree) > 1:
        echo()
        say(("SPF, with what it includes", "bold"))
        for text in report.spf_tree:
            echo(f"  {text}")
    publish = list(dict.fromkeys(line.publish for line in report.lines if line.publish is not None))
    if publish:
        echo()
        say(("to publish", "bold"))
        print_records(publish)


def print_records(records: Sequence[TxtRecord]) -> None:
    """Lines of a zone file, never wrapped, so that they can be copied."""
    for record in records:
        echo(record.line)


def _of(line: Line, name: str) -> str:
    return line.of.removesuffix("." + name) if line.of != name else ""


def report_json(report: DomainReport) -> dict[str, Any]:
    """A report as JSON values."""
    return {
        "domain": report.domain,
        "good": not report.bad,
        "lines": [
            {
                "about": line.topic,
                "of": line.of,
                "grade": line.grade.value,
                "text": line.text,
                "dnssec": line.secure,
                "publish": line.publish.line if line.publish else None,
            }
            for line in report.lines
        ],
        "spf_tree": report.spf_tree,
    }


def print_differences(differences: list[Difference], count: int, file: Path, *, as_json: bool) -> None:
    """Print each record set that differs from the zone file `file`, which has `count`."""
    if as_json:
        print_json([_difference_json(difference) for difference in differences])
        return
    for difference in differences:
        say((f"{difference.name} {difference.kind}", "bold"))
        for text in difference.expected:
            if text not in difference.published:
                echo(f"  expected   {text}")
        for text in difference.published:
            if text not in difference.expected:
                echo(f"  published  {text}")
        if difference.why:
            echo(f"  {difference.why}")
    told = f"{len(differences)} of {count} sets of records differ from {file}"
    echo(told if differences else f"all {count} sets of records are published as {file} says")


def _difference_json(difference: Difference) -> dict[str, Any]:
    return {
        "name": difference.name,
        "type": difference.kind,
        "expected": difference.expected,
        "published": difference.published,
        "why": difference.why or None,
    }
