"""The client's session with a next hop: each step of its opening as one stage, and single commands for testers.

Each step has a bound in seconds (RFC 5321 4.5.3.2) and fails as SessionFailed with its stage.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from copper_kite.errors import EngineMisuse, ProtocolViolation
from copper_kite.net import tls
from copper_kite.net.access_tokens import token_source
from copper_kite.net.client_protocol import ClientProtocol
from copper_kite.net.conversation import Conversation
from copper_kite.net.dane import why_no_match
from copper_kite.net.demand import DANE
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.failure import SessionFailed
from copper_kite.net.oauth import TokenFailed
from copper_kite.net.plan import Plan
from copper_kite.net.secret import SecretUnavailable, fetch
from copper_kite.net.tls_transport import secure_client
from copper_kite.smtp import (
    LoginCredentials,
    Masks,
    Mechanism,
    Reply,
    Secret,
    Syntax,
    choose_mechanism,
    decode_base64,
    possible_mechanisms,
    stuff,
)
from copper_kite.smtp import client as smtp
from copper_kite.words import Cause, Stage

__all__ = ["ClientSession"]

MAX_CHALLENGES = 8  # of one login; no mechanism has more than three
EHLO_UNKNOWN = frozenset({500, 501, 502, 503, 504, 550})  # with these, older servers refuse EHLO and take HELO


class ClientSession(Conversation):
    """An open session. `earlier` are TLS sessions to resume."""

    def __init__(
        self,
        plan: Plan,
        wire: ClientProtocol,
        transport: asyncio.Transport,
        address: str,
        dialogue: Dialogue,
        earlier: tls.Sessions | None = None,
    ) -> None:
        super().__init__(plan, wire, transport, address, dialogue)
        self._earlier = earlier
        self.mechanism = ""
        self.resumed = False  # whether TLS went on with an earlier session
        self.tried_to_resume = False

    @property
    def verified(self) -> bool:
        """Whether TLS is on and the peer is verified."""
        return self._engine.secure and self.plan.trust not in (tls.LOOK, tls.UNVERIFIED)

    # --- the opening ------------------------------------------------------------------------------------------------

    async def greet(self) -> None:
        """Wait for the greeting."""
        self.stage, began = Stage.GREET, self._now()
        reply = (await self._next_reply(self.plan.timeouts.greet)).reply
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"greeted with {reply}", reply)
        self._stage_done(began, reply)

    async def hello(self) -> None:
        """EHLO, or HELO where EHLO is not known (RFC 5321 3.2)."""
        self.stage, began = Stage.HELLO, self._now()
        reply = await self._ask(smtp.ehlo(self.plan.name), self.plan.timeouts.command)
        if reply.code in EHLO_UNKNOWN and self._may_do_without_extensions:
            reply = await self._ask(smtp.helo(self.plan.name), self.plan.timeouts.command)
        if not reply.positive:
            raise self._failed(Cause.REPLY, f"EHLO refused: {reply}", reply)
        self._stage_done(began, f"{reply.code} {reply.lines[0]}")
        for remark in self.capabilities.remarks:
            self.dialogue.noted(self._now(), remark)
        if not self._engine.secure:
            self.in_clear = self._engine.capabilities
        elif self._earlier is not None:  # what the server gives for another time has come by now
            self._earlier.keep(self.plan, self._transport.get_extra_info("ssl_object"), self.chain)

    @property
    def _may_do_without_extensions(self) -> bool:
        """Whether HELO would do: neither TLS by command nor a login can follow it."""
        return (self.plan.tls != "starttls" or self._engine.secure) and not self.plan.login

    async def secure(self) -> None:
        """STARTTLS, which is demanded: without it the session ends here, and nothing has been sent in clear."""
        self.stage = Stage.SECURE
        if "STARTTLS" not in self._engine.capabilities:
            raise self._failed(Cause.TLS_NOT_OFFERED, "STARTTLS is not offered")
        reply = await self._ask(smtp.starttls(), self.plan.timeouts.command)
        if not reply.positive:
            raise self._failed(Cause.TLS_REFUSED, f"STARTTLS refused: {reply}", reply)
        await self.secure_behind_command()
        await self.hello()

    async def secure_behind_command(self) -> None:
        """TLS after the positive reply to STARTTLS; EHLO is to follow (RFC 3207 4.2). Raises SessionFailed."""
        self.stage, began = Stage.SECURE, self._now()
        await self._handshake()
        try:
            self._engine.tls_established()
        except ProtocolViolation as error:
            raise self._failed(Cause.PROTOCOL, str(error)) from error
        self._secured(began)

    async def secure_at_once(self) -> None:
        """TLS before anything is said (RFC 8314 3.3)."""
        self.stage, began = Stage.SECURE, self._now()
        await self._handshake()
        self._engine.secure = True
        self._secured(began)

    async def _handshake(self) -> None:
        """The TLS handshake on this connection. Raises SessionFailed."""
        if self._wire.has_data:  # said in clear: not to be taken for a reply under TLS (RFC 3207 4.2)
            if self.plan.tls == "implicit":
                raise self._failed(Cause.SPEAKS_CLEAR, "the port does not speak TLS at once")
            raise self._failed(Cause.PROTOCOL, "octets in clear before the TLS handshake")
        try:
            context = tls.client_context(self.plan.trust, self.plan.certificate, self.plan.key, self.plan.ciphers)
        except OSError as error:  # of ssl, too: not a file of certificates
            raise self._failed(Cause.TRUST_UNUSABLE, f"{self.plan.trust}: {tls.describe(error)}") from error
        earlier = None if self._earlier is None else self._earlier.take(self.plan, context)
        self.tried_to_resume = earlier is not None
        with self._handshake_errors():
            self._transport = await secure_client(
                self._transport,
                self._wire,
                context,
                self.plan.server_name,
                self.plan.timeouts.secure,
                None if earlier is None else earlier.session,
            )
        self.resumed = earlier is not None and bool(self._transport.get_extra_info("ssl_object").session_reused)
        self.chain = earlier.chain if earlier is not None and self.resumed else tls.peer_chain(self._transport)
        if not tls.is_pinned(self.plan.trust, self.chain):
            shown = tls.fingerprint(self.chain[0]) if self.chain else "none"
            raise self._failed(Cause.CERTIFICATE_NOT_PINNED, f"its certificate is {shown}, which is not pinned")
        demand = self.plan.demand
        if demand is not None and self.plan.trust == DANE:
            why = why_no_match(demand.tlsa, self.chain, demand.names, time.time())
            if why:
                raise self._failed(Cause.DANE_MISMATCH, why)

    @contextlib.contextmanager
    def _handshake_errors(self) -> Iterator[None]:
        try:
            yield
        except ConnectionAbortedError as error:
            text = f"the handshake was not over in {self.plan.timeouts.secure:g} s"
            raise self._failed(Cause.TIMED_OUT, text) from error
        except OSError as error:
            raise self._failed(tls.cause_of(error), tls.describe(error)) from error

    def _secured(self, began: float) -> None:
        """TLS is on, begun at `began` (loop time in seconds): the stage is done."""
        self.cipher, self.tls_version, _ = self._transport.get_extra_info("cipher")
        said = f"{self.tls_version} {self.cipher}" + (", resumed" if self.resumed else "")
        self.dialogue.noted(self._now(), f"TLS: {said}")
        self._stage_done(began, said)

    async def login(self, plan: Plan | None = None) -> None:
        """Log in as our plan, or another one, has it: by the strongest mechanism there is, under verified TLS.

        Only where the plan says so in so many words, without. Raises SessionFailed.
        """
        plan = plan or self.plan
        self.stage, began = Stage.LOGIN, self._now()
        if not self.verified and not plan.login_in_clear:
            raise self._failed(Cause.LOGIN_IN_CLEAR, "a login goes only under verified TLS")
        credentials = await self._credentials(plan)
        mechanism, reply = await self._log_in(plan, credentials)
        if not reply.positive and plan.oauth is not None and credentials.token is not None:
            self.dialogue.noted(self._now(), "the access token was refused: once more, with a new one")
            token_source(plan.oauth, Path(plan.data)).discard(credentials.token)
            mechanism, reply = await self._log_in(plan, await self._credentials(plan))
        if not reply.positive:
            told = f"; {mechanism.told}" if mechanism.told else ""
            cause = Cause.TOKEN_NOT_TAKEN if credentials.token is not None else Cause.REPLY
            raise self._failed(cause, f"login refused: {reply}{told}", reply)
        if not mechanism.proven:
            raise self._failed(
                Cause.LOGIN_UNPROVEN, "the server took the login without proving that it knows the password"
            )
        assert self._masks is not None
        self._masks.thorough = False
        self._stage_done(began, f"{reply} ({self.mechanism})")

    async def _credentials(self, plan: Plan) -> LoginCredentials:
        """Read the credentials from their source; from now on the dialogue masks them. Raises SessionFailed."""
        try:
            password = await fetch(plan.password, plan.password_command)
            if plan.oauth is not None:
                token: Secret | None = await token_source(plan.oauth, Path(plan.data)).get()
            else:
                token = await fetch(plan.token, plan.token_command)
        except SecretUnavailable as error:
            raise self._failed(Cause.SECRET_UNAVAILABLE, str(error)) from error
        except TokenFailed as error:
            raise self._failed(error.cause, str(error)) from error
        bound = tls.end_point_binding(self.chain[0]) if self.chain else None
        nonce = secrets.token_urlsafe(18)
        self._masks = Masks(secret.reveal() for secret in (password, token) if secret is not None)
        self.dialogue.masks = self._masks
        return LoginCredentials(plan.login, password, token, plan.host, plan.port, nonce, bound, plan.max_iterations)

    async def _log_in(self, plan: Plan, credentials: LoginCredentials) -> tuple[Mechanism, Reply]:
        """Log in; once more where the server does not know our kind of channel binding. Raises SessionFailed."""
        mechanism = self._mechanism(plan, credentials)
        reply = await self._converse_login(mechanism)
        if not reply.positive and mechanism.binds_in_vain:
            self.dialogue.noted(self._now(), "the server does not know this kind of binding: once more, without")
            mechanism = self._mechanism(plan, replace(credentials, nonce=secrets.token_urlsafe(18)), unbound=True)
            reply = await self._converse_login(mechanism)
        return mechanism, reply

    def _mechanism(self, plan: Plan, credentials: LoginCredentials, *, unbound: bool = False) -> Mechanism:
        """The strongest mechanism that both sides support. Raises SessionFailed."""
        offered, allowed = self._engine.capabilities.logins, plan.mechanisms
        chosen = choose_mechanism(offered, allowed, credentials, unbound=unbound)
        if chosen is None:
            could = (
                ", ".join(possible_mechanisms(allowed, credentials)) or "none of these with what the credential holds"
            )
            text = f"no common mechanism (offered: {', '.join(offered) or 'none'}; allowed: {could})"
            raise self._failed(Cause.LOGIN_NOT_OFFERED, text)
        self.mechanism, mechanism = chosen
        return mechanism

    async def _converse_login(self, mechanism: Mechanism) -> Reply:
        """AUTH, and answers until the server has decided (RFC 4954 4)."""
        bound, masks = self.plan.timeouts.command, self._masks
        assert masks is not None
        initial = mechanism.first()
        masks.sent(initial or b"")
        command, _ = smtp.auth(self.mechanism, initial)
        reply = await self._ask(command, bound)
        for _ in range(MAX_CHALLENGES):
            if reply.code != 334:
                return reply
            try:
                assert self._unmasked is not None
                message = await self._next_message(mechanism, decode_base64(self._unmasked.lines[0].encode()))
            except (ProtocolViolation, Syntax) as error:
                with contextlib.suppress(SessionFailed):
                    await self._ask(smtp.GIVE_UP, bound)
                raise self._failed(Cause.LOGIN_UNPROVEN, f"login given up: {error}") from error
            masks.sent(message)
            reply = await self._ask(smtp.answer(message), bound)
        raise self._failed(Cause.PROTOCOL, "challenges without end")

    async def _next_message(self, mechanism: Mechanism, challenge: bytes) -> bytes:
        """The answer to a challenge; what takes long on purpose is done beside the loop."""
        if not mechanism.slow:
            return mechanism.next(challenge)
        return await self._loop.run_in_executor(None, mechanism.next, challenge)

    async def step(self, stage: Stage, command: smtp.Command) -> None:
        """Send one command as a stage of its own. Raises SessionFailed when it is refused."""
        self._demand_trust()
        self.stage, began = stage, self._now()
        bound = self.plan.timeouts.data if command.verb is smtp.Verb.DATA else self.plan.timeouts.command
        self._stage_taken(began, await self._ask(command, bound))

    def _demand_trust(self) -> None:
        """A session that was opened only to look at a certificate carries no message."""
        if self.plan.trust == tls.LOOK:
            raise EngineMisuse("a message under a trust that believes anybody")

    async def step_content(self, content: bytes) -> None:
        """The content and its end, as a stage of its own. Raises SessionFailed when it is refused."""
        self.stage, began = Stage.ACCEPT, self._now()
        self._check_nothing_unasked()
        self._put(stuff(content, line_start=True) + self._engine.send(smtp.END_OF_CONTENT))
        self.dialogue.noted(self._now(), f"content sent, {len(content)} octets")
        self._stage_taken(began, (await self._next_reply(self.plan.timeouts.accept)).reply)

    def _stage_taken(self, began: float, reply: Reply) -> None:
        if not reply.positive:
            raise self._failed(Cause.REPLY, str(reply), reply)
        self._stage_done(began, reply)
