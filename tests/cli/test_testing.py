"""The commands that test sessions, as the built program: probe, send, talk, play, catch."""

from __future__ import annotations

import email
import email.policy
import json
import re
import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from xml.etree import ElementTree

import pytest

from copper_kite.cli.main import run_command_line
from tests.support import OPENING, PASSWORD, SECONDS, environment, free_port, kite, running, write_site

MAIL = b"Subject: high tide\n\nThe tide is high.\n"


@contextmanager
def catching(folder: Path, *words: object, port: int = 0) -> Iterator[tuple[int, str, subprocess.Popen[bytes]]]:
    """`kite catch` as a process, with a login: its port, its authority's file, and itself."""
    folder.mkdir(exist_ok=True)
    secrets = folder / "logins.toml"
    secrets.touch(mode=0o600)
    secrets.write_text(f'[beacon]\nlogin = "tern"\npassword = "{PASSWORD}"\n')
    port = port or free_port()
    command = [
        sys.executable, "-m", "copper_kite", "catch", f"127.0.0.1:{port}", "--folder", folder / "caught", *words,
        *(() if "--no-logins" in words else ("--credentials", secrets)),
    ]  # fmt: skip
    process = subprocess.Popen(
        [str(word) for word in command if word != "--no-logins"],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=environment(),
    )
    assert process.stderr is not None
    line = process.stderr.readline()
    assert b"takes mail on" in line, line
    try:
        yield port, str(folder / "caught" / "tls" / "ca.pem"), process
    finally:
        process.send_signal(signal.SIGTERM)
        process.communicate(timeout=SECONDS)


def meet(port: int, authority: str, *words: object) -> list[object]:
    """How the tests meet a stand-in: with its authority, and a login whose password comes from the environment."""
    return [
        f"localhost:{port}",
        "--trust",
        authority,
        "--login",
        "tern",
        "--password-command",
        f"printf {PASSWORD}",
        *words,
    ]


def refused(*words: object) -> bool:
    """Whether the command line is refused as wrong usage: asked in this process, since nothing is to be done."""
    with pytest.raises(SystemExit) as left:
        run_command_line([str(word) for word in words])
    return left.value.code == 2


def test_probe_says_how_far_it_gets(folder: Path) -> None:
    """Text and JSON; exit 0 and 4; a bad option is told; no password shows."""
    with catching(folder, "--refuse", "gone@*") as (port, authority, _):
        good = kite("probe", *meet(port, authority, "--from", "a@x.example", "--to", "b@x.example", "--dialogue"))
        text = good.stdout.decode()
        assert good.returncode == 0, good.stderr
        stages = re.findall(r"(?m)^ok +([a-z]+) ", text)
        assert stages == [*OPENING, "sender", "recipient", "quit"]
        for words in (
            "offered in clear",
            "offered under TLS",
            "certificate",
            "364 days left",
            "100.0 MiB",
            "no message was sent",
        ):
            assert words in text
        assert "C: AUTH SCRAM-SHA-256 ***" in text and PASSWORD not in text
        bad = kite("probe", *meet(port, authority, "--to", "gone@x.example", "--json"))
        result = json.loads(bad.stdout)
        assert bad.returncode == 4 and not result["passed"] and result["stages"][-1]["stage"] == "recipient"
        assert (
            result["verdict"]["evidence"].endswith("(stage recipient)")
            and result["certificates"][0]["days_left"] == 364
        )
        assert result["offers_in_clear"] != result["offers"] and "PLAIN" in result["logins"]
        many = kite("probe", f"localhost:{port}", "--trust", authority, "--repeat", 3, "--every", "0s", "--json")
        assert json.loads(many.stdout)["times"]["greet"]["passed"] == 3
        swept = kite("probe", "localhost", "--trust", authority, "--ports", f"{free_port()},{port}")
        assert swept.returncode == 0 and b"connect: connection" in swept.stdout and b"364 days left" in swept.stdout
        assert (
            kite("probe", f"localhost:{port}", "--deliver", "--to", "b@x.example", "--trust", authority).returncode == 4
        )
    for words in (["probe"], ["probe", "h", "--timeout", "lunch=1h"], ["probe", "h", "--ports", "0"], ["probe", "a b"],
                  ["probe", "h", "--trust", "nowhere.pem"], ["probe", "h", "--deliver"], ["probe", "h", "--to", "x"]):  # fmt: skip
        assert refused(*words), words


