"""Programs that log in: with each way of TLS, and never in clear where others could listen. Rows A-01, A-06, A-14."""

from __future__ import annotations

import asyncio
import os
import smtplib
import socket
import ssl
from pathlib import Path

import pytest

from copper_kite.errors import SettingsError
from copper_kite.net.authority import CertificateFiles
from copper_kite.settings.load import load_configuration
from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl import ScramKey, Secret
from tests.support import SECONDS, Site, free_port, site

WORDS = "tide-and-time-3"


def test_keys_are_those_of_the_standard() -> None:
    """A-12's figures (RFC 7677 3), as keys are kept: the server signature and proof follow from these two."""
    import base64
    import hashlib
    import hmac

    key = ScramKey.make(Secret("pencil"), base64.b64decode("W22ZaJ0SNY7soEsUEjb6gQ=="), 4096)
    message = (
        b"n=user,r=rOprNGfwEbeRWgbNEkqO,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,"
        b"s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096,c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0"
    )
    signature = base64.b64encode(hmac.digest(key.server_key, message, "sha256"))
    assert signature == b"6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4="
    proof = base64.b64decode("dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=")
    client_key = bytes(a ^ b for a, b in zip(proof, hmac.digest(key.stored_key, message, "sha256"), strict=True))
    assert hashlib.sha256(client_key).digest() == key.stored_key
    assert ScramKey.parse(str(key)) == key and key.fits(Secret("pencil")) and not key.fits(Secret("pencil "))
    for wrong in ("", "SCRAM-SHA-256$1:AAAA$AAAA:AAAA", str(key).replace("4096", "100"), str(key)[:-4]):
        with pytest.raises(Syntax):
            ScramKey.parse(wrong)


def with_accounts(folder: Path, authority: CertificateFiles, port: int, **keys: str) -> str:
    """A second listener with TLS and logins, and an account."""
    accounts = folder / "accounts.toml"
    accounts.touch(mode=0o600)
    accounts.write_text(f'[ticketing]\nkey = "{ScramKey.make(Secret(WORDS), b"s" * 16, 4096)}"\n')
    lines = {"certificate": authority.certificate, "key": authority.key, "login": "required", "tls": "starttls", **keys}
    text = "".join(f'{key} = "{value}"\n' for key, value in lines.items())
    return (
        f'[[listener]]\nname = "others"\nbind = ["127.0.0.1:{port}"]\nallow = []\n{text}'
        '[[account]]\nname = "ticketing"\n[[account]]\nname = "gone"\nenabled = false\n'
    )


@pytest.mark.parametrize("tls", ["starttls", "implicit"])
async def test_a_login_under_tls_may_relay(folder: Path, authority: CertificateFiles, tls: str) -> None:
    """A-01, A-06, T-01, S-33."""

    def client(port: int) -> None:
        context = ssl.create_default_context(cafile=authority.authority)

        def connected() -> smtplib.SMTP:
            if tls == "implicit":
                return smtplib.SMTP_SSL("localhost", port, context=context)
            smtp = smtplib.SMTP("localhost", port)
            smtp.ehlo()
            assert not smtp.has_extn("auth")
            assert smtp.docmd("AUTH", "PLAIN AGEAYg==")[0] == 538
            smtp.starttls(context=context)
            return smtp

        for login, words in (("ticketing", "wrong"), ("nobody", WORDS), ("gone", WORDS)):
            with connected() as smtp, pytest.raises(smtplib.SMTPAuthenticationError) as error:
                smtp.login(login, words)
            assert error.value.args == (535, b"5.7.8 login or password is wrong")
        with connected() as smtp:
            smtp.ehlo()
            assert smtp.docmd("MAIL", "FROM:<a@b.example>")[0] == 530
            smtp.login("ticketing", WORDS)
            smtp.sendmail("a@ternferries.example", ["c@passenger.example"], b"Subject: s\r\n\r\nx\r\n")

    port = free_port()
    async with site(folder, authority, extra=with_accounts(folder, authority, port, tls=tls)) as here:
        await asyncio.to_thread(client, port)
        (caught,) = await here.until_caught(1)
        assert caught.file is not None
        head = caught.file.read_bytes()
        assert b"with ESMTPSA" in head and b"user ticketing" in head and WORDS.encode() not in head


