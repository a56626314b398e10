"""Setting up as an administrator does it, with the built program: no editor, and the same on the next server."""

from __future__ import annotations

import asyncio
import json
import os
import pty
import re
import select
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from tests.cli.test_commands import smart_host, take
from tests.support import PASSWORD, SECONDS, environment, free_port, kite, running, write_site

NAMES = ("--name", "quay1.ternferries.example", "--root", "duty@crew.example")


async def test_four_commands_from_nothing_to_a_relayed_message(folder: Path, authority: CertificateFiles) -> None:

    async with smart_host(folder, authority) as (hop, caught):
        words = (*NAMES, "--host", f"localhost:{hop}", "--trust", folder / "ca.pem", "--login", "tern")
        port = free_port()
        words += ("--bind", f"127.0.0.1:{port}", "--bind", f"unix:{folder}/s.sock")
        words += ("--folder", folder / "k", "--unattended", "--password-stdin")
        made = await asyncio.to_thread(kite, "init", *words, stdin=f"{PASSWORD}\n".encode())
        assert made.returncode == 0, made.stdout + made.stderr
        assert b"starttls  works, logins SCRAM-SHA-256" in made.stdout and PASSWORD.encode() not in made.stdout
        config = folder / "k" / "kite.toml"
        assert 'tls = "starttls"   # the safest that was seen to work' in config.read_text()
        assert (folder / "k" / "credentials.toml").stat().st_mode & 0o777 == 0o600
        again = await asyncio.to_thread(kite, "init", *words, stdin=f"{PASSWORD}\n".encode())
        assert again.returncode == 2 and b"--overwrite" in again.stderr
        checked = await asyncio.to_thread(kite, "check", "--live", config=config)
        assert checked.returncode == 0 and b"235 2.7.0" in checked.stdout
        with running(config):
            sent = await asyncio.to_thread(kite, "pipe", "root", stdin=b"Subject: s\n\nHigh tide\n", config=config)
            assert sent.returncode == 0, sent.stderr
            assert (await take(caught)).recipients == ("duty@crew.example",)


async def test_the_smart_host_is_found_by_the_domain(folder: Path, authority: CertificateFiles) -> None:
    """RFC 6186, RFC 8314: the submission service that the domain's SRV records name, TLS at once first."""
    async with smart_host(folder, authority) as (hop, _):
        zone = folder / "trial.zone"
        zone.write_text(
            f"$TTL 300\n_submission._tcp.ternferries.example. IN SRV 10 1 {hop} localhost.\n"
            "_submission._tcp.ternferries.example. IN SRV 5 1 9 .\n"
        )
        words = (
            *NAMES,
            "--domain",
            "ternferries.example",
            "--dns",
            f"zone:{zone}",
            "--trust",
            folder / "ca.pem",
            "--login",
            "tern",
        )
        words += ("--bind", f"127.0.0.1:{free_port()}", "--folder", folder / "k", "--unattended", "--password-stdin")
        made = await asyncio.to_thread(kite, "init", *words, stdin=f"{PASSWORD}\n".encode())
        assert made.returncode == 0, made.stdout + made.stderr
        assert b"localhost is not of ternferries.example: make sure" in b" ".join(made.stdout.split())
        assert f'hosts = ["localhost:{hop}"]' in (folder / "k" / "kite.toml").read_text()
        none = await asyncio.to_thread(kite, "init", *NAMES, "--domain", "other.example", "--dns", f"zone:{zone}", "--no-login",
                                       "--folder", folder / "n", "--unattended")  # fmt: skip
        assert none.returncode == 2
        assert b"--host" in none.stderr


class Terminal:
    """A program on a pseudo-terminal, spoken to as a person would."""

    def __init__(self, *words: str) -> None:
        self._pid, self._descriptor = pty.fork()
        if not self._pid:
            os.execve(sys.executable, [sys.executable, "-m", "copper_kite", *words], environment())
        self.screen = ""

    def until(self, words: str) -> None:
        end = time.monotonic() + SECONDS
        start = len(self.screen)
        while words not in self.screen[start:]:
            assert time.monotonic() < end, self.screen
            if select.select([self._descriptor], [], [], 1)[0]:
                try:
                    self.screen += os.read(self._descriptor, 65536).decode()
                except OSError:
                    raise AssertionError(self.screen) from None

    def answer(self, question: str, text: str) -> None:
        self.until(question)
        os.write(self._descriptor, f"{text}\n".encode())

    def status(self) -> int:
        while True:
            try:
                octets = os.read(self._descriptor, 65536)
            except OSError:
                break
            if not octets:
                break
            self.screen += octets.decode()
        os.close(self._descriptor)
        return os.waitstatus_to_exitcode(os.waitpid(self._pid, 0)[1])


