"""Connectors that log in with access tokens: got, kept, renewed, refused."""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from copper_kite.net import (
    TokenFailed,
    TokenSource,
    await_device_login,
    find_metadata,
    read_token_problems,
    start_device_login,
)
from copper_kite.net.authority import CertificateFiles
from copper_kite.relay.service import Service
from copper_kite.session.standin import Caught, StandIn, StandInPlan
from copper_kite.session.token_stand_in import TokenStandIn
from copper_kite.session.web_stand_in import WebStandIn
from copper_kite.settings import OAuthClient, load_configuration, server_context
from copper_kite.smtp import Limits, Secret
from copper_kite.smtp.sasl.tokens import explain_error
from copper_kite.store import open_store
from copper_kite.words import Cause, State
from tests.looping import happens
from tests.relay.test_relay import letter, talk
from tests.support import Clock, PatientClock, converse, free_port, kite, write_site


@asynccontextmanager
async def token_server(**settings: object) -> AsyncIterator[tuple[TokenStandIn, WebStandIn]]:
    tokens = TokenStandIn(**settings)  # type: ignore[arg-type]
    web = WebStandIn(tokens.respond, None)
    port = await web.start("127.0.0.1", 0)
    tokens.issuer = f"http://127.0.0.1:{port}"
    yield tokens, web
    await web.stop()


BATCH = int(os.environ.get("KITE_TOKEN_BATCH", "10"))  # messages every 36 s of an hour


def client_of(tokens: TokenStandIn, **more: object) -> OAuthClient:
    known = {"name": "beacon", "token_endpoint": f"{tokens.issuer}/token", "client_id": "quay1"}
    return OAuthClient(**{**known, "refresh_token": Secret(tokens.first_refresh_token()), **more})  # type: ignore[arg-type]


async def test_one_renewal_serves_all_and_the_next_one_comes_before_the_end(tmp_path: Path) -> None:
    async with token_server(lifetime=100.0) as (tokens, web):
        source, now = TokenSource(client_of(tokens), tmp_path / "tokens.json"), 1000.0
        source.now = tokens.now = lambda: now
        first = {(await item).reveal() for item in [asyncio.ensure_future(source.get()) for _ in range(20)]}
        assert len(first) == len(web.asked) == 1
        now += 76.0  # it holds still, and another one is fetched meanwhile
        assert {(await source.get()).reveal()} == first
        await happens(lambda: len(web.asked) == 2)
        await happens(lambda: source.renew_at > now)
        assert {(await source.get()).reveal()} != first
        assert source.waited == 20


async def test_a_token_is_shared_by_processes_and_kept_for_its_owner_alone(tmp_path: Path) -> None:
    async with token_server() as (tokens, web):
        client, file = client_of(tokens), tmp_path / "tokens.json"
        item, other = TokenSource(client, file), TokenSource(client, file)
        assert (await item.get()).reveal() == (await other.get()).reveal()
        assert len(web.asked) == 1
        assert file.stat().st_mode & 0o777 == 0o600
        item.discard(await item.get())  # somebody refused it
        assert (await item.get()).reveal() != (await other.get()).reveal()
        again = TokenSource(client, file)  # after a restart, with the refresh token that replaced the first
        again.discard(await again.get())
        await again.get()
        assert [request.body.count(b"refresh_token") for request in web.asked] == [2, 2, 2]


async def test_a_new_login_replaces_what_was_kept(tmp_path: Path) -> None:
    async with token_server() as (tokens, web):
        client = client_of(tokens)
        await TokenSource(client, tmp_path / "tokens.json").get()
        newer = replace(client, refresh_token=Secret(tokens.first_refresh_token()))
        await TokenSource(newer, tmp_path / "tokens.json").get()
        assert newer.refresh_token is not None
        assert newer.refresh_token.reveal().encode() in web.asked[-1].body


