"""`kite queue`: its summary, its lists, and what can be done; with the server and without."""

from __future__ import annotations

import asyncio
import io
import json
import mailbox
from pathlib import Path

import pytest
from rich.console import Console

from copper_kite.cli.commands.queue_watch import Look, picture
from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught, Rule, StandIn, StandInPlan
from copper_kite.settings.server_tls import server_context
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.sasl import Secret
from copper_kite.store import QueueSummary
from copper_kite.trace.pulse import Pulse
from copper_kite.words import State
from tests.cli.test_commands import smart_host, take
from tests.configuration import shared_store
from tests.support import PASSWORD, free_port, kite, running, until, write_site

RULES = (Rule("late*@*", Reply(451, "4.7.1", "later, please")), Rule("gone@*", Reply(550, "5.1.1", "no mailbox")))


def listed(config: Path, *words: str) -> list[str]:
    return [row["to"] for row in json.loads(kite("queue", "list", "--json", *words, config=config).stdout)]


async def test_the_queue_from_all_sides(folder: Path, authority: CertificateFiles) -> None:
    def test(config: Path) -> None:
        for recipient, body in (
            ("late1@passenger.example", "x"),
            ("late2@crew.example", ("y" * 70 + "\n") * 40),
            ("gone@passenger.example", "z"),
        ):
            kite(
                "pipe",
                "--from",
                "rota@ternferries.example",
                recipient,
                stdin=f"Subject: {recipient}\n\n{body}\n".encode(),
                config=config,
            )
        until(
            config,
            {"late1@passenger.example": "delayed", "late2@crew.example": "delayed", "gone@passenger.example": "failed"},
        )
        both = ["late1@passenger.example", "late2@crew.example"]
        assert listed(config) == both and listed(config, "--sort", "size") == both[::-1]
        for words, result in (
            (("--to", "crew.example"), both[1:]), (("--to", "*.example"), both), (("--to", "LATE1@passenger.example"), both[:1]),
            (("--to", "late_@crew.example"), []), (("--from", "ternferries.example"), both), (("--connector", "beacon"), both),
            (("--reason", "4.7.1"), both), (("--larger", "2KiB"), both[1:]),
            (("--older", "1h"), []), (("--who", "root"), both), (("--state", "failed"), ["gone@passenger.example"]),
            (("--next-hop", "localhost:"), both), (("--next-hop", "elsewhere"), []), (("--subject", "LATE2"), both[1:]),
            (("--subject", "%"), []),
        ):  # fmt: skip
            assert listed(config, *words) == result, words
        summary = json.loads(kite("queue", "--json", config=config).stdout)
        assert [(item["name"], item["recipients"]) for item in summary["state"]] == [("delayed", 2)]
        assert {item["name"] for item in summary["domain"]} == {"passenger.example", "crew.example"}
        assert b"451 4.7.1 later, please" in kite("queue", config=config).stdout
        id = json.loads(kite("queue", "list", "--json", "--to", "crew.example", config=config).stdout)[0]["id"]
        shown = kite("queue", "show", id, config=config).stdout
        assert b"late2@crew.example" in shown and b"Subject: late2@crew.example" in shown
        raw = kite("queue", "raw", id, config=config).stdout
        assert raw.startswith(b"Received: from ") and b"y" * 70 + b"\r\n" in raw
        assert kite("queue", "export", "--to", "example", "--into", folder / "none", config=config).returncode == 0
        done = kite("queue", "export", "--from", "*.example", "--into", folder / "out.mbox", config=config)
        assert b"2 messages written" in done.stdout
        assert [message["Subject"] for message in mailbox.mbox(folder / "out.mbox")] == both
        kite("queue", "export", id, "--into", folder / "eml", config=config)
        assert (folder / "eml" / f"{id}.eml").read_bytes() == raw

        for words, result in (
            (("passenger.example",), {"late1@passenger.example", "gone@passenger.example"}),
            (("rota@ternferries.example", "--state", "delayed"), set(both)),
            (("--reason", "no mailbox"), {"gone@passenger.example"}),
            (("no mailbox",), {"gone@passenger.example"}),
            (("late2",), {"late2@crew.example"}),
            (("--until", "1h ago", "--to", "*.example"), set()),
            (("--since", "1h ago", "--from", "ternferries.example"), {*both, "gone@passenger.example"}),
        ):  # fmt: skip
            done = kite("trace", *words, "--json", config=config)
            assert (done.returncode == 1) == (not result), words
            told = json.loads(done.stdout or b"[]")
            heard = (
                {row["to"] for row in told}
                if isinstance(told, list)
                else {event["address"] for event in told["recipients"]}
            )
            assert heard == result, words
        told = json.loads(kite("trace", "late2@crew.example", "--json", config=config).stdout)
        assert (
            told["id"] == id
            and json.loads(kite("trace", told["message_id"], "--json", config=config).stdout)["id"] == id
        )
        bare = told["message_id"].strip("<>")
        assert json.loads(kite("trace", bare, "--json", config=config).stdout)["id"] == id
        assert b"kite trace ID tells" in kite("trace", "passenger.example", config=config).stdout
        assert kite("trace", "nobody@x.example", config=config).returncode == 1
        assert kite("trace", config=config).returncode == 2

        asked = kite("queue", "remove", "--to", "crew.example", stdin=b"n\n", config=config)
        assert b"Remove 1 recipient of 1 message?" in asked.stdout and listed(config) == both
        assert b"1 recipient of 1 message: done\n" in kite("queue", "park", id, "--yes", config=config).stdout
        until(config, {both[0]: "delayed", both[1]: "parked", "gone@passenger.example": "failed"})
        story = json.loads(kite("trace", id, "--json", config=config).stdout)
        assert (
            "Parked for late2@crew.example" in story["verdict"]["meaning"]
            and f"release {id}" in story["verdict"]["next"]
        )
        assert kite("queue", "remove", "--state", "failed", "--yes", config=config).returncode == 0
        assert kite("queue", "retry", config=config).returncode == 2, "nothing is named"
        assert b"There is nothing to release" in kite("queue", "release", "--to", "x.example", config=config).stdout
        gone = kite("queue", "list", "--all", "--json", "--state", "removed", config=config)
        removed = json.loads(gone.stdout)[0]["id"]
        lost = kite("queue", "raw", removed, config=config)
        assert lost.returncode == 1 and b"is not kept any longer" in lost.stderr

    async def live() -> Path:
        async with smart_host(folder, authority, *RULES) as (hop, caught):
            config = write_site(folder, hop)
            with running(config):
                await asyncio.to_thread(test, config)
            await take(caught)  # the notice of the failure
            return config

    config = await live()
    if shared_store:
        return  # where several servers share the queue, the next one that starts does what is wanted
    # And now without the server.
    done = kite("queue", "release", "--to", "crew.example", "--yes", config=config)
    assert b"1 recipient of 1 message: done; no server runs now" in done.stdout
    until(
        config,
        {"late1@passenger.example": "delayed", "late2@crew.example": "queued", "gone@passenger.example": "removed"},
    )
    done = kite(
        "queue", "redirect", "--subject", "late1", "--to-recipient", "duty@crew.example", "--yes", config=config
    )
    assert b"1 recipient of 1 message: done; no server runs now" in done.stdout
    assert "duty@crew.example" in listed(config) and "late1@passenger.example" not in listed(config)
    unknown = kite("queue", "redirect", "--state", "queued", "--to-connector", "harbour", "--yes", config=config)
    assert unknown.returncode == 2 and b"there are: beacon" in unknown.stderr
    assert kite("queue", "redirect", "--state", "queued", "--yes", config=config).returncode == 2
    assert kite("queue", "return", "--to", "duty@crew.example", "--yes", config=config).returncode == 0
    assert listed(config, "--state", "failed") == ["duty@crew.example"]
    (notice,) = [row for row in json.loads(kite("queue", "list", "--json", config=config).stdout) if not row["from"]]
    assert notice["to"] == "rota@ternferries.example", "its sender is told"
    assert kite("queue", "remove", "--to", "*.example", "--yes", config=config).returncode == 0
    assert b"Nothing waits." in kite("queue", config=config).stdout