def test_probe_by_a_connector(folder: Path) -> None:
    with catching(folder) as (port, authority, _):
        shutil.copy(authority, folder / "ca.pem")
        config = write_site(folder, port)
        done = kite("probe", "--connector", "beacon", "--deliver", "--to", "b@x.example", config=config)
        assert (
            done.returncode == 0 and b"connector beacon" in done.stdout and b"answers for it from here" in done.stdout
        )
        assert kite("connector", "test", "beacon", "--to", "root", config=config).returncode == 0
        facts = json.loads((folder / "caught" / "000002.json").read_text())
        assert facts["to"] == ["duty@crew.example"], "a name of this machine goes where its mail goes"
    done = kite("probe", "--connector", "beacon", config=config)
    assert done.returncode == 4 and b"side      path" in done.stdout
    assert b"did you mean 'beacon'" in kite("probe", "--connector", "becon", config=config).stderr


def test_send_makes_the_message_that_was_asked_for(folder: Path) -> None:
    """Display names, HTML, attachments, fields, a size, or a ready file; the envelope apart from the header."""
    (folder / "plan.txt").write_text("crew plan")
    with catching(folder, "--refuse", "gone@*") as (port, authority, _):
        where = ["--server", *meet(port, authority)]
        done = kite(
            "send", "Ana Silva <ana@passenger.example>", "--from", "Tide Wätch <tide@x.example>", "--subject", "High — tide",
            "--text", "hello\n.dot", "--html", "<b>hello</b>", "--attach", folder / "plan.txt", "--header", "X-Tide: high",
            "--envelope-from", "bounce@x.example", *where,
        )  # fmt: skip
        assert done.returncode == 0, done.stdout + done.stderr
        kept = email.message_from_bytes((folder / "caught" / "000001.eml").read_bytes(), policy=email.policy.default)
        assert (kept["From"], kept["Subject"], kept["X-Tide"]) == ("Tide Wätch <tide@x.example>", "High — tide", "high")
        plain, html = kept.get_body(("plain",)), kept.get_body(("html",))
        assert plain is not None and plain.get_content().split() == ["hello", ".dot"] and html is not None
        assert [part.get_filename() for part in kept.iter_attachments()] == ["plan.txt"]
        facts = json.loads((folder / "caught" / "000001.json").read_text())
        assert facts["from"] == "bounce@x.example" and facts["to"] == ["ana@passenger.example"]
        assert facts["login"] == "tern" and facts["tls"].startswith("TLSv1.") and facts["hello"]
        for octets in (2000, 2001, 2077, 2078, 2079):
            assert kite("send", "b@x.example", "--size", octets, *where).returncode == 0
        sizes = [path.stat().st_size for path in sorted((folder / "caught").glob("*.eml"))[1:]]
        assert sizes == [2000, 2001, 2077, 2078, 2079]
        (folder / "ready.eml").write_bytes(MAIL)
        assert kite("send", "b@x.example", "--eml", folder / "ready.eml", *where).returncode == 0
        assert (folder / "caught" / "000007.eml").read_bytes() == MAIL.replace(b"\n", b"\r\n")
        many = kite("send", "b@x.example", "--count", 20, "--sessions", 3, "--rate", "500/s", "--json", *where)
        assert json.loads(many.stdout)["taken"] == 20 and many.returncode == 0
        none = kite("send", "gone@x.example", "--count", 2, *where)
        assert none.returncode == 4 and b"0 of 2 messages taken" in none.stdout and b"no mailbox" in none.stdout
        for words in (["x y"], ["b@x.example", "--header", "nonsense"], ["b@x.example", "--attach", "nowhere"],
                      ["b@x.example", "--size", "9"], ["b@x.example", "--rate", "fast"], ["b@x.example", "--wait"]):  # fmt: skip
            assert refused("send", *words, *where), words