@pytest.mark.parametrize(
    ("fault", "cause", "words"),
    [
        ("revoked", Cause.TOKEN_REFUSED, "answers 400: invalid_grant; the grant was withdrawn"),
        ("broken", Cause.TOKEN_UNAVAILABLE, "answers 502"),
        ("down", Cause.TOKEN_UNAVAILABLE, "disconnected"),
        ("no token", Cause.TOKEN_UNAVAILABLE, "answers without a token"),
    ],
)
async def test_a_server_that_gives_none(tmp_path: Path, fault: str, cause: Cause, words: str) -> None:
    async with token_server(fault=fault) as (tokens, _):
        source = TokenSource(client_of(tokens), tmp_path / "tokens.json")
        with pytest.raises(TokenFailed, match=words) as failed:
            await source.get()
        assert failed.value.cause is cause
        assert "refresh-" not in str(failed.value)
        problems = read_token_problems(tmp_path)
        assert [name for name, _, _ in problems] == (["beacon"] if cause is Cause.TOKEN_REFUSED else [])
        tokens.fault = "none"
        await source.get()
        assert read_token_problems(tmp_path) == []


async def test_a_client_with_a_secret_of_its_own(tmp_path: Path) -> None:
    async with token_server(client_secret="made-up") as (tokens, _):
        client = client_of(tokens, refresh_token=None, client_secret=Secret("made-up"))
        assert tokens.holds((await TokenSource(client, tmp_path / "t").get()).reveal())
        with pytest.raises(TokenFailed, match="invalid_client"):
            await TokenSource(replace(client, client_secret=Secret("other")), tmp_path / "u").get()


async def test_secrets_go_nowhere_in_clear(tmp_path: Path) -> None:
    client = OAuthClient("x", "http://192.0.2.9/token", "id", None, "", Secret("s"))
    with pytest.raises(TokenFailed, match="is not https"):
        await TokenSource(client, tmp_path / "t").get()


async def test_the_login_of_a_device() -> None:
    """RFC 8628: asked as often as the server says, more slowly when it asks for that, and given up in the end."""
    slept: list[float] = []

    async def sleep(seconds: float) -> None:
        slept.append(seconds)

    async with token_server(pending=3) as (tokens, _):
        result = await find_metadata(tokens.issuer, "system")
        client = client_of(tokens, refresh_token=None)
        code = await start_device_login(client, result.device)
        assert (code.user_code, code.where) == ("TERN-0425", f"{tokens.issuer}/enter")
        granted = await await_device_login(client, code, sleep)
        assert granted.refresh is not None
        assert slept == [1.0] * 4
        tokens.pending = 10**6
        with pytest.raises(TokenFailed, match="the code was not entered in time"):
            await await_device_login(client, await start_device_login(client, result.device), sleep)
        with pytest.raises(TokenFailed, match="about another issuer"):
            await find_metadata(tokens.issuer.replace("127.0.0.1", "localhost"), "system")


@pytest.mark.parametrize(
    ("challenge", "told"),
    [
        (b'{"status":"invalid_token"}', "the server says: status invalid_token: the token has ended, was revoked, or is for something else"),
        (b'{"status":"400","schemes":"Bearer","scope":"https://mail.example/"}',
         "the server says: status 400: the token has ended, was revoked, or is for something else; scope https://mail.example/; schemes Bearer"),
        (b"{}", ""),
        (b"not json", ""),
        (b'["x"]', ""),
        (b'{"status":"\\u001b[31m"}', ""),
    ],
)  # fmt: skip
def test_what_a_server_says_of_a_refused_token(challenge: bytes, told: str) -> None:
    assert explain_error(challenge) == told


