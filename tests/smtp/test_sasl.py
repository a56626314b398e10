"""Logins, both sides, without I/O: the standards' own figures, each mechanism against ours, and what must not pass."""

from __future__ import annotations

import base64

import pytest

from copper_kite.errors import ProtocolViolation
from copper_kite.smtp.grammar import Syntax
from copper_kite.smtp.sasl import (
    MECHANISMS,
    Binding,
    Challenge,
    LoginCredentials,
    Mechanism,
    NoDirectory,
    Outcome,
    PlainLogin,
    ProvenLogin,
    ScramKey,
    Secret,
    choose_mechanism,
    decode_base64,
    made_up_key,
    prepare,
)

SALT = b"sixteen octets!!"


class Directory(NoDirectory):
    """Knows one account, and its token."""

    def __init__(self, bound: Binding | None = None) -> None:
        self._bound = bound

    def nonce(self) -> str:
        return "%server"

    def scram_key(self, login: str, digest: str) -> tuple[ScramKey, bool]:
        if login != "te,rn=x":
            return made_up_key(login, b"secret"), False
        return ScramKey.make(Secret("pencil"), SALT, 4096, digest), True

    def password(self, login: str) -> Secret | None:
        return Secret("pencil") if login == "te,rn=x" else None

    def token_holds(self, login: str, token: Secret) -> bool:
        return (login, token) == ("te,rn=x", Secret("tok"))

    def binding(self, kind: str) -> Binding | None:
        return self._bound if self._bound is not None and kind in ("", self._bound.kind) else None


BOUND = Binding("tls-server-end-point", b"digest of the certificate")


def means(**more: object) -> LoginCredentials:
    known = {
        "login": "te,rn=x",
        "password": Secret("pencil"),
        "token": Secret("tok"),
        "nonce": "client",
        "binding": BOUND,
    }
    return LoginCredentials(**{**known, **more})  # type: ignore[arg-type]


def made(name: str, given: LoginCredentials, plus_offered: bool = True) -> Mechanism:
    result = MECHANISMS[name].client(given, plus_offered)
    assert result is not None
    return result


def converse(name: str, given: LoginCredentials, directory: Directory | None = None) -> tuple[Mechanism, Outcome]:
    """Client against server until the server has decided."""
    client, server = made(name, given), MECHANISMS[name].server(directory or Directory(BOUND))
    message = client.first()
    outcome = server.step(message) if message is not None else Challenge(server.opening)
    for _ in range(5):
        if not isinstance(outcome, Challenge):
            return client, outcome
        outcome = server.step(client.next(outcome.data))
    raise AssertionError("no end")


def accepted(outcome: Outcome) -> bool:
    if isinstance(outcome, PlainLogin):
        return (outcome.login, outcome.password) == ("te,rn=x", Secret("pencil"))
    return isinstance(outcome, ProvenLogin) and outcome.holds


@pytest.mark.parametrize("name", MECHANISMS)
def test_each_mechanism_lets_in_who_knows_the_secret_and_nobody_else(name: str) -> None:
    client, outcome = converse(name, means())
    assert accepted(outcome) and client.proven
    wrong = {"token": Secret("other")} if "AUTH" in name else {"password": Secret("pen")}
    assert not accepted(converse(name, means(**wrong))[1])
    assert not accepted(converse(name, means(login="nobody"))[1])


@pytest.mark.parametrize(
    ("name", "nonce", "challenge", "proof", "signature"),
    [
        (  # A-12, RFC 7677 3
            "SCRAM-SHA-256", "rOprNGfwEbeRWgbNEkqO",
            "r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096",
            "p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ=", "v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4=",
        ),
        (  # RFC 5802 5
            "SCRAM-SHA-1", "fyko+d2lbbFgONRv9qkxdawL",
            "r=fyko+d2lbbFgONRv9qkxdawL3rfcNHYJY1ZVvWVs7j,s=QSXCR+Q6sek8bf92,i=4096",
            "p=v0X8v3Bz2T0CJGbJQyF0X+HI4Ts=", "v=rmF9pqV8S7suAoZWja4dJRkFsKQ=",
        ),
    ],
)  # fmt: skip
def test_scram_has_the_figures_of_the_standard(
    name: str, nonce: str, challenge: str, proof: str, signature: str
) -> None:
    client = made(name, LoginCredentials("user", Secret("pencil"), nonce=nonce))
    assert client.first() == f"n,,n=user,r={nonce}".encode()
    assert client.next(challenge.encode()).endswith(f",{proof}".encode())
    assert not client.proven, "A-13: a 235 now would not be believed"
    assert client.next(signature.encode()) == b"" and client.proven


