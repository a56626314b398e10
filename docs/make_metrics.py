"""Write docs/metrics.md from the table of metrics, so that it cannot name another one than the program does."""

from __future__ import annotations

import sys
from pathlib import Path

from copper_kite.monitoring.collector import DELAY, DELAY_HELP
from copper_kite.monitoring.families import FAMILIES

HEAD = """\
# Metrics and health

    [metrics]
    bind = "127.0.0.1:9587"                    # or "unix:/run/copper-kite/metrics.sock"; off where it is not there
    allow = ["127.0.0.0/8", "::1"]             # whose clients get an answer

has the server answer monitoring programs over HTTP. A process of its own does that, beside the server and with less
priority: whatever its clients do, mail goes on. It looks once a second at most, answers 16 requests at a time, and ends
each after 10 s. There is no login and no TLS: it is for this machine, or for a network that is yours.

| path | answer |
| --- | --- |
| `/metrics` | the numbers below, in the Prometheus text form, or in that of OpenMetrics for those that ask for it |
| `/health` | 200 while all is well, else 503; JSON: `{"healthy": false, "reasons": [{"reason": "disk", "text": "…"}]}` |
| `/live` | 200 while the server's loop turns, 503 when it has not for 10 s |

The reasons: `stopped`, `held up` (the loop stands still), `disk` (less is free than `[server] keep_free`), `folder` (the
data folder is gone), `queue` (it cannot be read), `configuration` (that in the file was refused), `faults` (of this
program's own hold mail). A next hop that is down is none: the server is well, takes mail in, and keeps it. For that there
are `kite_next_hops_down` and `kite_queue_oldest_age_seconds`.

`kite metrics` prints the same numbers without a port (`--form openmetrics` in the other form), whether a server runs or not.

In [examples/](examples/): [scrape.yml](examples/scrape.yml) has them collected, [alerts.yml](examples/alerts.yml) tells when
something is wrong, [dashboard.json](examples/dashboard.json) shows them.

Counters come from the hourly counts in the queue's database, so they survive a restart, and equal what the journal says
(`kite report --verify`). They go back when counts are older than `[journal] keep_counts` and the server starts anew.

This page is made by `docs/make_metrics.py`.

| metric | kind | labels | what it means |
| --- | --- | --- | --- |
"""


def page() -> str:
    """The whole page."""
    rows = [(family.name, family.kind, family.labels, family.help) for family in FAMILIES]
    rows.append((DELAY, "histogram", ("connector",), DELAY_HELP))
    return HEAD + "".join(
        f"| `{name}` | {kind} | {', '.join(f'`{label}`' for label in labels)} | {about} |\n"
        for name, kind, labels, about in rows
    )


if __name__ == "__main__":
    path = Path(__file__).with_name("metrics.md")
    if "--check" in sys.argv:
        sys.exit(0 if path.read_text() == page() else "docs/metrics.md is not what the metrics say")
    path.write_text(page())
