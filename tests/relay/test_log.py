"""The server's log: what it says, in which form, and where."""

from __future__ import annotations

import json
import os
import re
import socket
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.relay import log as log_module
from copper_kite.relay.log import Log, open_log
from copper_kite.session.standin import Rule
from copper_kite.settings.model import Log as LogSettings
from copper_kite.smtp.replies import Reply
from tests.relay.test_relay import letter, talk
from tests.support import StoppedClock, codes, converse, site

AT = 1_800_000_000.25
RFC5424 = re.compile(
    r"<(\d{1,3})>1 (\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z) (\S+) (\S+) (\d+) (\S+) "
    r'\[([^ =\]"]+)((?: [^ =\]"]+="(?:[^"\\\]]|\\["\\\]])*")*)\] (.*)'
)


def opened(folder: Path, **settings: object) -> Log:
    return open_log(LogSettings.model_validate(settings), folder, "quay1.ternferries.example", lambda: AT)


def lines(file: Path) -> list[str]:
    return file.read_text().splitlines()


def test_a_pipe_that_nobody_reads_stops_nothing(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What does not fit is lost, and told when there is room again; what is written is whole lines."""
    reading, writing = os.pipe()
    with os.fdopen(writing, "w") as pipe, os.fdopen(reading, "rb", buffering=0) as reader:
        monkeypatch.setattr("sys.stderr", pipe)
        log = opened(folder)
        for number in range(3000):
            log.write("error", "alarm", text=f"{number:05} {'x' * 100}")
        log.write("error", "alarm", text="y" * 10_000)
        first = reader.read(1 << 20)
        log.write("error", "alarm", text="room again")
        rest = reader.read(1 << 20).decode().splitlines()
    whole = first.decode().splitlines()
    assert 100 < len(whole) < 3000 and all(line.endswith('x"') for line in whole)
    assert rest[0].endswith(f"warning lost lines={3001 - len(whole)}") and "room again" in rest[1]


def test_each_form_says_the_same(folder: Path) -> None:
    """As lines, as JSON, as RFC 5424 6 has it; nothing that a peer said gets out of its value."""
    for form in ("lines", "json", "rfc5424"):
        log = opened(folder, to=f"file:{form}.log", format=form)
        log.write(
            "warning",
            "failed",
            id="0D42EA4W00",
            to="<a@x.example>",
            reply='550 5.1.1 "no]\\ \x1b[2J\r\nx',
            connector="",
        )
        log.write("info", "relayed", id="0D42EA4W00")
        log.close()
    (plain,), (made,), (syslog,) = (lines(folder / f"{form}.log") for form in ("lines", "json", "rfc5424"))
    assert plain == (
        "2027-01-15T08:00:00.250Z warning failed id=0D42EA4W00 to=<a@x.example>"
        ' reply="550 5.1.1 \\"no]\\\\ \\\\x1b[2J\\\\r\\\\nx"'
    )
    said = '550 5.1.1 "no]\\ \\x1b[2J\\r\\nx'
    assert json.loads(made) == {
        "time": "2027-01-15T08:00:00.250Z", "level": "warning", "event": "failed", "id": "0D42EA4W00",
        "to": "<a@x.example>", "reply": said,
    }  # fmt: skip
    match = RFC5424.fullmatch(syslog)
    assert match is not None
    assert match[1] == "20" and match[3] == "quay1.ternferries.example" and match[6] == "failed"
    values = dict(re.findall(r' ([a-z]+)="((?:[^"\\\]]|\\.)*)"', match[8]))
    assert re.sub(r"\\(.)", r"\1", values["reply"]) == said and match[9] == "failed 0D42EA4W00"


def test_a_full_file_makes_room(folder: Path) -> None:
    log = opened(folder, to="file:deep/kite.log", max_size="1KiB", keep=2, level="info")
    for number in range(60):
        log.write("info", "relayed", id=f"{number:010}", text="x" * 50)
    log.close()
    files = sorted(path.name for path in (folder / "deep").iterdir())
    assert files == ["kite.log", "kite.log.1", "kite.log.2"]
    assert all((folder / "deep" / name).stat().st_size <= 1024 for name in files)
    kept = [line for name in reversed(files) for line in lines(folder / "deep" / name)]
    numbers = [int(re.search(r"id=(\d+)", line)[1]) for line in kept]  # type: ignore[index]
    assert numbers == list(range(numbers[0], 60))
    log = opened(folder, to="file:deep/kite.log", max_size="1KiB", keep=2)
    log.write("error", "more")
    log.close()
    assert lines(folder / "deep" / "kite.log")[-1].endswith("error more"), "it goes on where it was"


def test_the_syslog_of_this_machine(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What is lost while nobody listens is counted, and told when somebody does again."""
    place = folder / "log"
    monkeypatch.setattr(log_module, "SYSLOG", str(place))
    with pytest.raises(OSError):
        opened(folder, to="syslog")

    def listening() -> socket.socket:
        place.unlink(missing_ok=True)
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        sock.bind(str(place))
        sock.settimeout(10)
        return sock

    with listening() as first:
        log = opened(folder, to="syslog", format="json")
        log.write("notice", "delayed", id="1")
        assert RFC5424.fullmatch(first.recv(2048).decode())[1] == "21"  # type: ignore[index]
    log.write("notice", "delayed", id="2")
    log.write("notice", "delayed", id="3")
    with listening() as second:
        log.write("notice", "delayed", id="4")
        assert 'lost [kite@32473 lines="2"]' in second.recv(2048).decode()
        assert 'id="4"' in second.recv(2048).decode()
    log.close()


async def test_every_line_about_a_message_has_its_id(folder: Path, authority: CertificateFiles) -> None:
    """Taken, relayed, delayed, failed; refusals with their count; nothing of a message's content, nor a secret."""
    rules = (Rule("gone@*", Reply(550, "5.1.1", "no mailbox")), Rule("late@*", Reply(451, "4.7.1", "later")))
    extra = '[log]\nto = "file:kite.log"\nformat = "json"\nlevel = "info"\n'

    async with site(folder, authority, rules=rules, extra=extra, clock=StoppedClock()) as here:
        heard = await converse(
            here.port,
            talk(letter("ok@x.example", "gone@x.example", "late@x.example"), b"MAIL FROM:<>\r\nRCPT TO:<@>\r\n"),
        )
        assert codes(heard)[-2] == b"501"
        await converse(here.port, b"EHLO x\r\nMAIL FROM:<>\r\nRCPT TO:<nobody>\r\nQUIT\r\n")
        await here.until_caught(2)
    told = [json.loads(line) for line in lines(folder / "kite.log")]
    by: dict[str, list[dict[str, str]]] = {}
    for event in told:
        by.setdefault(event["event"], []).append(event)
    first = by["accepted"][0]
    assert first["who"] == "127.0.0.1" and first["recipients"] == "3" and first["message_id"] == "<m1@x>"
    assert by["failed"][0]["recipient"] == "gone@x.example" and by["failed"][0]["reply"] == "550 5.1.1 no mailbox"
    assert by["delayed"][0]["next_try"] and by["delayed"][0]["level"] == "notice"
    assert {item["id"] for name in ("relayed", "failed", "delayed") for item in by[name]} >= {first["id"]}
    assert all("id" in item for name in ("accepted", "relayed", "failed", "delayed") for item in by[name])
    text = (folder / "kite.log").read_text()
    assert "hello" not in text and "the-quay" not in text
