"""Logs of all kinds: lines in open formats (rows P-06, P-07), line maps, files and rotated sets, one message joined
across several."""

from __future__ import annotations

import bz2
import codecs
import gzip
import lzma
import os
import time
from pathlib import Path

import pytest

from copper_kite.errors import InputError, SettingsError
from copper_kite.trace.joined import Clues, candidates, join
from copper_kite.trace.linemap import Entry, load_map, shipped_maps
from copper_kite.trace.logs import MAX_LINE, LogSource, find_lines, rotated
from copper_kite.trace.sought import Sought
from copper_kite.trace.sources import named_sources
from copper_kite.trace.syslog import NotSyslog, parse_line, parse_rfc5424

NOW = 1795424400.0  # 23 Nov 2026, 09:00 UTC
HEAD = b"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 "


def test_rfc_5424_as_it_is_written() -> None:
    """P-06."""
    line = parse_rfc5424(HEAD + b"- 'su root' failed")
    assert (line.facility, line.severity, line.version, line.process, line.kind) == (4, 2, 1, "", "ID47")
    assert (line.host, line.program, line.text, line.at) == (
        "mymachine.example.com",
        "su",
        "'su root' failed",
        1065910455.003,
    )
    assert parse_rfc5424(b"<0>1 - - - - - -").at is None
    assert len(parse_rfc5424(HEAD + b"- " + b"x" * 1950).text) == 1950, "2048 octets are taken"


@pytest.mark.parametrize(
    "line",
    [
        b"<192>1 - h p - - - x", b"<034>1 - h p - - - x", b"<34>0 - h p - - - x", b"<34>1 - h p",
        b"<34>1 2003-10-11t22:14:15.003Z h p - - - x", b"<34>1 2003-10-11T22:14:15.003z h p - - - x",
        b"<34>1 2003-10-11T22:14:15.0000003Z h p - - - x", b"<34>1 2003-10-11T22:14:60Z h p - - - x",
        b"<34>1 2003-13-11T22:14:15Z h p - - - x", b"<34>1 - h p - - [a x", b'<34>1 - h p - - [a x="1"x', b"<34>1 - h p - - -x",
    ],
)  # fmt: skip
def test_what_is_not_rfc_5424(line: bytes) -> None:
    """P-06: it is told, and never taken for something else."""
    with pytest.raises(NotSyslog):
        parse_rfc5424(line)
    assert parse_line(line, NOW).text, "but as a line of text it can still be looked at"


def test_structured_data_and_the_words_behind_it() -> None:
    """P-07."""
    line = parse_rfc5424(HEAD + rb'[a@32473 k="x\"y\\z\]" k="2"][b@32473 e=""] ' + codecs.BOM_UTF8 + "höher".encode())
    assert line.data == {"a@32473": {"k": ['x"y\\z]', "2"]}, "b@32473": {"e": [""]}}
    assert line.text == "höher" and line.text_known and line.pairs["k"] == 'x"y\\z]'
    assert parse_rfc5424(HEAD + b"- h\xf6her").text_known is False