@asynccontextmanager
async def mail_by_token(
    folder: Path, authority: CertificateFiles, tokens: TokenStandIn, clock: Clock, messages: int = 0, extra: str = ""
) -> AsyncIterator[tuple[Service, list[Caught]]]:
    """A server whose smart host takes the tokens of `tokens`, and so many messages in a session."""
    (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
    caught: list[Caught] = []
    plan = StandInPlan(
        name="localhost", folder=None, context=server_context(str(authority.certificate), str(authority.key)),
        logins={"tern": Secret("not this")}, tokens=tokens, limits=Limits(messages=messages),
    )  # fmt: skip
    stand_in = StandIn(plan, caught.append)
    config = write_site(folder, await stand_in.start("127.0.0.1", 0), extra=extra)
    (folder / "credentials.toml").write_text(
        f'[beacon]\nlogin = "tern"\ntoken_endpoint = "{tokens.issuer}/token"\nclient_id = "quay1"\n'
        f'refresh_token = "{tokens.first_refresh_token()}"\n'
    )
    service = await Service.start(load_configuration(config), clock)
    try:
        yield service, caught
    finally:
        await service.stop(2.0)
        await stand_in.stop()


async def test_an_hour_of_tokens_that_end_delays_no_message(folder: Path, authority: CertificateFiles) -> None:
    """Each session takes ten messages; each token holds for two minutes; nobody but the first waits for one."""
    clock = PatientClock()
    async with (
        token_server(lifetime=120.0, now=clock.now) as (tokens, web),
        mail_by_token(folder, authority, tokens, clock, messages=10) as (service, caught),
    ):
        await happens(lambda: tokens.given == 1)
        [source] = service.tokens._tasks
        for wanted in range(BATCH, 100 * BATCH + 1, BATCH):
            await converse(service.endpoints[0].port, talk(*[letter("x@y.example")] * BATCH))
            await happens(lambda wanted=wanted: len(caught) == wanted)
            for _ in range(4):
                clock.time += 9.0
                await happens(lambda: clock.now() < source.renew_at)
        with open_store(service.loaded.store).reader() as reader:
            await happens(lambda: reader.totals() == {State.RELAYED: 100 * BATCH})
            rows = reader.queue(tuple(State))
            assert {len(reader.record(row.message.id).attempts) for row in rows} == {1}
        assert source.waited == 0
        assert tokens.given == len(web.asked)
        assert 25 <= tokens.given <= 45


async def test_a_token_that_is_refused_is_replaced_once(folder: Path, authority: CertificateFiles) -> None:
    clock = PatientClock()
    async with (
        token_server(now=clock.now) as (tokens, _),
        mail_by_token(folder, authority, tokens, clock) as (service, caught),
    ):
        await happens(lambda: tokens.given == 1)
        tokens._access.clear()  # it ended before its time
        await converse(service.endpoints[0].port, talk(letter("x@y.example")))
        await happens(lambda: len(caught) == 1)
        assert tokens.given == 2


async def test_a_withdrawn_grant_has_a_verdict_of_its_own(folder: Path, authority: CertificateFiles) -> None:
    clock = PatientClock()
    async with (
        token_server(now=clock.now, fault="revoked") as (tokens, _),
        mail_by_token(folder, authority, tokens, clock) as (service, _),
    ):
        await converse(service.endpoints[0].port, talk(letter("x@y.example")))
        with open_store(service.loaded.store).reader() as reader:
            await happens(lambda: reader.summary().by_state.get(State.DELAYED) == 1)
            [row] = reader.queue()
            attempt = reader.record(row.message.id).attempts[-1]
        assert attempt.cause == Cause.TOKEN_REFUSED.value
        shown = await asyncio.to_thread(kite, "trace", "x@y.example", config=service.loaded.path)
        assert b"gives no new access token for the connector beacon" in b" ".join(shown.stdout.split())


async def test_a_credential_is_got_by_a_code(folder: Path, authority: CertificateFiles) -> None:
    async with token_server(pending=0) as (tokens, _):
        config = write_site(folder, free_port())
        (folder / "ca.pem").write_bytes(authority.authority.read_bytes())
        words = (
            "login",
            "beacon",
            "--issuer",
            tokens.issuer,
            "--client-id",
            "quay1",
            "--login",
            "tern",
            "--scope",
            "smtp",
        )
        done = await asyncio.to_thread(kite, "credential", *words, config=config)
        assert done.returncode == 0, done.stderr
        assert b"TERN-0425" in done.stderr
        loaded = load_configuration(config)
        client = loaded.credentials["beacon"].oauth
        assert client is not None
        assert (client.scope, client.token_endpoint) == ("smtp", f"{tokens.issuer}/token")
        assert (folder / "credentials.toml").stat().st_mode & 0o777 == 0o600
        shown = await asyncio.to_thread(kite, "credential", "show", "beacon", "--json", config=config)
        assert client.refresh_token is not None
        assert client.refresh_token.reveal().encode() not in shown.stdout
        assert json.loads(shown.stdout)["login"] == "tern"