def test_cram_md5_is_keyed_with_the_password() -> None:
    """RFC 2195 2; the digest was computed with `openssl dgst -md5 -mac HMAC`."""
    client = made("CRAM-MD5", LoginCredentials("tern", Secret("the-quay-is-wet-77")))
    answer = client.next(b"<1896.697170952@quay1.ternferries.example>")
    assert answer == b"tern 633f4d4bc36ae69a275c34c15afe807c"


@pytest.mark.parametrize(
    "challenge",
    [
        "r=other,s=QSXCR+Q6sek8bf92,i=4096", "r=client,s=QSXCR+Q6sek8bf92,i=4096", "r=clientX,s=QSXCR+Q6sek8bf92,i=100",
        "r=clientX,s=!!,i=4096", "r=clientX,s=QSXCR+Q6sek8bf92,i=99999999", "m=x,r=clientX,s=QSXCR+Q6sek8bf92,i=4096", "x",
    ],
)  # fmt: skip
def test_a_client_gives_a_wrong_server_nothing(challenge: str) -> None:
    """A-14: a nonce that is not ours, too few iterations (or so many that it is an attack), an unknown extension."""
    client = made("SCRAM-SHA-256", means(binding=None))
    with pytest.raises(ProtocolViolation):
        client.next(challenge.encode())


def test_a_server_that_does_not_know_the_password_is_found_out() -> None:
    """A-13: its signature is wrong."""
    client = made("SCRAM-SHA-256", means(binding=None))
    client.next(b"r=clientX,s=QSXCR+Q6sek8bf92,i=4096")
    with pytest.raises(ProtocolViolation):
        client.next(b"v=" + base64.b64encode(bytes(32)))
    assert not client.proven


def test_a_downgrade_is_found_out() -> None:
    """A-15: the client could bind and was offered no PLUS, the server has it: somebody took it out on the way."""
    client = made("SCRAM-SHA-256", means(), plus_offered=False)
    assert (client.first() or b"").startswith(b"y,,")
    server = MECHANISMS["SCRAM-SHA-256"].server(Directory(BOUND))
    assert server.step(client.first() or b"") == Challenge(b"e=server-does-support-channel-binding")
    assert server.step(client.next(b"e=server-does-support-channel-binding")) == ProvenLogin("te,rn=x", False)
    assert not client.binds_in_vain, "that is no reason to try without"
    assert isinstance(MECHANISMS["SCRAM-SHA-256"].server(Directory()).step(client.first() or b""), Challenge)


def test_a_login_is_bound_to_its_own_tls() -> None:
    """A-15: with another connection's value it does not hold; a kind that the server lacks is refused."""
    elsewhere = means(binding=Binding(BOUND.kind, b"another certificate"))
    assert not accepted(converse("SCRAM-SHA-256-PLUS", elsewhere)[1])
    client, outcome = converse("SCRAM-SHA-256-PLUS", means(binding=Binding("tls-exporter", b"x")))
    assert not accepted(outcome) and client.binds_in_vain, "then the login may go without a binding"
    offered = ["SCRAM-SHA-256-PLUS", "SCRAM-SHA-256", "PLAIN"]
    unbound = choose_mechanism(offered, (), means(binding=Binding("tls-exporter", b"x")), unbound=True)
    assert unbound is not None and unbound[0] == "SCRAM-SHA-256" and (unbound[1].first() or b"").startswith(b"n,,")


@pytest.mark.parametrize(
    ("text", "prepared"),
    [
        ("I\xadX", "IX"), ("user", "user"), ("USER", "USER"), ("\xaa", "a"), ("\u2168", "IX"),  # RFC 4013 3
        ("\u0007", "\u0007"), ("\u0627\u0031", "\u0627\u0031"),  # prohibited, or both ways: as they are
        ("a\xa0b", "a b"), ("e\u0301", "\xe9"), ("\ufb01", "fi"),
    ],
)  # fmt: skip
def test_passwords_are_prepared_on_both_sides(text: str, prepared: str) -> None:
    """RFC 4013: the same characters typed elsewhere are the same octets."""
    assert prepare(text) == prepared
    key = ScramKey.make(Secret(text), SALT, 4096)
    assert key == ScramKey.make(Secret(prepared), SALT, 4096) and key.fits(Secret(text))