@pytest.mark.parametrize("word", ["retry", "park", "release", "remove", "show", "raw"])
def test_a_message_that_is_not_there(folder: Path, authority: CertificateFiles, word: str) -> None:
    config = write_site(folder, 2525, tls="off")
    with running(config):
        done = kite("queue", word, "ZZZZ", config=config)
        assert done.returncode == 1 and b"no message 'ZZZZ'" in done.stderr


@pytest.mark.data_folder
def test_verify_finds_what_the_disk_has_changed(folder: Path) -> None:
    """A bit of one message's content, a file of content that is gone, a page of the database; and nothing else."""
    config = write_site(folder, free_port(), tls="off")
    with running(config):
        for name in ("ana", "bo", "cy"):
            assert kite("pipe", f"{name}@passenger.example", stdin=b"Subject: s\n\nx\n", config=config).returncode == 0
        done = kite("queue", "verify", config=config)
        assert done.returncode == 0 and b"3 portions of content" in done.stdout and b"all is as" in done.stdout
    (file,) = (folder / "queue" / "content").iterdir()
    octets = bytearray(file.read_bytes())
    octets[octets.index(b"Subject: s", octets.index(b"Subject: s") + 1)] ^= 1  # the second message's
    file.write_bytes(octets)
    done = kite("queue", "verify", "--json", config=config)
    result = json.loads(done.stdout)
    assert done.returncode == 1 and not result["sound"] and not result["database"]
    (damaged,) = result["messages"]
    assert "its sum is wrong" in damaged["problem"]
    rows = {row["id"]: row["to"] for row in json.loads(kite("queue", "list", "--json", config=config).stdout)}
    assert rows[damaged["id"]] == "bo@passenger.example"
    file.unlink()
    done = kite("queue", "verify", config=config)
    assert done.returncode == 1 and done.stdout.count(b"No such file") == 3
    database = folder / "queue" / "queue.sqlite"
    pages = bytearray(database.read_bytes())
    pages[4096 : 4096 * 3] = bytes(4096 * 2)
    database.write_bytes(pages)
    for words in (("queue", "verify"), ("status",), ("queue", "list"), ("trace", "x")):
        done = kite(*words, config=config)
        assert done.returncode and b"Traceback" not in done.stderr + done.stdout, words


