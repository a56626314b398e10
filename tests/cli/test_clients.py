"""The clients that languages and systems bring along, each with each kind of TLS and login that it has."""

from __future__ import annotations

import asyncio
import base64
import shutil
import smtplib
import ssl
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught
from copper_kite.smtp.sasl import ScramKey, Secret
from tests.cli.test_commands import smart_host, take
from tests.support import free_port, running, write_site

WORDS = "low-tide-at-six"
LETTER = "Subject: {}\r\n\r\n.dot\r\n"


class Ports:
    """A server with a listener for each way of TLS, each demanding a login."""

    def __init__(self, folder: Path, hop: int, files: CertificateFiles) -> None:
        self.starttls, self.implicit, self.clear = free_port(), free_port(), free_port()
        self.authority = str(files.authority)
        self.config = write_site(folder, hop)
        pair = f'certificate = "{files.certificate}"\nkey = "{files.key}"\nallow = []\nlogin = "required"\n'
        text = self.config.read_text() + '[[account]]\nname = "ticketing"\n'
        for name in ("starttls", "implicit"):
            bind = f'bind = ["127.0.0.1:{getattr(self, name)}"]'
            text += f'[[listener]]\nname = "{name}"\n{bind}\ntls = "{name}"\n{pair}'
        text += f'[[listener]]\nname = "clear"\nbind = ["127.0.0.1:{self.clear}"]\nallow = []\nlogin = "required"\n'
        self.config.write_text(text)
        keys = folder / "accounts.toml"
        keys.touch(mode=0o600)
        keys.write_text(f'[ticketing]\nkey = "{ScramKey.make(Secret(WORDS), b"salt" * 4)}"\n')


def each(folder: Path, authority: CertificateFiles, clients: list[Callable[[Ports, str], None]]) -> list[Caught]:
    """Each client submits a message whose subject is its number; what arrived, in that order."""

    async def live() -> list[Caught]:
        async with smart_host(folder, authority) as (hop, caught):
            ports = Ports(folder, hop, authority)
            with running(ports.config):
                for number, client in enumerate(clients):
                    await asyncio.to_thread(client, ports, f"number {number}")
                return [await take(caught) for _ in clients]

    result = {
        item.file.read_bytes().partition(b"Subject: ")[2].split(b"\r\n")[0]: item
        for item in asyncio.run(live())
        if item.file
    }
    return [result[f"number {number}".encode()] for number in range(len(clients))]


def protocol_of(caught: Caught) -> bytes:
    assert caught.file is not None
    content = caught.file.read_bytes()
    assert content.endswith(b"\r\n\r\n.dot\r\n") and WORDS.encode() not in content
    return content.partition(b" with ")[2].split()[0]


def test_python(folder: Path, authority: CertificateFiles) -> None:
    """A-03, A-11: PLAIN and LOGIN, with and without an initial response, in each way of TLS; and on loopback in clear."""

    def client(tls: str, mechanism: str, initial: bool) -> Callable[[Ports, str], None]:
        def hand_in(ports: Ports, subject: str) -> None:
            context = ssl.create_default_context(cafile=ports.authority)
            port = getattr(ports, tls)
            made = (
                smtplib.SMTP_SSL("localhost", port, context=context)
                if tls == "implicit"
                else smtplib.SMTP("localhost", port)
            )
            with made as smtp:
                if tls == "starttls":
                    smtp.starttls(context=context)
                smtp.ehlo()
                smtp.user, smtp.password = "ticketing", WORDS
                method = {"PLAIN": smtp.auth_plain, "LOGIN": smtp.auth_login}[mechanism]
                assert smtp.auth(mechanism, method, initial_response_ok=initial)[0] == 235
                smtp.sendmail("t@ternferries.example", ["a@passenger.example"], LETTER.format(subject))

        return hand_in

    ways = [(tls, mechanism, initial) for tls in ("starttls", "implicit", "clear") for mechanism in ("PLAIN", "LOGIN")
            for initial in (True, False)]  # fmt: skip
    caught = each(folder, authority, [client(*way) for way in ways])
    words = {"starttls": b"ESMTPSA", "implicit": b"ESMTPSA", "clear": b"ESMTPA"}
    assert [protocol_of(message) for message in caught] == [words[tls] for tls, _, _ in ways]