async def test_the_same_by_questions_at_a_terminal(folder: Path, authority: CertificateFiles) -> None:

    def ask(hop: int) -> None:
        terminal = Terminal("init", "--folder", str(folder / "k"), "--trust", str(folder / "ca.pem"))
        terminal.answer("full name", "quay1")
        terminal.answer("not a fully qualified domain name", "quay1.ternferries.example")
        terminal.answer("Domain of your addresses [ternferries.example]", "")
        terminal.answer("The smart host", f"localhost:{hop}")
        terminal.answer("Login at the smart host", "tern")
        terminal.answer("Password of tern", PASSWORD)
        terminal.answer("mail for root", "duty@crew.example")
        terminal.answer("Address of programs that have none", "quay1@ternferries.example")
        terminal.answer("Write it?", "y")
        assert terminal.status() == 0, terminal.screen
        assert PASSWORD not in terminal.screen and "the safest that was seen to work" in terminal.screen
        text = (folder / "k" / "kite.toml").read_text()
        again = Terminal("init", "--folder", str(folder / "k"))
        for question in ("[quay1.ternferries.example]", "[ternferries.example]", f"[localhost:{hop}]", "[tern]",
                         "as it is", "[duty@crew.example]", "[quay1@ternferries.example]"):  # fmt: skip
            again.answer(question, "")
        again.answer("Write over", "n")
        assert again.status() == 1 and (folder / "k" / "kite.toml").read_text() == text

    async with smart_host(folder, authority) as (hop, _):
        await asyncio.to_thread(ask, hop)


TWELVE = """\
[server]
name = "quay1"
data = "queue"
colour = "blue"
[identity]
domian = "ternferries.example"
recipients = { root = "duty" }
[[listener]]
name = "programs"
bind = ["127.0.0.1:2525"]
allow = ["0.0.0.0/0"]
max_size = "10 elephants"
[[listener]]
name = "others"
bind = ["127.0.0.1:2525"]
[[connector]]
name = "beacon"
hosts = ["out.beaconpost.example"]
tls = "maybe"
[[connector]]
name = "harbour"
recipients = ["harbouroffice.example"]
hosts = ["gate.harbouroffice.example:70000"]
trust = "no.pem"
[retry]
waits = ["soon"]
lifetime = "1m"
"""


def test_twelve_faults_are_twelve_findings(folder: Path) -> None:
    (folder / "kite.toml").write_text(TWELVE)
    done = kite("check", "--json", config=folder / "kite.toml")
    result = json.loads(done.stdout)["findings"]
    assert done.returncode == 1
    assert [finding["line"] for finding in result] == [2, 4, 6, 7, 11, 12, 15, 19, 23, 24, 26, 27]
    told = kite("check", config=folder / "kite.toml").stdout.decode()
    assert f"{folder}/kite.toml:12: listener[1].max_size" in told and "why:" in told and "do: " in told