@pytest.mark.parametrize("text", [b"YWJj=", b"YWJj====", b"YQ===", b"YQ=", b"Y Q==", b"=", b"YQ==YQ==", b"YWJ\r\nj"])
def test_base64_is_strict(text: bytes) -> None:
    """A-04: nothing is skipped or guessed, and there is no padding too much."""
    with pytest.raises(Syntax):
        decode_base64(text)
    assert decode_base64(b"YWJj") == b"abc" and decode_base64(b"YQ==") == b"a" and decode_base64(b"") == b""


@pytest.mark.parametrize(
    ("name", "message"),
    [
        ("SCRAM-SHA-256", b"n,,n=x"), ("SCRAM-SHA-256", b"n,,m=ext,n=x,r=y"), ("SCRAM-SHA-256", b"p=tls-unique,,n=x,r=y"),
        ("SCRAM-SHA-256-PLUS", b"n,,n=x,r=y"), ("SCRAM-SHA-256", b"\xff"), ("CRAM-MD5", b"x"), ("PLAIN", b"x"),
        ("OAUTHBEARER", b"n,,"), ("XOAUTH2", b"user=x"),
    ],
)  # fmt: skip
def test_what_is_no_message_of_the_mechanism(name: str, message: bytes) -> None:
    """A-10, A-14."""
    with pytest.raises(Syntax):
        MECHANISMS[name].server(Directory()).step(message)


@pytest.mark.parametrize("change", [(b"r=client%server", b"r=client%other"), (b"c=biws", b"c=eSws")])
def test_a_final_message_that_was_changed(change: tuple[bytes, bytes]) -> None:
    """A-14: nonce, or binding header, other than at the beginning."""
    client, server = made("SCRAM-SHA-256", means(binding=None)), MECHANISMS["SCRAM-SHA-256"].server(Directory())
    challenge = server.step(client.first() or b"")
    assert isinstance(challenge, Challenge)
    final = client.next(challenge.data)
    assert change[0] in final and server.step(final.replace(*change)) == ProvenLogin("te,rn=x", False)


def test_nobody_learns_which_accounts_there_are() -> None:
    """A-14: an unknown name gets a challenge, always with the same salt."""
    first = [MECHANISMS["SCRAM-SHA-256"].server(Directory()).step(b"n,,n=nobody,r=abc") for _ in range(2)]
    other = MECHANISMS["SCRAM-SHA-256"].server(Directory()).step(b"n,,n=someone,r=abc")
    assert first[0] == first[1] != other and isinstance(first[0], Challenge)


def test_a_bad_token_is_told_why_before_it_is_refused() -> None:
    """A-16."""
    server = MECHANISMS["OAUTHBEARER"].server(Directory())
    client = made("OAUTHBEARER", means(token=Secret("old"), host="h.example", port=587))
    challenge = server.step(client.first() or b"")
    assert challenge == Challenge(b'{"status":"invalid_token"}')
    assert client.next(b"{}") == b"\x01" and server.step(b"\x01") == ProvenLogin("te,rn=x", False)


def test_the_strongest_allowed_is_taken() -> None:
    offered = ["PLAIN", "LOGIN", "SCRAM-SHA-1", "SCRAM-SHA-256", "OAUTHBEARER", "NTLM"]

    def taken(offered: list[str], allowed: tuple[str, ...] = (), **more: object) -> str | None:
        result = choose_mechanism(offered, allowed, means(**more))
        return result[0] if result else None

    assert taken(offered) == "SCRAM-SHA-256" and taken(offered, password=None) == "OAUTHBEARER"
    assert taken([*offered, "SCRAM-SHA-1-PLUS"]) == "SCRAM-SHA-1-PLUS"
    assert taken([*offered, "SCRAM-SHA-1-PLUS"], binding=None) == "SCRAM-SHA-256"
    assert taken(offered, ("PLAIN", "LOGIN")) == "PLAIN" and taken(offered, ("CRAM-MD5",)) is None
    assert taken(["NTLM"]) is None and taken(["PLAIN"], password=None) is None
