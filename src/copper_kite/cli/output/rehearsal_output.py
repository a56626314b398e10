"""The output of `kite rehearse`: verdict, tables, timeline, JSON and CSV."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import console, echo, json_time, print_table, say

if TYPE_CHECKING:
    from copper_kite.rehearsal import Band, Bands, Conclusion, Found, LoadUsed, Rehearsal

__all__ = ["curves_csv", "found_json", "rehearsal_json", "show_found", "show_rehearsal", "tables_of"]

TIMES = (
    "delay_p50",
    "delay_p95",
    "delay_p99",
    "delay_max",
    "oldest",
    "empty_after",
    "noticed_after",
    "allowance_spent",
)
FIGURES = {
    "submitted": "recipients submitted",
    "relayed": "relayed",
    "largest_queue": "largest queue",
    "oldest": "oldest that waited",
    "empty_after": "empty again after",
    "noticed_after": "noticed that it is back after",
    "delay_p50": "delay, median",
    "delay_p95": "delay, 95 %",
    "delay_p99": "delay, 99 %",
    "delay_max": "delay, longest",
    "delay_notices": "notices of delay",
    "failure_notices": "notices of failure",
    "expired": "expired",
    "refused": "refused for good",
    "allowance_spent": "allowance used up for",
}
MOST_ROWS = 10
MOST_SPANS = 8
LOWEST_LINES, MOST_COLUMNS = 8, 72

Table = tuple[str, Sequence[str], Sequence[Sequence[str]]]


def show_rehearsal(
    rehearsal: Rehearsal,
    named: Sequence[tuple[str, Bands]],
    conclusions: Sequence[Conclusion],
    load: LoadUsed,
) -> None:
    """All of it, the verdict first."""
    from copper_kite.cli.output.typed_commands import typed

    say(("Verdict", "bold"))
    for (name, _), conclusion in zip(named, conclusions, strict=True):
        if len(named) > 1:
            say((f"{name}:", "bold"), indent=2)
        for sentence in conclusion.sentences:
            say(sentence, indent=2)
    if conclusions[0].next:
        echo("next")
        echo(f"    {typed(conclusions[0].next)}")
    _show_timeline(rehearsal, named[0][1])
    for title, columns, rows in tables_of(named):
        if rows:
            echo()
            say((title, "bold"))
            print_table(columns, rows, right=columns[1:])
    _show_basis(rehearsal, named[0][1], load)


def tables_of(named: Sequence[tuple[str, Bands]]) -> list[Table]:
    """The tables: figures of each configuration, delays by priority and sender, notices, spans of allowances."""
    first = named[0][1]
    columns = ("median (5–95 % of the runs)",) if len(named) == 1 else tuple(name for name, _ in named)
    figures = [
        (label, *(_cell(key, bands.figures.get(key)) for _, bands in named))
        for key, label in FIGURES.items()
        if key in ("submitted", "largest_queue", "empty_after", "expired") or _any(named, key)
    ]
    return [
        ("Figures", ("figure", *columns), figures),
        (
            "Delays by priority",
            ("priority", "median", "95 %", "99 %", "longest"),
            _delays(first.by_priority) if len(first.by_priority) > 1 else [],
        ),
        ("Delays by sender", ("sender", "median", "95 %", "99 %", "longest"), _delays(first.by_sender)[:MOST_ROWS]),
        (
            "Notices by sender",
            ("sender", "notices"),
            [(who, _cell("notices", band)) for who, band in _most(first.noticed) if band.high >= 0.5][:MOST_ROWS],
        ),
        (
            "Allowance used up, in the first run",
            ("connector", "from", "to"),
            [(item.connector, _moment(item.since), _moment(item.until)) for item in first.spent[:MOST_SPANS]],
        ),
    ]


def _most(bands: Mapping[str, Band]) -> list[tuple[str, Band]]:
    return sorted(bands.items(), key=lambda item: -item[1].median)


def _any(named: Sequence[tuple[str, Bands]], key: str) -> bool:
    return any(band is not None and band.high for _, bands in named for band in [bands.figures.get(key)])


def _delays(groups: Mapping[str, Mapping[str, Band]]) -> list[tuple[str, ...]]:
    return [
        (name, *(_cell("delay_p50", band[key]) for key in ("p50", "p95", "p99", "max")))
        for name, band in groups.items()
        if "p50" in band
    ]


def _cell(key: str, band: Band | None) -> str:
    from copper_kite.rehearsal import range_text, short_span

    if band is None:
        return "never" if key == "empty_after" else "-"
    return range_text(band, short_span) if key in TIMES else range_text(band)


def _moment(at: float) -> str:
    return datetime.fromtimestamp(at).strftime("%a %d %b %H:%M")


# --- the timeline ---------------------------------------------------------------------------------------------------


def _show_timeline(rehearsal: Rehearsal, bands: Bands) -> None:
    """The queue over time: a column of # as high as the median, of : up to where 95 % of the runs are below."""
    curve = bands.series["waiting"]
    most = max(curve.high, default=0.0)
    if most < 1:
        return
    length = bands.worth_showing
    columns = min(MOST_COLUMNS, max(console().width - 10, 40), length)
    edges = [round(place * length / columns) for place in range(columns + 1)]
    pairs = list(pairwise(edges))
    median = [max(curve.median[begin:end], default=0.0) for begin, end in pairs]
    high = [max(curve.high[begin:end], default=0.0) for begin, end in pairs]
    echo()
    say(("Recipients waiting", "bold"), "  # median, : up to where 95 % of the runs stay; = below: trouble")
    for line in range(LOWEST_LINES, 0, -1):
        least = most * (line - 0.5) / LOWEST_LINES
        marks = "".join(
            "#" if low >= least else ":" if up >= least else " " for low, up in zip(median, high, strict=True)
        )
        label = f"{most * line / LOWEST_LINES:,.0f}" if line in (LOWEST_LINES, LOWEST_LINES // 2) else ""
        echo(f"{label:>8} |{marks.rstrip()}")
    starts = [bands.since + begin * bands.step for begin, _ in pairs]
    ends = [bands.since + end * bands.step for _, end in pairs]
    troubled = "".join(
        "=" if any(item.since < end and start < item.until for item in rehearsal.troubles) else "-"
        for start, end in zip(starts, ends, strict=True)
    )
    echo(f"{'0':>8} +{troubled}")
    echo(f"{'':>8}  {_axis(starts, ends[-1])}")


def _axis(starts: Sequence[float], end: float) -> str:
    """Times below the timeline, as many as have room."""
    form = "%H:%M" if end - starts[0] <= 2 * 86400 else "%d %b"
    text, place = "", 0
    while place < len(starts):
        text = text.ljust(place) + datetime.fromtimestamp(starts[place]).strftime(form)
        place += 12
    return text[: len(starts) + 6]


def _show_basis(rehearsal: Rehearsal, bands: Bands, load: LoadUsed) -> None:
    """The sources of the load and the models, and how good they are."""
    echo()
    say(("Comes from", "bold"))
    begin, end = _moment(rehearsal.since), _moment(rehearsal.until)
    say(f"{load.words}, from {begin} to {end}; {bands.runs} run{'' if bands.runs == 1 else 's'}", indent=2)
    if load.fit is not None:
        fits = "well" if load.fit.well else "not well"
        say(
            f"the model fits {fits}: the largest difference between the distributions of what came in an hour is "
            f"{load.fit.difference:.3f}",
            indent=2,
        )
        for who, recipients in load.fit.left_out:
            say(f"left out: {who}, with {recipients:,} recipients on one or two days", indent=2)
    for name, samples in load.samples.items():
        few = "; that is few" if samples < 100 else ""
        left_out = f", without {count:,} that reached nobody" if (count := load.unreachable[name]) else ""
        say(f"{name}: replies and times of {samples:,} recorded attempts{left_out}{few}", indent=2)


# --- for programs ---------------------------------------------------------------------------------------------------


def rehearsal_json(rehearsal: Rehearsal, bands: Bands, conclusion: Conclusion, load: LoadUsed) -> dict[str, Any]:
    """The object of `--json`; spans are seconds."""
    figures = {key: _band_json(band) for key, band in bands.figures.items()}
    delays = {key.removeprefix("delay_"): figures.pop(key) for key in list(figures) if key.startswith("delay_p")}
    delays["max"] = figures.pop("delay_max")
    times = {key: _when_json(bands.figures[key]) for key in ("largest_at", "empty_at")}
    return {
        "verdict": list(conclusion.sentences),
        "ok": not conclusion.bad,
        "next": conclusion.next or None,
        "since": json_time(rehearsal.since),
        "until": json_time(rehearsal.until),
        "runs": bands.runs,
        **figures,
        **times,
        "delay": delays,
        "delay_by_priority": _groups_json(bands.by_priority),
        "delay_by_sender": _groups_json(bands.by_sender),
        "notices_by_sender": {who: _band_json(band) for who, band in bands.noticed.items()},
        "never_empty": bands.never_empty,
        "allowance_used_up": [
            {"connector": item.connector, "from": json_time(item.since), "to": json_time(item.until)}
            for item in bands.spent
        ],
        "overloads": [item._asdict() for item in conclusion.overloads],
        "troubles": [
            {"kind": item.kind, "name": item.name, "from": json_time(item.since), "to": json_time(item.until)}
            for item in rehearsal.troubles
        ],
        "load": {
            "from": load.words,
            "fit": None if load.fit is None else {
                "hours": load.fit.hours, "difference": load.fit.difference, "likely": load.fit.likely,
                "well": load.fit.well, "left_out": dict(load.fit.left_out),
            },
            "samples": dict(load.samples),
        },
    }  # fmt: skip


def _band_json(band: Band | None) -> dict[str, float] | None:
    return None if band is None else {key: round(value, 3) for key, value in band._asdict().items()}


def _when_json(band: Band | None) -> dict[str, str | None] | None:
    return None if band is None else {key: json_time(value) for key, value in band._asdict().items()}


def _groups_json(groups: Mapping[str, Mapping[str, Band]]) -> dict[str, Any]:
    return {name: {key: _band_json(band) for key, band in of.items()} for name, of in groups.items()}


def curves_csv(named: Sequence[tuple[str, Bands]]) -> str:
    """The curves, a line for each instant."""
    import pandas

    tables = []
    for name, bands in named:
        columns: dict[str, Any] = {"configuration": name} if len(named) > 1 else {}
        count = len(bands.series["waiting"].median)
        columns["time"] = [json_time(bands.since + bands.step * (place + 1)) for place in range(count)]
        for key, unit in (("waiting", "recipients"), ("oldest", "seconds"), ("relayed", "per_second")):
            series = bands.series[key]
            columns |= {f"{key}_{unit}": series.median, f"{key}_low": series.low, f"{key}_high": series.high}
        tables.append(pandas.DataFrame(columns))
    return str(pandas.concat(tables).to_csv(index=False, float_format="%.6g"))


# --- what was searched ----------------------------------------------------------------------------------------------


def show_found(found: Found) -> None:
    """The value, the evidence and the command."""
    from copper_kite.rehearsal import short_span

    say(("Verdict", "bold"))
    if found.value is None:
        tried = (
            f"{found.trials[0].value} to {found.trials[-1].value}" if len(found.trials) > 1 else found.trials[0].value
        )
        say(f"No {found.key} from {tried} meets '{found.goal.text}' here; something else limits it.", indent=2)
    else:
        which = "longest" if found.key == "waits" else "smallest"
        say(f"{found.key} = {found.value} is the {which} that meets '{found.goal.text}'.", indent=2)
        echo("next")
        echo(f"    {found.command}")
    echo()
    timed = found.goal.figure.startswith("delay") or found.goal.figure == "empty_after"

    def shown(figure: float | None) -> str:
        return "never" if figure is None else short_span(figure) if timed else f"{figure:,.0f}"

    rows = [(trial.value, shown(trial.figure), "yes" if trial.met else "no") for trial in found.trials]
    print_table((found.key, found.goal.text.split("<")[0].strip(), "meets it"), rows)


def found_json(found: Found) -> dict[str, Any]:
    """The same as JSON."""
    return {
        "find": found.key,
        "connector": found.connector or None,
        "goal": found.goal.text,
        "value": found.value,
        "command": found.command or None,
        "trials": [trial._asdict() for trial in found.trials],
    }
