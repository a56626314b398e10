"""Write docs/line-maps.md: how logs of other programs are read, with what the commands print."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.support import environment
from tests.three import send_through, three_hosts

GATE_LOG = """\
[23.11.26 10:02:10] job 7F1 taken from <rota@ternferries.example>, msgid=<rota.7@ternferries.example>
[23.11.26 10:02:11] job 7F1 to <pier@crew.example>: said 450 4.2.1 the mailbox is being moved; will retry
[23.11.26 10:07:11] job 7F1 to <pier@crew.example>: said 250 2.0.0 kept as 9Q2
"""
GATE_MAP = r"""# gate.toml
name = "gate"
time_form = "%d.%m.%y %H:%M:%S"

[patterns]                                 # each is looked for by itself; what its group holds counts
time = '^\[([^\]]+)\]'
id = 'job (\w+)'
message_id = 'msgid=(\S+)'
sender = 'from <([^>]*)>'
recipient = 'to <([^>]+)>'
text = 'said (.*)'
next_id = 'kept as (\w+)'

[[outcome]]                                # the first that fits
word = "accepted"
says = ' taken from '
[[outcome]]
word = "relayed"
says = 'said 2'
[[outcome]]
word = "delayed"
says = 'said 4'
[[outcome]]
word = "failed"
says = 'said 5'
"""
PAGE = """\
# Logs of other programs and hosts

`kite log` and `kite trace` read the journal, and any log that is named: with `--in FILE` (a file, a folder, `-` for
standard input; `--rotated` adds `FILE.1`, `FILE.2.gz`, `FILE-20260504`), or in the configuration:

    [[other_log]]
    name = "gate"
    files = ["/var/log/gate/mail.log*"]    # plain, .gz, .bz2, .xz
    map = "gate.toml"                      # beside kite.toml; not needed for logs of our own

Lines are understood in these forms, told apart line by line: RFC 5424; lines like those of RFC 3164 (`Nov 23 10:02:10
quay1 gate[17]: …`; the year is the one that makes it the latest before tomorrow); lines that begin with a time of RFC 3339;
JSON objects, one a line, with `time`, `timestamp`, `@timestamp` or `ts`, and `text`, `message` or `msg`. What is none of
them is text without a time. `name=value` and `name="va lue"` in the text are pairs, and so are JSON keys (`a.b` for `b`
inside `a`) and the parameters of structured data.

Time zones: a time without one is taken as local time here.

## A line map
What a line means, only who knows the program can say. A map is a TOML file that does; this page is made by
`docs/make_line_maps.py`, which runs what it shows.

    $ cat gate.log
{0}
{1}
| key | what it says |
| --- | --- |
| `name`, `about` | for people |
| `program` | only lines of this program (of syslog) are read so |
| `time_form` | the form of the time that `patterns.time` finds, in the letters of Python's `strptime`; else RFC 3339 |
| `[patterns]` | for each thing, a regular expression whose first group that matches is taken |
| `[names]` | for each thing, a name or several of pairs, tried before the pattern: `recipient = ["rcpt", "to"]` |
| `[[outcome]]` | `word`: `accepted`, `relayed`, `delayed`, `failed`, `refused` or `other`; `says`: the expression that tells it |

The things: `time`, `id` (the log's own), `message_id`, `sender`, `recipient`, `host`, `code`, `text` (the reply, or
what is to be shown), `outcome` (where a pair says it in these words), `next_id` (the id that the next server gave in its
last reply; without it, words of a relayed line's text that have a digit are tried). Without `code`, the code at the
beginning of `text` counts. A map with mistakes is refused, each named.

{2}
Maps that come with the product: `kite` (the server's log in its three forms) and `catch` (`kite catch --json`), which
need not be named; `any`, for the rest, finds Message-IDs. There are none for other programs.

## One message through the logs of three hosts
`quay1` hands its mail to `quay2`, which relays it to the smart host. With their logs named as above, `kite trace` goes
on where the story at `quay1` ends: from the Message-ID and the id in the last reply to the lines of the next log, from
those to its own id, and so on. `quay2` writes RFC 5424, the stand-in JSON.

{3}
## Searching and following

{4}
With `--in`, what has the words in it is found by its octets before it is parsed: a log of 1 GB takes little longer than
`grep -c` does. `kite log follow` shows what happens, as it happens, in the journal or in files; rotated files are read
to their end. With `--keep-place FILE` it goes on where it was, after a restart of its own or of the server.
"""


def indented(text: str) -> str:
    return "".join(f"    {line}".rstrip() + "\n" for line in text.splitlines())


def shown(folder: Path, command: str, config: Path | None = None) -> str:
    """The command with what it printed."""
    more = {"KITE_CONFIG": str(config)} if config is not None else {}
    words = [sys.executable, "-m", "copper_kite", *command.split()[1:]]
    done = subprocess.run(words, capture_output=True, text=True, cwd=folder, env=environment(COLUMNS="100", **more))
    return indented(f"$ {command}\n{done.stdout}{done.stderr}")


def main() -> None:
    """Make the page."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "gate.log").write_text(GATE_LOG)
        (folder / "gate.toml").write_text(GATE_MAP)
        by_map = shown(folder, "kite log search pier@crew.example --in gate.log=gate.toml")
        with three_hosts(folder) as config:
            id = send_through(folder, "pier@crew.example")
            traced = shown(folder, f"kite trace {id}", config)
            searches = [
                shown(folder, "kite log search --outcome delayed --in quay2/quay2.log", config),
                shown(folder, "kite log search --to crew.example --since 1h", config),
            ]
    text = PAGE.format(indented(GATE_LOG), indented(GATE_MAP), by_map, traced, "\n".join(searches))
    Path(__file__).with_name("line-maps.md").write_text(text)


if __name__ == "__main__":
    main()
