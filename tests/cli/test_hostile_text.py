"""What a peer, a client or a file says may steer no terminal: in any command, as text and as JSON."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from rich.console import Console

from copper_kite.cli.output import show
from copper_kite.cli.output.show import json_text
from copper_kite.store import (
    Attempt,
    AttemptFacts,
    JournalEntry,
    Message,
    Recipient,
    RecipientResult,
    RecordAttempt,
    SessionFacts,
    SetState,
    StageTook,
    TriedAddress,
    WriteEntry,
    open_store,
)
from copper_kite.words import Event, State
from tests.configuration import store_of
from tests.support import free_port, kite, whole, write_site

# A title, colours, a jump of the cursor; CSI and OSC of C1; DEL; marks of direction; a line of its own; a lone half.
HOSTILE = "x\x1b]0;title\x07\x1b[31m\x1b[2J\x9b2J\x9d0;t\x9c\x7f\u202egnp\u2066\u200e\u2028fake\x08\x00"
STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]")
ID = 2**40


def hostile_queue(folder: Path) -> Path:
    """A site whose store holds it in every field that somebody else fills in."""
    config = write_site(folder, free_port(), tls="off")
    message = Message(
        ID, 1e9, 9e9, HOSTILE, 3, False, False, HOSTILE, HOSTILE, HOSTILE, HOSTILE, HOSTILE, "ESMTP", "", HOSTILE
    )
    recipients = [Recipient(ID, n, f"{n}{HOSTILE}", changed=1e9) for n in (1, 2)]
    session = SessionFacts(
        [StageTook("greet", 0.1, HOSTILE)], [TriedAddress(HOSTILE, HOSTILE, "connect", "lost", HOSTILE)],
        tls=HOSTILE, cipher=HOSTILE, login=HOSTILE,
    )  # fmt: skip
    facts = AttemptFacts([RecipientResult(f"1{HOSTILE}", "delayed", "recipient", HOSTILE)], session)
    attempt = Attempt(
        ID + 1, ID, 1e9, 0.1, "beacon", HOSTILE, HOSTILE, "recipient", "next hop", "reply", 451, "4.7.1", HOSTILE,
        facts, [[0.0, "<", HOSTILE]],
    )  # fmt: skip
    refused = {"listener": HOSTILE, "who": HOSTILE, "stage": "sender", "reply": HOSTILE, "count": 3, "hello": HOSTILE}
    open_store(store_of(folder / "queue")).write([
        whole(message, recipients, f"Subject: {HOSTILE}\r\n\r\nx".encode()),
        [
            SetState(ID, 1, State.DELAYED, 1, 8e9, "beacon", HOSTILE, 1e9, HOSTILE),
            RecordAttempt(attempt),
            WriteEntry(JournalEntry(at=1e9, event=Event.REFUSED, facts=refused)),
            WriteEntry(
                JournalEntry(at=1e9, event=Event.ALARM, facts={"who": HOSTILE, "text": HOSTILE}, message=ID)
            ),
        ],
    ])  # fmt: skip
    return config


@pytest.mark.parametrize("as_json", [False, True])
def test_no_command_lets_hostile_text_through(folder: Path, as_json: bool) -> None:
    config = hostile_queue(folder)
    (folder / "other.log").write_text(f"2001-09-09T01:46:40Z host prog[1]: id={HOSTILE} accepted from={HOSTILE}\n")
    (folder / "mail.eml").write_text(
        f"Received: from {HOSTILE} by {HOSTILE} id {HOSTILE}; {HOSTILE}\nSubject: {HOSTILE}\n\nx"
    )
    (rows,) = [json.loads(kite("queue", "list", "--json", config=config).stdout)]
    id = rows[0]["id"]
    for words in (
        ["queue"], ["queue", "list"], ["queue", "show", id], ["trace", id], ["trace", id, "--dialogue"], ["status"],
        ["trace", "--refused"], ["log", "search"], ["log", "search", "--in", folder / "other.log"],
        ["headers", folder / "mail.eml"], ["notice", folder / "mail.eml"], ["explain", "451", HOSTILE.replace("\0", "")],
        ["route", "x\x1b[31m@b.example"], ["probe", "\x1b[31mh:1"], ["trace", "\x1b[31m"],
    ):  # fmt: skip
        if as_json and words[-1] == "--dialogue":
            continue
        done = kite(*words, *(["--json"] if as_json else []), config=config)
        for stream in (done.stdout, done.stderr):
            text = stream.decode()
            assert not (found := STEERS.search(text)), f"{words}: {text[max(0, found.start() - 60) :][:120]!r}"
        assert b"Traceback" not in done.stderr and done.returncode != 70, (words, done.stderr)


def test_json_says_the_same_escaped() -> None:
    value = {"text": HOSTILE + "\ud800 ä 漢 😀", "list": [HOSTILE]}
    assert json.loads(json_text(value)) == value
    assert "ä 漢 😀" in json_text(value) and json_text(value).isprintable()


@pytest.mark.parametrize("columns", [60, 80, 100, 160])
@pytest.mark.parametrize("wraps", [True, False])
def test_a_table_fits_its_terminal(
    columns: int, wraps: bool, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Ids, times and codes stay whole, next hops do where they are wrapped; on no terminal nothing is cut at all."""
    row = (
        "0DC1FGAAG0",
        "11:21:47",
        "smart.beaconpost.example:587",
        "450 4.2.1",
        "ana.silva@passenger.example",
        "q " * 90,
    )
    heads = ("id", "time", "next hop", "code", "to", "last reply")
    screen = Console(width=columns, force_terminal=True, no_color=True, highlight=False)
    monkeypatch.setattr(show, "console", lambda: screen)
    show.print_table(heads, [row] * 2, wraps=wraps)
    shown = re.sub(r"\x1b\[\d*m", "", capsys.readouterr().out)
    assert max(map(len, shown.splitlines())) <= columns
    for cell in (row[0], row[1], row[3], *(row[2:3] if wraps and columns >= 100 else ())):
        assert cell in shown, (cell, shown)
    monkeypatch.undo()
    monkeypatch.delenv("KITE_COLUMNS", raising=False)
    show.print_table(heads, [row], wraps=wraps)
    plain = capsys.readouterr().out.splitlines()
    assert len(plain) == 2 and all(text.strip() in plain[1] for text in row)
    monkeypatch.setenv("KITE_COLUMNS", str(columns))
    show.print_table(heads, [row], wraps=wraps)
    narrow = capsys.readouterr().out
    assert max(map(len, narrow.splitlines())) <= columns and narrow.count("q") == 90


@pytest.mark.parametrize(
    ("width", "shown"),
    [
        (25, "ana.si…@passenger.example"),
        (27, "ana.silva@passenger.example"),
        (19, "…@passenger.example"),
        (12, "…ger.example"),
    ],
)
def test_an_address_is_shortened_before_its_domain(width: int, shown: str) -> None:
    assert show.short_address("ana.silva@passenger.example", width) == shown and len(shown) <= width