async def test_another_certificate_is_shown_after_a_reload(
    folder: Path, authority: CertificateFiles, stranger: CertificateFiles
) -> None:
    def shown(port: int, files: CertificateFiles) -> bool:
        try:
            context = ssl.create_default_context(cafile=files.authority)
            smtplib.SMTP_SSL("localhost", port, context=context).quit()
        except ssl.SSLCertVerificationError:
            return False
        return True

    def offers_starttls(port: int) -> bool:
        with smtplib.SMTP("localhost", port, timeout=SECONDS) as smtp:
            smtp.ehlo()
            return smtp.has_extn("starttls")

    async def take_up(here: Site, old: object, new: object) -> None:
        text = here.loaded.path.read_text()
        here.loaded.path.write_text(text.replace(str(old), str(new)))
        await here.service.reload(load_configuration(here.loaded.path))

    port = free_port()
    async with site(folder, authority, extra=with_accounts(folder, authority, port, tls="implicit")) as here:
        assert await asyncio.to_thread(shown, port, authority)
        await take_up(here, authority.certificate.parent, stranger.certificate.parent)
        assert await asyncio.to_thread(shown, port, stranger)
        assert not await asyncio.to_thread(shown, port, authority)
        await take_up(here, 'tls = "implicit"', 'tls = "starttls"')
        assert await asyncio.to_thread(offers_starttls, port)


async def test_a_renewed_certificate_is_shown_without_a_word(
    folder: Path, authority: CertificateFiles, stranger: CertificateFiles
) -> None:
    """The files are looked at now and then; half a renewal, or rubbish, changes nothing."""
    pair = [folder / "here.pem", folder / "here.key"]

    def put(files: CertificateFiles, at: float) -> None:
        for path, source in zip(pair, (files.certificate, files.key), strict=True):
            path.write_bytes(source.read_bytes())
            os.utime(path, (at, at))

    def shown(port: int) -> bytes:
        context = ssl.create_default_context(cafile=authority.authority)
        context.load_verify_locations(stranger.authority)
        plain = socket.create_connection(("127.0.0.1", port), SECONDS)
        with context.wrap_socket(plain, server_hostname="localhost") as secure:
            return secure.getpeercert(binary_form=True) or b""

    def der(files: CertificateFiles) -> bytes:
        return ssl.PEM_cert_to_DER_cert(
            files.certificate.read_text().partition("-----END CERTIFICATE-----")[0] + "-----END CERTIFICATE-----"
        )

    port = free_port()
    put(authority, 1000.0)
    extra = with_accounts(folder, authority, port, tls="implicit")
    for path, source in zip(pair, (authority.certificate, authority.key), strict=True):
        extra = extra.replace(str(source), str(path))
    async with site(folder, authority, extra=extra) as here:
        assert await asyncio.to_thread(shown, port) == der(authority)
        pair[0].write_bytes(stranger.certificate.read_bytes())
        here.service.listeners.look_at_certificates()
        assert await asyncio.to_thread(shown, port) == der(authority)
        put(stranger, 2000.0)
        here.service.listeners.look_at_certificates()
        assert await asyncio.to_thread(shown, port) == der(stranger)
        pair[0].unlink()
        here.service.listeners.look_at_certificates()
        assert await asyncio.to_thread(shown, port) == der(stranger)


@pytest.mark.parametrize(
    ("keys", "words"),
    [
        ({"tls": "off", "bind": "0.0.0.0:2599"}, "in clear from other machines"),
        ({"certificate": "none.pem"}, "cannot be used"),
        ({"key": "{stranger}"}, "do not belong together"),
    ],
)
def test_listeners_that_cannot_be_safe_are_refused(
    folder: Path, authority: CertificateFiles, stranger: CertificateFiles, keys: dict[str, str], words: str
) -> None:
    given = {key: value.format(stranger=stranger.key) for key, value in keys.items() if key != "bind"}
    text = '[server]\nname = "q.example.org"\n' + with_accounts(folder, authority, 2599, **given)
    text = text.replace("127.0.0.1:2599", keys.get("bind", "127.0.0.1:2599"))
    (folder / "kite.toml").write_text(text)
    with pytest.raises(SettingsError) as error:
        load_configuration(folder / "kite.toml")
    assert words in str(error.value)