def test_send_follows_a_message_to_its_end(folder: Path) -> None:
    """Through the server on this machine: relayed, and failed; the story is printed."""
    with catching(folder, "--refuse", "gone@*") as (port, authority, _):
        shutil.copy(authority, folder / "ca.pem")
        config = write_site(folder, port)
        assert kite("send", "root", config=config).returncode == 4, "no server runs"
        with running(config):
            done = kite("send", "root", "--wait", config=config)
            assert done.returncode == 0 and b"Relayed for duty@crew.example" in done.stdout
            failed = kite("send", "gone@x.example", "--wait", "--json", config=config)
            assert failed.returncode == 4 and json.loads(failed.stdout)["recipients"][0]["state"] == "failed"
            told = kite("send", "b@x.example", config=config)
            assert re.search(rb"next\n +kite --config \S+ trace [0-9A-Z]{10}\n", told.stdout)
            assert refused("--config", config, "send", "b@x.example", "--login", "tern"), (
                "there is nobody to log in with"
            )


def test_captures_are_looked_at_later(folder: Path) -> None:
    """list, show, headers, export (one, and many by RFC 4155), clear; what would harm a terminal is escaped."""
    with catching(folder, "--no-logins", "--tls", "off", "--name", "stand-in.example") as (port, _, process):
        plain = ["--server", f"localhost:{port}", "--tls", "off"]
        (folder / "odd.eml").write_bytes(b"Subject: odd \x1b[31m\n\nFrom here on\n")
        assert kite("send", "b@x.example", "--eml", folder / "odd.eml", *plain).returncode == 0
        assert kite("send", "b@x.example", "--from", "a@x.example", *plain).returncode == 0
        process.send_signal(signal.SIGTERM)
        out, err = process.communicate(timeout=SECONDS)
        assert b"000001" in out and b"no TLS" in out and b"caught 2 messages" in err
    where = ["--folder", folder / "caught"]
    listed = kite("catch", "list", *where).stdout.decode()
    assert "000001" in listed and "<a@x.example>" in listed
    assert [item["number"] for item in json.loads(kite("catch", "list", "--json", *where).stdout)] == [1, 2]
    shown = kite("catch", "show", 1, *where).stdout
    assert b"Subject: odd \\x1b[31m" in shown and b"client" in shown and b"\x1b" not in shown
    assert kite("catch", "headers", 1, *where).stdout == b"Subject: odd \\x1b[31m\n"
    assert kite("catch", "export", 1, *where).stdout == (folder / "caught" / "000001.eml").read_bytes()
    mbox = kite("catch", "export", *where).stdout
    assert mbox.startswith(b"From ") and b"\n>From here on\n" in mbox and len(re.findall(rb"(?m)^From ", mbox)) == 2
    assert kite("catch", "show", 9, *where).returncode == 2
    assert kite("catch", "clear", *where, stdin=b"n\n").returncode == 1
    assert kite("catch", "clear", "--yes", *where).returncode == 0 and not list((folder / "caught").glob("0*"))


