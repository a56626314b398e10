"""`kite log`: search and follow, the journal and files; and `kite trace` through the logs of others."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Rule
from copper_kite.smtp.replies import Reply
from tests.cli.test_commands import smart_host, take
from tests.support import kite, running, until, write_site
from tests.three import send_through, three_hosts

RULES = (Rule("gone@*", Reply(550, "5.1.1", "no mailbox")),)


@contextmanager
def following(config: Path, *words: str | Path) -> Iterator[Iterator[dict[str, str]]]:
    """`kite log follow --json`; what it prints, as it comes."""
    command = [
        sys.executable,
        "-m",
        "copper_kite",
        "--config",
        str(config),
        "log",
        "follow",
        "--json",
        *map(str, words),
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    try:
        yield (json.loads(line) for line in process.stdout)
    finally:
        process.terminate()
        process.wait()


def pipe(config: Path, recipient: str) -> None:
    done = kite("pipe", "--from", "rota@ternferries.example", recipient, stdin=b"Subject: plan\n\nx\n", config=config)
    assert done.returncode == 0


def first(entries: Iterator[dict[str, str]], outcome: str, recipient: str) -> dict[str, str]:
    """The first such entry; whatever comes before is passed over."""
    return next(entry for entry in entries if (entry["outcome"], entry["to"]) == (outcome, recipient))


async def test_the_journal_searched_and_followed(folder: Path, authority: CertificateFiles) -> None:
    """Live, with filters; and again from where it was, though the server was stopped and started meanwhile."""
    place = folder / "place.json"

    def test(config: Path) -> None:
        with running(config), following(config, "--keep-place", place) as entries:
            assert next(entries)["outcome"] == "started"
            pipe(config, "ana@passenger.example")
            assert first(entries, "relayed", "ana@passenger.example")["code"] == "250"
            pipe(config, "gone@passenger.example")
            failed = first(entries, "failed", "gone@passenger.example")
            assert failed["from"] == "rota@ternferries.example" and failed["text"] == "550 5.1.1 no mailbox"
        with running(config):
            pipe(config, "bo@passenger.example")
        with running(config), following(config, "--keep-place", place) as entries:
            seen = [next(entries)]
            while seen[-1]["to"] != "bo@passenger.example":
                seen.append(next(entries))
            assert [entry["outcome"] for entry in seen].count("started") == 2, "it tells what came while it was away"
            assert all(entry["to"] != "ana@passenger.example" for entry in seen), "and nothing twice"
        for words, result in (
            (("bo@passenger",), {"accepted", "relayed"} - {"accepted"}),
            (("--outcome", "failed"), {"failed"}),
            (("no mailbox",), {"failed"}),
            (("--id", failed["id"]), {"accepted", "failed", "notice"}),
            (("NO MAILBOX", "--any-case"), {"failed"}),
            (("--to", "GONE@", "--code", "5"), {"failed"}),
            (("relayed", "connector=beacon", "--to", "bo@"), {"relayed"}),
        ):
            told = json.loads(kite("log", "search", *words, "--json", config=config).stdout)
            assert {entry["outcome"] for entry in told} == result, words
        assert kite("log", "search", "nowhere", config=config).returncode == 1
        assert kite("log", "search", "--until", "1h ago", config=config).returncode == 1
        assert kite("log", "search", "--count", "--outcome", "relayed", config=config).stdout.strip() == b"3"
        shown = kite("log", "search", "--outcome", "failed", config=config).stdout.decode()
        assert f"{failed['id']}  rota@ternferries.example → gone@passenger.example  550 5.1.1 no mailbox" in shown
        place.write_text("{}")
        assert b"holds no place" in kite("log", "follow", "--keep-place", place, config=config).stderr

    async with smart_host(folder, authority, *RULES) as (hop, caught):
        tested = asyncio.create_task(asyncio.to_thread(test, write_site(folder, hop)))
        for _ in range(3):  # and the notice among them
            await take(caught)
        await tested


def test_a_file_followed_while_it_is_rotated(folder: Path) -> None:
    """What is appended, whole lines only; the old file to its end, then the new one; and again from there."""
    log, place = folder / "gate.log", folder / "place.json"
    log.write_text("old 1\nold 2\n")
    words = ("--in", log, "--keep-place", place)
    with following(folder / "none.toml", *words, "--last", "1") as entries:
        assert next(entries)["line"] == "old 2"
        with log.open("a") as file:
            file.write("half a ")
            file.flush()
            file.write("line\n")
            file.flush()
            assert next(entries)["line"] == "half a line"
            log.rename(folder / "gate.log.1")
            file.write("the last of the old\n")
        log.write_text("the first of the new\n")
        assert [next(entries)["line"] for _ in range(2)] == ["the last of the old", "the first of the new"]
        with log.open("a") as file:
            file.write("seen\n")
        assert next(entries)["line"] == "seen"
        with log.open("a") as file:
            file.write("and kept\n")
        assert next(entries)["line"] == "and kept"
    with log.open("a") as file:
        file.write("while away\n")
    with following(folder / "none.toml", *words) as entries:
        lines = [next(entries)["line"]]
        while lines[-1] != "while away":
            lines.append(next(entries)["line"])
        assert lines in (["while away"], ["and kept", "while away"]), "killed before the place was noted, or after"


def test_files_searched(folder: Path) -> None:
    """Several, standard input, a map for each, a folder; what is wrong is told."""
    (folder / "a.log").write_text("Nov 23 09:00:00 quay1 gate[1]: job=7F to=ana@x.example sent\n")
    (folder / "gate.toml").write_text('[patterns]\nid = "job=(\\\\w+)"\nrecipient = "to=(\\\\S+)"\n')
    named = f"{folder / 'a.log'}={folder / 'gate.toml'}"
    told = json.loads(kite("log", "search", "--in", named, "--to", "ana@", "--json").stdout)
    assert [(entry["id"], entry["host"], entry["source"]) for entry in told] == [("7F", "quay1", "a.log")]
    piped = kite(
        "log", "search", "sent", "--in", "-", "--map", folder / "gate.toml", stdin=(folder / "a.log").read_bytes()
    )
    assert b"-          7F          \xe2\x86\x92 ana@x.example  job=7F to=ana@x.example sent" in piped.stdout
    logs = folder / "logs"
    logs.mkdir()
    (logs / "b.log").write_text("nothing\nsent twice\n")
    assert kite("log", "search", "sent", "--in", logs, "--in", folder / "a.log", "--count").stdout.strip() == b"2"
    assert kite("log", "search", "x", "--in", folder / "none.log").returncode == 2
    assert kite("log", "search", "x", "--in", folder / "a.log", "--map", folder / "none.toml").returncode == 3


async def test_traced_through_the_logs_of_others(folder: Path, authority: CertificateFiles) -> None:
    """Those of the configuration and those that are named; what stopped it there is the verdict."""

    def test(config: Path) -> None:
        with running(config):
            pipe(config, "ana@passenger.example")
            until(config, {"ana@passenger.example": "relayed"})
            story = json.loads(kite("trace", "ana@passenger.example", "--json", config=config).stdout)
            id = story["attempts"][0]["results"][0]["reply"].split()[-1]
            now = story["arrived"]
            (folder / "beacon.log").write_text(
                f"{now} info accepted id={id} sender=rota@ternferries.example\n"
                f'{now} warning failed id={id} recipient=ana@passenger.example reply="552 5.2.2 full"\n'
                f"{now} warning failed id=999999 recipient=bo@passenger.example\n"
            )
            told = json.loads(kite("trace", story["id"], "--json", config=config).stdout)
            assert [(entry["source"], entry["outcome"]) for entry in told["elsewhere"]] == [
                ("beacon", "accepted"), ("beacon", "failed"),
            ]  # fmt: skip
            assert told["verdict"]["side"] == "beyond" and "failed at beacon" in told["verdict"]["meaning"]
            by_name = json.loads(kite("log", "search", "--in", "beacon", "--id", id, "--json", config=config).stdout)
            assert [entry["outcome"] for entry in by_name] == ["accepted", "failed"]
            assert kite("log", "search", "--in", "baecon", config=config).returncode == 2
            shown = kite("trace", story["id"], "--in", folder / "beacon.log", config=config).stdout.decode()
            assert "In other logs" in shown and "552 5.2.2 full" in shown and "bo@" not in shown

    async with smart_host(folder, authority) as (hop, caught):
        other = '[[other_log]]\nname = "beacon"\nfiles = ["beacon.log*"]\n'
        tested = asyncio.create_task(asyncio.to_thread(test, write_site(folder, hop, extra=other)))
        await take(caught)
        await tested


def test_two_servers_and_a_stand_in(folder: Path) -> None:
    """One message traced across three logs, each in a form of its own: JSON, RFC 5424, what `kite catch` prints."""
    with three_hosts(folder) as config:
        id = send_through(folder, "pier@crew.example")
        told = json.loads(kite("trace", id, "--json", config=config).stdout)
        words = ("trace", id, "--json", "--in", folder / "quay1" / "quay1.log")
        with_own = json.loads(kite(*words, config=config).stdout)
    quay2 = [entry for entry in told["elsewhere"] if entry["source"] == "quay2"]
    assert [entry["outcome"] for entry in quay2] == ["accepted", "delayed", "relayed"]
    assert {entry["id"] for entry in quay2} == {told["attempts"][0]["results"][0]["reply"].split()[-1]}
    (beacon,) = [entry for entry in told["elsewhere"] if entry["source"] == "beacon"]
    assert (beacon["outcome"], beacon["id"]) == ("accepted", quay2[-1]["text"].split()[-1])
    own = [entry["outcome"] for entry in with_own["elsewhere"] if entry["source"] == "quay1.log"]
    assert own == ["accepted", "relayed"]