@pytest.mark.data_folder
async def test_a_queue_without_its_database_is_rescued_and_leaves(folder: Path, authority: CertificateFiles) -> None:
    """Nobody knows whether it was relayed: it leaves when somebody says so, each message with all of its octets."""
    queue, new = folder / "queue", folder / "queue.rescued"
    with running(write_site(folder, free_port(), tls="off")) as process:
        config = folder / "kite.toml"
        for name in ("ana", "bo"):
            assert kite("pipe", f"{name}@passenger.example", stdin=name.encode(), config=config).returncode == 0
        assert kite("queue", "rescue", "--anyway", config=config).returncode == 3, "while a server runs"
        process.terminate()
        process.wait()
    assert b"nothing to rescue" in kite("queue", "rescue", config=config).stdout
    for path in queue.glob("queue.sqlite*"):
        path.unlink()
    done = kite("serve", config=config)
    assert done.returncode == 3 and b"`kite queue rescue`" in done.stderr
    told = json.loads(kite("queue", "rescue", "--json", "--into", folder / "other", config=config).stdout)
    assert (told["parked"], told["lost"], told["unsure"]) == (2, [], False)
    done = kite("queue", "rescue", config=config)
    assert done.returncode == 0 and b"2 messages parked" in done.stdout
    assert f"mv {queue} {queue}.damaged && mv {new} {queue}".encode() in done.stdout
    queue.rename(folder / "queue.damaged")
    new.rename(queue)

    def leave(config: Path) -> None:
        with running(config):
            assert kite("queue", "release", "--state", "parked", "--yes", config=config).returncode == 0
            until(config, {"ana@passenger.example": "relayed", "bo@passenger.example": "relayed"})

    async with smart_host(folder, authority) as (hop, caught):
        left = asyncio.create_task(asyncio.to_thread(leave, write_site(folder, hop)))
        arrived = [await take(caught) for _ in range(2)]
        await left
        texts = [item.file.read_bytes() for item in arrived if item.file is not None]
        assert sorted(text.split()[-1] for text in texts) == [b"ana", b"bo"]