def test_changes_keep_every_comment_and_touch_only_their_lines(folder: Path) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    text = "# Top\n" + config.read_text().replace("[[connector]]", "# The general provider\n[[connector]]  # first")
    text = (
        text.replace("[[listener]]", "\n# Programs here\n[[listener]]")
        + "\n# The end\n[retry]\nwaits = ['1m']  # short\n"
    )
    config.write_text(text)
    for words in (
        ("connector", "add", "harbour", "hosts=gate.harbouroffice.example", "recipients=harbouroffice.example"),
        ("connector", "set", "harbour", "preference=5", "recipients+=office.example"),
        ("connector", "disable", "harbour"),
        ("connector", "copy", "harbour", "second", "hosts=gate2.harbouroffice.example", "enabled="),
        ("connector", "remove", "harbour", "--yes"),
        ("listener", "set", "programs", "max_size=1MiB"),
    ):
        done = kite(*words, config=config)
        assert done.returncode == 0, done.stderr
    before = folder / "before.toml"
    before.write_text(text)
    diff = subprocess.run(["diff", before, config], capture_output=True, text=True, check=False).stdout
    lines = [line for line in diff.splitlines() if line[:1] in "<>"]
    assert lines == [
        '> max_size = "1MiB"', "> ", "> [[connector]]", '> name = "second"', '> hosts = ["gate2.harbouroffice.example"]',
        '> recipients = ["harbouroffice.example", "office.example"]', "> preference = 5",
    ], diff  # fmt: skip
    shown = kite("connector", "list", config=config).stdout.decode()
    assert "second" in shown
    wrong = kite("connector", "set", "second", "tls=perhaps", config=config)
    assert wrong.returncode == 3 and b"'starttls'" in wrong.stderr and "perhaps" not in config.read_text()
    nobody = kite("connector", "show", "secnd", config=config)
    assert nobody.returncode == 2 and b"did you mean 'second'?" in nobody.stderr


async def test_a_broken_edit_while_it_runs_is_refused_and_told(folder: Path, authority: CertificateFiles) -> None:

    def broken(config: Path, text: str, server: subprocess.Popen[bytes]) -> None:
        config.write_text(text.replace("[[connector]]", "[[conector]]"))
        server.send_signal(signal.SIGHUP)
        assert server.stderr is not None
        while b"refused" not in server.stderr.readline():
            pass
        told = kite("status", config=config)
        said = " ".join(told.stdout.decode().split())  # long lines are wrapped
        assert told.returncode == 1 and "beacon" in said
        assert re.search(r"cannot be used as it is now; the server goes on with that of \d\d:\d\d:\d\d", said)
        assert "unknown key; did you mean 'connector'?" in said

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        text = config.read_text()
        with running(config) as server:
            await asyncio.to_thread(broken, config, text, server)
            config.write_text(text)
            done = await asyncio.to_thread(kite, "config", "reload", config=config)
            assert done.returncode == 0 and b"has taken it up" in done.stdout
            assert (await asyncio.to_thread(kite, "status", config=config)).returncode == 0
            sent = await asyncio.to_thread(kite, "pipe", "a@passenger.example", stdin=b"x", config=config)
            assert sent.returncode == 0
            await take(caught)


async def test_the_next_server_agrees_and_relays_too(folder: Path, authority: CertificateFiles) -> None:

    async with smart_host(folder, authority) as (hop, caught):
        quays = []
        for number in (1, 2):
            quay = folder / f"quay{number}"
            quay.mkdir()
            shutil.copy(folder / "ca.pem", quay / "ca.pem")
            quays.append(write_site(quay, hop))
        item, two = quays
        bare = two.read_text().replace("quay1.", "quay2.").partition("[identity]")
        listener = "[[listener]]" + two.read_text().partition("[[listener]]")[2].partition("[[connector]]")[0]
        two.write_text(bare[0] + listener.replace('name = "programs"', 'name = "programs"\nmax_size = "2MiB"'))
        out = await asyncio.to_thread(kite, "config", "export", config=item)
        assert PASSWORD.encode() not in out.stdout and b"kite credential set beacon" in out.stdout
        (folder / "parts.toml").write_bytes(out.stdout)
        tried = await asyncio.to_thread(kite, "config", "import", folder / "parts.toml", "--dry-run", config=two)
        assert b"connector beacon" in tried.stdout and "[[connector]]" not in two.read_text()
        for words in (("config", "import", folder / "parts.toml", "--yes"), ("config", "compare", item, two)):
            done = await asyncio.to_thread(kite, *words, config=two)
            assert done.returncode == 0, done.stdout + done.stderr
        assert done.stdout == b"they agree\n"
        for quay in quays:
            with running(quay):
                await asyncio.to_thread(kite, "pipe", "a@passenger.example", stdin=b"x", config=quay)
                await take(caught)