@pytest.mark.skipif(shutil.which("curl") is None, reason="no curl here")
def test_curl(folder: Path, authority: CertificateFiles) -> None:
    """T-01: PLAIN, LOGIN and SCRAM-SHA-256 where it has that, with STARTTLS and with TLS at once."""
    features = subprocess.run(["curl", "--version"], capture_output=True, text=True, check=True).stdout
    mechanisms = ["PLAIN", "LOGIN", *(["SCRAM-SHA-256"] if "gsasl" in features else [])]

    def client(tls: str, mechanism: str) -> Callable[[Ports, str], None]:
        def hand_in(ports: Ports, subject: str) -> None:
            url = {"starttls": f"smtp://localhost:{ports.starttls}", "implicit": f"smtps://localhost:{ports.implicit}"}[
                tls
            ]
            command = [
                "curl", "-sS", url, "--ssl-reqd", "--cacert", ports.authority, "--user", f"ticketing:{WORDS}",
                "--login-options", f"AUTH={mechanism}", "--mail-from", "t@ternferries.example",
                "--mail-rcpt", "a@passenger.example", "-T", "-",
            ]  # fmt: skip
            subprocess.run(command, input=LETTER.format(subject).encode(), check=True, timeout=60)

        return hand_in

    caught = each(folder, authority, [client(tls, item) for tls in ("starttls", "implicit") for item in mechanisms])
    assert {protocol_of(message) for message in caught} == {b"ESMTPSA"}


@pytest.mark.skipif(shutil.which("openssl") is None, reason="no openssl here")
def test_openssl(folder: Path, authority: CertificateFiles) -> None:
    """T-01, T-02: whose certificate is believed, in both ways of TLS."""
    login = base64.b64encode(f"\0ticketing\0{WORDS}".encode()).decode()

    def client(tls: str) -> Callable[[Ports, str], None]:
        def hand_in(ports: Ports, subject: str) -> None:
            way = ["-starttls", "smtp"] if tls == "starttls" else []
            command = [
                "openssl", "s_client", "-quiet", "-crlf", "-verify_return_error", "-CAfile", ports.authority,
                "-verify_hostname", "localhost", *way, "-connect", f"127.0.0.1:{getattr(ports, tls)}",
            ]  # fmt: skip
            said = (
                f"EHLO t\nAUTH PLAIN {login}\nMAIL FROM:<t@ternferries.example>\nRCPT TO:<a@passenger.example>\nDATA\n"
            )
            letter = f"Subject: {subject}\n\n..dot\n.\n"
            done = subprocess.run(
                command, input=(said + letter).encode() + b"QUIT\n", capture_output=True, timeout=60, check=False
            )
            assert b"250 2.0.0 kept as " in done.stdout, done.stdout + done.stderr

        return hand_in

    caught = each(folder, authority, [client("starttls"), client("implicit")])
    assert {protocol_of(message) for message in caught} == {b"ESMTPSA"}


@pytest.mark.skipif(shutil.which("perl") is None, reason="no perl here")
def test_perl(folder: Path, authority: CertificateFiles) -> None:
    """Net::SMTP: with a login where its modules for that are here, and with TLS where those are."""
    have = [
        not subprocess.run(["perl", f"-M{module}", "-e", "1"], capture_output=True, check=False).returncode
        for module in ("Authen::SASL", "IO::Socket::SSL")
    ]
    if not have[0]:
        pytest.skip("perl has no Authen::SASL here, without which Net::SMTP cannot log in")

    def client(tls: str) -> Callable[[Ports, str], None]:
        script = """
            use Net::SMTP;
            my ($port, $tls, $ca, $words, $letter) = @ARGV;
            my @ssl = (SSL_ca_file => $ca, SSL_verifycn_name => 'localhost');
            my $smtp = Net::SMTP->new('localhost', Port => $port, Timeout => 20, $tls eq 'implicit' ? (SSL => 1, @ssl) : ())
                or die "no session: $@";
            $smtp->starttls(@ssl) or die $smtp->message if $tls eq 'starttls';
            $smtp->auth('ticketing', $words) or die $smtp->message;
            $smtp->mail('t@ternferries.example') and $smtp->to('a@passenger.example') or die $smtp->message;
            $smtp->data($letter) or die $smtp->message;
            $smtp->quit;
        """

        def hand_in(ports: Ports, subject: str) -> None:
            words = [str(getattr(ports, tls)), tls, ports.authority, WORDS, f"Subject: {subject}\n\n.dot\n"]
            subprocess.run(["perl", "-e", script, *words], check=True, timeout=60)

        return hand_in

    ways = ["clear", *(["starttls", "implicit"] if have[1] else [])]
    caught = each(folder, authority, [client(tls) for tls in ways])
    assert [protocol_of(message) for message in caught] == [b"ESMTPA" if tls == "clear" else b"ESMTPSA" for tls in ways]