def test_catch_goes_by_a_file(folder: Path) -> None:
    """--behave: put off at the first try, an allowance, a refused sender; a wrong key is told with its line."""
    behaviour = folder / "behave.toml"
    behaviour.write_text(
        'name = "out.beaconpost.example"\nallowance = "3/day"\nput_off_first = true\n[tls]\nmode = "off"\n'
        '[[rule]]\nstage = "sender"\nsender = "bad@*"\nanswer = "550 5.7.1 not you"\n'
    )
    with catching(folder, "--no-logins", "--behave", behaviour) as (port, _, _process):
        plain = ["--server", f"localhost:{port}", "--tls", "off"]
        tries = [kite("send", "b@x.example", *plain) for _ in range(2)]
        assert [done.returncode for done in tries] == [4, 0] and b"450 4.2.0" in tries[0].stdout
        assert b"220 out.beaconpost.example" in tries[0].stdout
        assert b"send as bad@x.example" in kite("send", "b@x.example", "--from", "bad@x.example", *plain).stdout
        used = [kite("send", "b@x.example", *plain) for _ in range(3)]
        assert [done.returncode for done in used] == [0, 0, 4] and b"allowance is used up" in used[2].stdout
    behaviour.write_text('name = "x"\n[[rule]]\nstage = "recipent"\nanswer = "450 no"\n')
    wrong = kite("catch", "--behave", behaviour)
    assert wrong.returncode == 3 and f"{behaviour}:3: rule[1].stage:" in wrong.stderr.decode()


def test_curl_and_openssl_get_along_with_it(folder: Path) -> None:
    if not (shutil.which("curl") and shutil.which("openssl")):
        pytest.skip("curl and openssl are not here")
    (folder / "mail.eml").write_bytes(MAIL.replace(b"\n", b"\r\n"))
    with catching(folder) as (port, authority, _):
        subprocess.run(
            [
                "curl", "-sS", "--ssl-reqd", "--cacert", authority, f"smtp://localhost:{port}/tern.example", "--user",
                f"tern:{PASSWORD}", "--mail-from", "a@x.example", "--mail-rcpt", "b@x.example",
                "--upload-file", folder / "mail.eml",
            ],
            check=True, timeout=SECONDS,
        )  # fmt: skip
        assert (folder / "caught" / "000001.eml").read_bytes() == MAIL.replace(b"\n", b"\r\n")
        done = subprocess.run(
            [
                "openssl", "s_client", "-starttls", "smtp", "-connect", f"localhost:{port}", "-CAfile", authority,
                "-verify_return_error", "-verify_hostname", "localhost", "-quiet", "-crlf",
            ],
            input=b"EHLO x.example\nquit\n", capture_output=True, timeout=SECONDS, check=False,
        )  # fmt: skip
        assert b"250 AUTH " in done.stdout and b"221 2.0.0" in done.stdout, done.stderr


# --- play and talk ---------------------------------------------------------------------------------------------------


def test_play_tells_where_and_why(folder: Path) -> None:
    """Exit 0 and 1; the file and line; JSON, and JUnit XML for build servers; shipped scripts by name."""
    good, bad = folder / "good.session", folder / "bad.session"
    good.write_text("title it greets\nconnect\nexpect 220\n")
    bad.write_text("title it takes anybody\nconnect\nhello\nexpect 250\nsay MAIL FROM:<a@x.example>\nexpect 250\n")
    with catching(folder) as (port, authority, _):
        where = ["--server", *meet(port, authority)]
        assert kite("play", good, *where).returncode == 0
        done = kite("play", good, bad, "--junit", folder / "junit.xml", *where)
        text = done.stdout.decode()
        assert done.returncode == 1 and f"{bad}:6  expect 250" in text and "came      530 5.7.0 log in first" in text
        assert "1 of 2 went as they say" in text
        suite = ElementTree.parse(folder / "junit.xml").getroot()[0]
        assert suite.get("tests") == "2" and suite.get("failures") == "1"
        assert [case.find("failure") is None for case in suite] == [True, False]
        result = json.loads(kite("play", bad, "--json", *where).stdout)
        assert result[0]["failed"]["line"] == 6 and result[0]["outcome"] == "failed"
        assert kite("play", "login-in-clear", "strangers", *where).returncode == 0
    assert "end-of-content" in kite("play", "--list").stdout.decode()
    bad.write_text("conect\n")
    wrong = kite("play", bad)
    assert wrong.returncode == 3 and f"{bad}:1: 'conect' is no word".encode() in wrong.stderr
    assert kite("play").returncode == 2 and kite("play", "no-such-script").returncode == 2