@pytest.mark.parametrize(
    ("line", "at", "host", "program", "text"),
    [
        (b"Nov 23 08:59:58 quay1 gate[17]: sent", -2, "quay1", "gate", "sent"),
        (b"<22>Nov  9 09:00:00 quay1 gate: sent", -14 * 86400, "quay1", "gate", "sent"),
        (b"Dec 24 09:00:00 quay1 gate: of last year", -334 * 86400, "quay1", "gate", "of last year"),
        (b"2026-11-23T09:00:01.5Z quay1 gate[1]: sent", 1.5, "quay1", "gate", "sent"),
        (b"2026-11-23 10:00:01,250+0100 notice relayed id=0D4", 1.25, "", "", "notice relayed id=0D4"),
        (b'{"ts": 1795424401, "msg": "sent", "host": "quay1"}', 1, "quay1", "", "sent"),
        (b'{"@timestamp": "2026-11-23T09:00:01Z", "a": {"b": [1, 2]}}', 1, "", "", '{"@timestamp": "2026-11-23T09:00:01Z", "a": {"b": [1, 2]}}'),
        (b"sent, nobody knows when", None, "", "", "sent, nobody knows when"),
        (b"{broken", None, "", "", "{broken"),
        (b"Feb 31 09:00:00 quay1 gate: never", None, "quay1", "gate", "never"),
    ],
)  # fmt: skip
def test_lines_of_other_kinds(
    line: bytes, at: float | None, host: str, program: str, text: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Old syslog without a year, times of RFC 3339 and nearly so, JSON; and what is none of them."""
    monkeypatch.setenv("TZ", "UTC")
    time.tzset()
    result = parse_line(line, NOW)
    assert (result.host, result.program, result.text) == (host, program, text)
    assert result.at == (None if at is None else NOW + at)


def test_lines_are_found_wherever_a_portion_ends() -> None:
    """Every way to cut a file gives the same lines; a line without an end is one, and one without bounds is cut."""
    content = b"one needle\ntwo\n\nthree NEEDLE needle\nfour\nlast needle"
    for size in range(1, len(content) + 1):
        portions = [content[at : at + size] for at in range(0, len(content), size)]
        assert list(find_lines(iter(portions), [b"needle"])) == [b"one needle", b"three NEEDLE needle", b"last needle"]
        assert list(find_lines(iter(portions), [b"two", b"four"])) == [b"two", b"four"]
        assert list(find_lines(iter(portions), [])) == content.split(b"\n")
    assert list(find_lines(iter([content]), [b"NEEDLE needle"], any_case=True)) == [b"three NEEDLE needle"]
    endless = find_lines(iter([b"x" * 100_000] * 50), [b"x"])
    assert [len(line) for line in endless] == [MAX_LINE]


MAP = r"""
name = "gate"
program = "gate"
[patterns]
time = '^\[([^\]]+)\]'
id = 'job (\w+)'
recipient = 'to <([^>]+)>'
code = 'said (\d{3})'
text = 'said (.*)'
next_id = 'kept as (\w+)'
[names]
sender = ["mail.from", "from"]
[[outcome]]
word = "relayed"
says = 'said 2'
[[outcome]]
word = "failed"
says = 'said 5'
"""


def test_a_map_of_ones_own(folder: Path) -> None:
    """Patterns and names say what stands where; a time in a form of its own; outcomes in their order."""
    (folder / "gate.toml").write_text(MAP.replace("[patterns]", 'time_form = "%d.%m.%y %H:%M"\n[patterns]'))
    line_map = load_map(folder / "gate.toml")
    raw = "[23.11.26 09:00] job 7F to <ana@x.example> from=rota@y.example said 250 kept as 9Q2"
    (folder / "gate.log").write_text(raw + "\n")
    (entry,) = LogSource("gate", (str(folder / "gate.log"),), line_map).search([b"7F"], NOW)
    assert entry == Entry(
        time.mktime((2026, 11, 23, 9, 0, 0, 0, 0, -1)), "gate", raw, id="7F", next_id="9Q2", sender="rota@y.example",
        recipient="ana@x.example", code="250", text="250 kept as 9Q2", outcome="relayed",
    )  # fmt: skip


def test_what_is_wrong_in_a_map_is_told_at_once(folder: Path) -> None:
    """All of it, each with what to write."""
    bad = 'nmae = "x"\n'
    worse = "[patterns]\nid = 'no group'\nqueue = '(x)'\ncode = '('\n[[outcome]]\nword = 'sent'\nsays = 'x'\n"
    for text, told in (
        (bad, ["nmae", "is no key of a line map"]),
        (worse, ["patterns.id", "no group", "queue", "code is no pattern", "outcome 1"]),
        ("x = [", ["not TOML"]),
        ("patterns = 3", ["is of the wrong kind"]),
    ):
        (folder / "bad.toml").write_text(text)
        with pytest.raises(SettingsError) as caught:
            load_map(folder / "bad.toml")
        shown = str(caught.value).replace(": is no pattern", " is no pattern")
        assert all(words in shown for words in told), shown
    with pytest.raises(SettingsError):
        load_map(folder / "none.toml")
    assert shipped_maps() == ("any", "catch", "kite")


def test_compressed_and_rotated(folder: Path) -> None:
    """The oldest first, whatever it is packed with; what only begins with the name is another log."""
    names = {"mail.log.3.xz": lzma.compress, "mail.log.2.bz2": bz2.compress, "mail.log.1.gz": gzip.compress,
             "mail.log-20261123": bytes, "mail.log": bytes, "mail.log.err": bytes}  # fmt: skip
    for age, (name, pack) in enumerate(names.items()):
        (folder / name).write_bytes(pack(f"needle in {name}\n".encode()))
        os.utime(folder / name, (NOW + age, NOW + age))
    assert [path.name for path in rotated(folder / "mail.log")] == list(names)[:-1]
    (source,) = named_sources([str(folder / "mail.log")], None, rotated_too=True)
    assert [entry.raw for entry in source.search([b"needle"], NOW)] == [
        f"needle in {name}" for name in list(names)[:-1]
    ]
    (folder / "broken.gz").write_bytes(b"not packed")
    (broken,) = named_sources([str(folder / "broken.gz")], None, rotated_too=False)
    with pytest.raises(InputError):
        list(broken.search([], NOW))
    with pytest.raises(InputError):
        named_sources([str(folder / "none.log")], None, rotated_too=False)


OURS = '2026-11-23T09:00:0{}Z notice {} id={} recipient=ana@x.example reply="{}"\n'


def test_one_message_through_three_logs(folder: Path) -> None:
    """By Message-ID, by the id handed on in the last reply, and by each log's own ids; and nothing else."""
    first, second = "0D4Q71SQ00", "0D4Q71SV00"
    (folder / "one.log").write_text(
        f"2026-11-23T09:00:00Z info accepted id={first} message_id=<m@y.example>\n"
        + OURS.format(1, "relayed", first, f"250 2.0.0 kept as {second}")
        + OURS.format(1, "relayed", "0D4Q71ZZ00", "250 2.0.0 kept as 0D4Q71ZZG0")
    )
    (folder / "two.log").write_text(
        OURS.format(3, "delayed", second, "451 4.7.1 later")
        + OURS.format(4, "relayed", second, "250 2.0.0 taken as 000012")
        + OURS.format(5, "relayed", "0D4Q71ZZG0", f"250 speaks of {second} by chance")
    )
    (folder / "three.log").write_text("Nov 23 09:00:09 store box[1]: stored, message-id=<m@y.example>, 000012\nother\n")
    sources = named_sources([str(folder / f"{name}.log") for name in ("three", "two", "one")], None, rotated_too=False)
    result = join(sources, Clues(message_ids={"<m@y.example>"}), NOW)
    assert [(entry.source, entry.outcome) for entry in result] == [
        ("one.log", "accepted"), ("one.log", "relayed"), ("two.log", "delayed"), ("two.log", "relayed"), ("three.log", ""),
    ]  # fmt: skip
    too_late = join(sources, Clues(message_ids={"<m@y.example>"}, since=NOW + 3605), NOW)
    assert [entry.source for entry in too_late] == ["three.log"], "the same ids, of a message long ago"
    assert candidates("250 2.0.0 ok: kept as 0D4Q71SV00 at mx1.example, bye") == {"0D4Q71SV00", "mx1.example"}


def test_what_is_sought() -> None:
    """Each condition by itself."""
    entry = Entry(
        NOW,
        "x",
        "Line of Words",
        id="0D4",
        sender="A@y.example",
        recipient="b@z.example",
        code="451 4.7.1",
        outcome="delayed",
    )
    for good in (Sought(), Sought(words=("Line", "Words")), Sought(words=("line",), any_case=True), Sought(id="0d4"),
                 Sought(sender="a@Y"), Sought(code="45"), Sought(outcome="delayed"), Sought(since=NOW, until=NOW)):  # fmt: skip
        assert good.holds(entry), good
    for bad in (Sought(words=("Line", "none")), Sought(words=("line",)), Sought(id="0D"), Sought(recipient="y.example"),
                Sought(code="51"), Sought(outcome="failed"), Sought(since=NOW + 1), Sought(until=NOW - 1)):  # fmt: skip
        assert not bad.holds(entry), bad
    assert not Sought(since=1.0).holds(Entry(None, "x", "no time"))
