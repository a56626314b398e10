"""All next hops of a connector are tested, at each address, up to where mail is refused; and one summary is told."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.causes import secrets, stand_in
from tests.cli.test_setup import NAMES, Terminal
from tests.support import free_port, kite, write_site

NO_LOGIN = """\
name = "localhost"
[[rule]]
stage = "sender"
answer = "530 5.7.0 log in first"
"""
PLAIN = 'name = "localhost"\n'


def site_with(folder: Path, *hosts: str) -> Path:
    """A configuration whose connector goes to these hosts, which a zone knows."""
    (folder / "zone").write_text(
        "one.example 60 IN A 127.0.0.1\none.example 60 IN AAAA ::1\ntwo.example 60 IN A 127.0.0.1\n"
        "mxdom.example 60 IN MX 10 one.example.\nmxdom.example 60 IN MX 20 nowhere.example.\n"
        "broken.example 60 IN MX 10 nowhere.example.\n"
    )
    config = write_site(folder, 1, tls="off")
    names = ", ".join(f'"{host}"' for host in hosts)
    text = config.read_text().replace('hosts = ["localhost:1"]', f"hosts = [{names}]")
    config.write_text(text.replace("[server]\n", '[server]\ndns = "zone:zone"\n'))
    return config


def test_each_host_and_address_is_tested(folder: Path) -> None:
    """One table, of hosts that answer and hosts that do not; a whole host that is down is what the verdict is on."""
    port, closed = free_port(), free_port()
    config = site_with(folder, f"two.example:{closed}", f"one.example:{port}")
    with stand_in(folder, port, PLAIN, "off"):
        done = kite("connector", "test", "beacon", "--json", config=config)
        result = json.loads(done.stdout)
        assert done.returncode == 4 and not result["passed"]
        ways = {
            (way["next_hop"], way["address"] or way["stages"][-1]["stage"]): way["passed"] for way in result["ways"]
        }
        assert ways[f"one.example:{port}", "127.0.0.1"] is True and len(result["ways"]) == 3
        assert (
            result["verdict"]["side"] == "path" and f"Mail goes by one.example:{port}." in result["verdict"]["meaning"]
        )
        shown = kite("connector", "test", "beacon", config=config).stdout.decode()
        assert shown.count("two.example") >= 2 and "::1" in shown and "connection refused" in shown
        checked = kite("check", "--live", config=config)
        text = checked.stdout.decode()
        assert checked.returncode == 4 and "connector beacon to" in text
        assert text.rstrip().endswith("something stops connector beacon") and "no problems found" not in text
        only = site_with(folder, f"one.example:{port}")
        good = kite("connector", "test", "beacon", config=only)
        assert good.returncode == 0 and b"Some addresses give no session" in b" ".join(good.stdout.split())
        fine = kite("check", "--live", config=only).stdout.decode()
        assert fine.rstrip().endswith("no problems found") or " remark" in fine.splitlines()[-1]


def test_a_login_that_is_missing_shows_at_mail(folder: Path) -> None:
    """Not every smart host says so earlier: the walk goes on to a sender, and to a recipient with --to."""
    port = free_port()
    config = site_with(folder, f"two.example:{port}")
    with stand_in(folder, port, NO_LOGIN, "off"):
        for words in (("connector", "test", "beacon"), ("check", "--live")):
            done = kite(*words, config=config)
            assert done.returncode == 4 and b"takes no mail without a login" in done.stdout, words
            assert b"mail can be handed to it" not in done.stdout


def test_a_connector_that_uses_mx_is_tested_by_a_recipient(folder: Path) -> None:
    """Every exchanger of the domain; and no command is recommended that such a connector refuses."""
    port = free_port()
    config = site_with(folder, "two.example:1")
    text = config.read_text().replace('hosts = ["two.example:1"]', f"mx = true\nport = {port}")
    config.write_text(text.replace("credential", "# credential"))
    with stand_in(folder, port, PLAIN, "off"):
        done = kite("connector", "test", "beacon", "--to", "ana@mxdom.example", "--json", config=config)
        result = json.loads(done.stdout)
        hosts = {way["next_hop"]: way["passed"] or way["cause"] for way in result["ways"] if way["address"] != "::1"}
        assert hosts[f"nowhere.example:{port}"] == "name not found" and done.returncode == 4
        assert hosts[f"one.example:{port}"] is True and result["verdict"]["side"] == "beyond"
        assert "probe --connector" not in done.stdout.decode()
        broken = kite("connector", "test", "beacon", "--to", "ana@broken.example", config=config)
        assert broken.returncode == 4 and b"side      beyond" in broken.stdout
        null = kite("connector", "test", "beacon", config=config)
        assert null.returncode == 2 and b"name a recipient, by --to" in null.stderr
        refused = kite("probe", "--connector", "beacon", config=config)
        assert refused.returncode == 2 and b"connector test beacon --to" in refused.stderr


def test_probe_goes_by_the_dns_of_the_configuration(folder: Path) -> None:
    config = site_with(folder, "two.example:1")
    done = kite("probe", f"two.example:{free_port()}", "--tls", "off", config=config)
    assert done.returncode == 4 and b"connection refused" in done.stdout


@pytest.mark.parametrize("answer", ["pin", "file"])
def test_a_certificate_that_is_not_trusted_is_shown_and_can_be_pinned(folder: Path, answer: str) -> None:
    """With its fingerprint, which is written only when it was confirmed; or the file of its authority."""
    port = free_port()
    secrets(folder / "logins.toml", tern="quay-7")
    with stand_in(folder, port, 'name = "localhost"\n'):
        words = (
            "--folder",
            str(folder / "k"),
            *NAMES,
            "--domain",
            "ternferries.example",
            "--bind",
            f"127.0.0.1:{free_port()}",
            "--data",
            "queue",
        )
        terminal = Terminal("init", *words, "--host", f"localhost:{port}", "--login", "tern")
        if answer == "pin":
            terminal.answer("Whom to trust", "pin")
            terminal.answer("confirmed sha256:", "y")
        else:
            terminal.answer("Whom to trust", str(folder / "nowhere.pem"))
            terminal.answer("no file", str(folder / "caught" / "tls" / "ca.pem"))
        terminal.answer("Password of tern", "quay-7")
        terminal.answer("Address of programs that have none", "")
        terminal.answer("Write it?", "y")
        assert terminal.status() == 0, terminal.screen
        text = (folder / "k" / "kite.toml").read_text()
        assert ('trust = "sha256:' in text) is (answer == "pin")
        (folder / "k" / "credentials.toml").unlink()
        wrong = kite(
            "init", *words, "--host", f"localhost:{port}", "--login", "tern", "--trust", str(folder / "caught/tls/ca.pem"),
            "--password-stdin", "--unattended", "--overwrite", stdin=b"wrong\n",
        )  # fmt: skip
        assert wrong.returncode == 4 and b"refuses the login tern" in wrong.stdout
        untrusted = kite(
            "init",
            *words,
            "--host",
            f"localhost:{port}",
            "--no-login",
            "--trust",
            "system",
            "--unattended",
            "--overwrite",
        )
        assert untrusted.returncode == 4 and b"sha256:" in untrusted.stdout