def test_a_listener_goes_to_another_server_with_other_addresses(folder: Path) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    parts = folder / "parts.toml"
    done = kite(
        "listener",
        "copy",
        "programs",
        "programs",
        "bind=10.0.0.7:25",
        "allow=10.0.0.0/24",
        "--into",
        parts,
        config=config,
    )
    assert done.returncode == 0, done.stderr
    assert parts.read_text().split("\n")[:3] == ["[[listener]]", 'name = "programs"', 'bind = ["10.0.0.7:25"]']
    again = kite("listener", "copy", "programs", "programs", "--into", parts, config=config)
    assert again.returncode == 2 and b"already" in again.stderr
    shown = json.loads(kite("config", "show", "--json", config=config).stdout)
    assert shown["listener"][0]["max_size"] == 35 * 1024**2 and shown["retry"]["lifetime"] == 432000.0
    listed = kite("listener", "list", config=config).stdout.decode()
    assert "35.0 MiB" in listed
    assert json.loads(kite("config", "schema").stdout)["title"] == "kite.toml"


def test_with_nobody_to_look_at_the_usual_is_proposed(folder: Path) -> None:
    words = ("--host", "smarthost.invalid", "--no-login", "--folder", folder, "--unattended")
    made = kite("init", *NAMES, *words, "--sender", "ships@ternferries.example")
    text = (folder / "kite.toml").read_text()
    assert made.returncode == 4 and b"nobody answers from here" in made.stdout
    assert b"something stops connector smarthost" in made.stdout and b"no problems found" not in made.stdout
    assert 'hosts = ["smarthost.invalid:587"]\ntls = "starttls"   # not tried' in text
    assert 'senders = { "*" = "ships@ternferries.example" }' in text
    unseen = kite("init", *NAMES, *words, "--no-look", "--overwrite")
    assert unseen.returncode == 0 and b"no problems found" in unseen.stdout
    missing = kite("init", "--folder", folder / "x", "--unattended", "--name", "quay1.ternferries.example")
    assert missing.returncode == 2 and b"--host: " in missing.stderr and b"--login or --no-login: " in missing.stderr
    missing = kite(
        "init", *NAMES, "--host", "h.example", "--login", "tern", "--folder", folder / "x", "--unattended", "--no-look"
    )
    assert missing.returncode == 2 and b"--password-stdin, " in missing.stderr and not (folder / "x").exists()


def test_credentials_are_set_without_showing(folder: Path) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    done = kite(
        "credential", "set", "harbour", "--login", "ferry", "--password-stdin", stdin=b"s3cret-9\n", config=config
    )
    assert done.returncode == 0 and b"s3cret" not in done.stdout + done.stderr
    secrets = folder / "credentials.toml"
    assert secrets.stat().st_mode & 0o777 == 0o600 and not list(folder.glob("*.last"))
    listed = json.loads(kite("credential", "list", "--json", config=config).stdout)
    assert listed == [
        {"name": "beacon", "login": "tern", "enabled": True, "connectors": ["beacon"]},
        {"name": "harbour", "login": "ferry", "enabled": True, "connectors": []},
    ]
    again = kite("credential", "add", "harbour", "--login", "x", "--password-stdin", stdin=b"y\n", config=config)
    assert again.returncode == 2 and b"already" in again.stderr
    for words in (
        ("copy", "harbour", "spare"),
        ("disable", "spare"),
        ("enable", "spare"),
        ("remove", "spare", "--yes"),
    ):
        assert kite("credential", *words, config=config).returncode == 0
    assert kite("credential", "disable", "beacon", config=config).returncode == 2
    item = kite("credential", "show", "harbour", config=config).stdout
    assert b"ferry" in item and b"s3cret" not in item
    assert kite("credential", "remove", "beacon", "--yes", config=config).returncode == 2
    assert kite("credential", "remove", "harbour", "--yes", config=config).returncode == 0
    assert "harbour" not in secrets.read_text()
    secrets.write_text('[beacon]\nlogin = "tern"\npassword = "s3cret-9\n')
    for words in (
        ("credential", "list"),
        ("credential", "show", "beacon"),
        ("check",),
        ("connector", "list"),
        ("serve",),
    ):
        broken = kite(*words, config=config)
        assert b"s3cret" not in broken.stdout + broken.stderr