async def test_retry_tries_what_is_remembered_as_down_and_shows_what_became_of_it(
    folder: Path, authority: CertificateFiles
) -> None:
    """The login is refused until the other side mends it: nobody has to wait for the time that was planned."""

    def refused(config: Path) -> None:
        for name in ("ana", "bo"):
            assert kite("pipe", f"{name}@passenger.example", stdin=b"x", config=config).returncode == 0
        until(config, {"ana@passenger.example": "delayed", "bo@passenger.example": "delayed"})
        done = kite("queue", "retry", "--connector", "beacon", "--yes", "--wait", config=config)
        assert done.returncode == 1 and b"0 of 2 relayed" in done.stdout and b"535" in done.stdout, done.stdout

    def mended(config: Path) -> None:
        done = kite("queue", "retry", "--connector", "beacon", "--yes", "--wait", config=config)
        assert done.returncode == 0 and b"2 of 2 relayed" in done.stdout, done.stdout

    both = ("ana@passenger.example", "bo@passenger.example")

    def whole(config: Path, *, works: bool) -> None:
        """The same for all that waits for a connector; status says what is stopped."""
        if not works:
            while json.loads(kite("status", "--json", config=config).stdout)["connectors"][0]["sessions"]:
                continue  # one that is open would carry it still
            assert kite("pipe", "cy@passenger.example", stdin=b"x", config=config).returncode == 0
            until(config, {**dict.fromkeys(both, "relayed"), "cy@passenger.example": "delayed"})
            (stop,) = json.loads(kite("status", "--json", config=config).stdout)["stopped"]
            assert (stop["connector"], stop["stage"], stop["code"], stop["side"]) == ("beacon", "connect", None, "path")
            assert b"beacon is stopped: connection refused (localhost:" in kite("status", config=config).stdout
            done = kite("connector", "retry", "beacon", "--wait", config=config)
            assert done.returncode == 4 and b"still stopped: connection refused (localhost:" in done.stdout, done.stdout
            return
        tested = kite("connector", "test", "beacon", config=config)
        assert b"1 recipient waits:\nkite connector retry beacon --wait" in tested.stdout, tested.stdout
        done = kite("connector", "retry", "beacon", "--wait", "--json", config=config)
        assert done.returncode == 0 and json.loads(done.stdout)["stopped"] == [], done.stdout
        until(config, dict.fromkeys([*both, "cy@passenger.example"], "relayed"))
        assert b"retry connector beacon by" in kite("log", "search", "retry", config=config).stdout
        assert b"is stopped" not in kite("status", config=config).stdout
        assert b"there are beacon" in kite("connector", "retry", "harbour", config=config).stderr

    caught: list[Caught] = []
    logins = {"tern": Secret("another")}
    context = server_context(str(authority.certificate), str(authority.key))
    plan = StandInPlan(name="localhost", folder=None, context=context, logins=logins)
    stand_in = StandIn(plan, caught.append)
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    hop = await stand_in.start("127.0.0.1", 0)
    config = write_site(folder, hop)
    with running(config):
        await asyncio.to_thread(refused, config)
        logins["tern"] = Secret(PASSWORD)
        await asyncio.to_thread(mended, config)
        await stand_in.stop()
        await asyncio.to_thread(whole, config, works=False)
        stand_in = StandIn(plan, caught.append)
        await stand_in.start("127.0.0.1", hop)
        await asyncio.to_thread(whole, config, works=True)
    await stand_in.stop()
    assert sorted(message.recipients[0] for message in caught) == [
        f"{name}@passenger.example" for name in ("ana", "bo", "cy")
    ]


def test_watch_shows_what_changed_since_it_began() -> None:
    first = QueueSummary({State.QUEUED: 5, State.DELAYED: 1}, 6, 10, 90.0)
    then = QueueSummary({State.DELAYED: 4}, 1, 10, 90.0)
    console = Console(width=120, record=True, file=io.StringIO())
    console.print(picture(Look(200.0, None, then, Pulse(), [], (100.0, first))))
    lines = console.export_text().splitlines()
    assert "1 message waits, the oldest 1m50s old" in lines[0]
    assert [line.split()[-3:] for line in lines if line.startswith("since")] == [["-5", "+3", "+0"]]