def test_a_rule_that_could_never_fit_is_told_and_one_on_content_fits(folder: Path) -> None:
    """`recipient` counts where the content is at stake, for any of them; earlier nothing is known of one."""
    (folder / "never.toml").write_text('[[rule]]\nstage = "sender"\nrecipient = "a@x.example"\nanswer = "550 no"\n')
    done = kite("catch", f"127.0.0.1:{free_port()}", "--behave", folder / "never.toml", "--folder", folder / "c")
    assert done.returncode == 3 and b"the rule would never fit" in done.stderr
    for stage in ("content", "accept"):
        (folder / "rule.toml").write_text(
            f'[[rule]]\nstage = "{stage}"\nrecipient = "full@*"\nanswer = "552 5.2.2 full"\n'
        )
        with catching(folder, "--behave", folder / "rule.toml", "--tls", "off", "--no-logins") as (port, *_):
            where = ("--server", f"127.0.0.1:{port}", "--tls", "off")
            assert b"552 5.2.2 full" in kite("send", "full@x.example", *where).stdout, stage
            assert kite("send", "other@x.example", *where).returncode == 0


def test_catch_names_the_authority_of_a_faulty_certificate(folder: Path) -> None:
    (folder / "expired.toml").write_text('[tls]\ncertificate = "expired"\n')
    with catching(folder, "--behave", folder / "expired.toml") as (port, _, process):
        authority = folder / "caught" / "tls" / "expired-ca.pem"
        assert process.stderr is not None and str(authority).encode() in process.stderr.readline()
        done = kite("probe", f"localhost:{port}", "--trust", authority)
        assert b"is out of date" in done.stdout


def test_play_lists_for_programs_and_knows_its_variables(folder: Path) -> None:
    listed = json.loads(kite("play", "--list", "--json").stdout)
    assert {"size", "strangers"} <= {item["script"] for item in listed} and all(item["title"] for item in listed)
    wrong = kite("play", "size", "--server", "127.0.0.1:1", "--set", "sendr=a@b.example")
    assert wrong.returncode == 2 and b"did you mean 'sender'?" in wrong.stderr
    rule = '[[rule]]\nstage = "sender"\nanswer = "550 5.7.1 not this sender"\n'
    (folder / "rule.toml").write_text(rule)
    with catching(folder, "--behave", folder / "rule.toml", "--tls", "off", "--no-logins") as (port, *_):
        done = kite("play", "size", "--server", f"127.0.0.1:{port}", "--tls", "off")
        assert done.returncode == 1 and b"it refuses this sender, whatever the size" in b" ".join(done.stdout.split())


def test_a_time_limit_for_every_stage(folder: Path) -> None:
    """A port that takes connections and says nothing: every stage ends by the one limit."""
    with socket.create_server(("127.0.0.1", 0)) as silent:
        done = kite("probe", f"127.0.0.1:{silent.getsockname()[1]}", "--tls", "off", "--timeout", "1s")
    assert done.returncode == 4 and b"nothing heard for 1 s" in done.stdout
    assert kite("probe", "127.0.0.1:1", "--timeout", "soon").returncode == 2


def test_a_filter_with_a_connector_that_is_none(folder: Path) -> None:
    config = write_site(folder, free_port(), tls="off")
    with running(config):
        pass
    for words in (("queue", "list"), ("trace",)):
        done = kite(*words, "--connector", "beakon", config=config)
        assert done.returncode == 2 and b"did you mean 'beacon'?" in done.stderr, words
    assert kite("queue", "list", "--connector", "beacon", config=config).returncode == 0
    shown = kite("--help").stdout.decode()
    assert shown.index("  trace ") < shown.index("  queue ")
    assert "Keys: recipients, senders" in " ".join(kite("connector", "add", "--help").stdout.decode().split())