def test_an_account_gets_a_password_of_which_only_a_key_is_kept(folder: Path) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525)
    assert kite("account", "add", "ticketing", config=config).returncode == 0
    listed = kite("account", "list", config=config).stdout
    assert b"no: it has no password" in listed
    done = kite("account", "password", "ticketing", "--password-stdin", stdin=b"s3cret-9\n", config=config)
    assert done.returncode == 0, done.stderr
    kept = folder / "accounts.toml"
    assert (
        kept.stat().st_mode & 0o777 == 0o600
        and "SCRAM-SHA-256$" in kept.read_text()
        and "s3cret" not in kept.read_text()
    )
    assert json.loads(kite("account", "list", "--json", config=config).stdout) == [
        {"name": "ticketing", "enabled": True, "can_log_in": True}
    ]
    gone = kite("account", "remove", "ticketing", "--yes", config=config)
    assert gone.returncode == 0 and b"would get 535" in gone.stdout


@pytest.mark.parametrize(
    ("words", "found"),
    [
        ("kite connector show b", "beacon"), ("kite listener set p", "programs"), ("kite credential set b", "beacon"),
        ("kite account show t", "ticketing"), ("kite connector set beacon pref", "preference="),
    ],
)  # fmt: skip
def test_the_shell_completes_names_and_keys(folder: Path, words: str, found: str) -> None:
    (folder / "ca.pem").write_text("")
    config = write_site(folder, 2525, extra='[[account]]\nname = "ticketing"\n')
    more = {"_KITE_COMPLETE": "bash_complete", "COMP_WORDS": words, "COMP_CWORD": str(words.count(" "))}
    command = [sys.executable, "-c", "from copper_kite.cli import run_command_line; run_command_line()"]
    done = subprocess.run(
        command, env=environment(KITE_CONFIG=str(config)) | more, capture_output=True, text=True, check=False
    )
    assert f"plain,{found}" in done.stdout.splitlines(), done


def test_where_mail_goes_and_why(folder: Path) -> None:
    (folder / "ca.pem").write_text("")
    more = '[[connector]]\nname = "harbour"\nhosts = ["127.0.0.1:9"]\nrecipients = ["*.harbouroffice.example"]\n'
    config = write_site(folder, 2525, extra=more)
    result = json.loads(kite("route", "--json", "Root@localhost", "ana@a.harbouroffice.example", config=config).stdout)
    assert [(item["recipient"], item["connector"]) for item in result] == [
        ("duty@crew.example", "beacon"), ("ana@a.harbouroffice.example", "harbour")
    ]  # fmt: skip
    assert result[1]["reasons"][0] == {"connector": "beacon", "reason": "* fits less closely"}
    kite("connector", "set", "beacon", "recipients=crew.example", config=config)
    none = kite("route", stdin=b"x@elsewhere.example\n", config=config)
    assert none.returncode == 1 and b" connector set beacon recipients+=elsewhere.example" in none.stdout


async def test_the_connector_is_tested_alone(folder: Path, authority: CertificateFiles) -> None:

    async with smart_host(folder, authority) as (hop, caught):
        config = write_site(folder, hop)
        done = await asyncio.to_thread(kite, "connector", "test", "beacon", "--to", "a@b.example", config=config)
        assert done.returncode == 0 and b"has taken the message for a@b.example" in done.stdout
        assert (await take(caught)).recipients == ("a@b.example",)
        secret = f"{PASSWORD}-wrong\n".encode()
        await asyncio.to_thread(kite, "credential", "set", "beacon", "--password-stdin", stdin=secret, config=config)
        told = await asyncio.to_thread(kite, "connector", "test", "beacon", "--dialogue", config=config)
        assert b"C: AUTH SCRAM-SHA-256 ***" in told.stdout and b" credential set beacon\n" in told.stdout
        assert PASSWORD.encode() not in told.stdout
        failed = await asyncio.to_thread(kite, "connector", "test", "beacon", "--json", config=config)
        result = json.loads(failed.stdout)
        assert failed.returncode == 4 and result["verdict"]["side"] == "here"
        assert all(way["stages"][-1]["stage"] == "login" and not way["passed"] for way in result["ways"])
