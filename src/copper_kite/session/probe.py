"""A probe of a server: the stages that its session passed, where it stopped, and the verdict."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

from copper_kite.net import (
    Certificate,
    ClientSession,
    Dialogue,
    Plan,
    SessionFailed,
    SessionSeen,
    StageDone,
    Timeouts,
    Tried,
    look_again,
    open_looking,
    open_session,
    read_certificate,
)
from copper_kite.session.policies_seen import policies_seen
from copper_kite.smtp import Capabilities, Envelope, incompatibility, mail_parameters
from copper_kite.smtp import client as smtp
from copper_kite.verdict import Verdict, judge_attempt
from copper_kite.words import Cause, Stage

__all__ = ["PATIENCE", "Letter", "Probed", "run_probe", "sweep_ports", "verdict_on_stop"]

# Somebody waits in front of the screen: shorter than what delivery grants (RFC 5321 4.5.3.2).
PATIENCE = Timeouts(
    resolve=15.0, connect=10.0, secure=15.0, greet=30.0, command=30.0, data=30.0, block=60.0, accept=120.0
)
IMPLICIT_PORT = 465  # RFC 8314 3.3


@dataclass(frozen=True, slots=True, kw_only=True)
class Probed:
    """The result of a probe. `stages` are those that were passed.

    `failure` is what stopped it, if something did; `tried` the addresses that gave no session; `in_clear` and
    `keywords` what was offered before TLS (None when it never came to that) and last; `chain` the certificates shown,
    the server's own first; `letter` what it went on with; `at` in seconds since 1970; `policies` what DANE and MTA-STS
    say of it.
    """

    plan: Plan
    at: float
    stages: Sequence[StageDone]
    failure: SessionFailed | None
    address: str
    tried: Sequence[Tried]
    tls: str
    in_clear: Mapping[str, tuple[str, ...]] | None
    keywords: Mapping[str, tuple[str, ...]]
    chain: Sequence[Certificate]
    dialogue: Dialogue
    verdict: Verdict
    letter: Letter | None = None
    policies: Mapping[str, str] = field(default_factory=dict)

    @property
    def passed(self) -> bool:
        """Whether nothing stopped it."""
        return self.failure is None

    @property
    def offers(self) -> Capabilities:
        """The capabilities offered last."""
        return Capabilities(self.keywords)


class Letter(NamedTuple):
    """The transaction after the opening: sender and recipients, and one message when there is `content`."""

    envelope: Envelope
    content: bytes | None


async def run_probe(plan: Plan, facts: Mapping[str, Any], letter: Letter | None = None) -> Probed:
    """Open a session up to the login, go on with `letter` if there is one, and close it.

    `facts` is what the sentences may name.
    """
    at, dialogue = time.time(), Dialogue(asyncio.get_running_loop().time())
    session: ClientSession | None = None
    failure: SessionFailed | None = None
    try:
        session = await open_looking(plan, dialogue, open_session(plan, dialogue))
        if letter is not None:
            await _say(session, letter)
    except SessionFailed as error:
        failure = error
    if session is not None:
        await session.close()
        seen = session.seen()
    else:
        assert failure is not None
        seen = failure.seen
    chain = seen.chain
    if failure is not None:
        failure = await look_again(plan, failure)
        chain = failure.seen.chain or chain
    certificates = [read_certificate(der) for der in chain]
    policies = {}
    if plan.demand is None:
        policies = await policies_seen(plan, chain, letter.envelope.recipients if letter is not None else ())
    return Probed(
        plan=plan,
        at=at,
        stages=[stage for stage in seen.stages if failure is None or stage.stage is not Stage.QUIT],
        failure=failure,
        address=seen.address,
        tried=seen.tried,
        tls=seen.tls,
        in_clear=seen.in_clear,
        keywords=seen.keywords,
        chain=certificates,
        dialogue=dialogue,
        verdict=_verdict(plan, failure, seen, facts, letter, certificates),
        letter=letter,
        policies=policies,
    )


async def _say(session: ClientSession, letter: Letter) -> None:
    """Sender and recipients, each a stage; then the content, or RSET when there is none."""
    envelope = letter.envelope
    session.stage = Stage.SENDER
    if (result := incompatibility(envelope, session.capabilities)) is not None:
        cause, reply = result
        raise SessionFailed(Stage.SENDER, cause, reply.text)
    await session.step(Stage.SENDER, smtp.mail(envelope.reverse_path, *mail_parameters(envelope, session.capabilities)))
    for recipient in envelope.recipients:
        await session.step(Stage.RECIPIENT, smtp.rcpt(recipient))
    if letter.content is None:
        await session.step(Stage.RECIPIENT, smtp.reset())
        session.stages.pop()
        return
    await session.step(Stage.CONTENT, smtp.data())
    await session.step_content(letter.content)


# --- the verdict -----------------------------------------------------------------------------------------------------


def _verdict(
    plan: Plan,
    failure: SessionFailed | None,
    seen: SessionSeen,
    facts: Mapping[str, Any],
    letter: Letter | None,
    chain: Sequence[Certificate],
) -> Verdict:
    if failure is None:
        said = next((stage.said for stage in reversed(seen.stages) if stage.stage is not Stage.QUIT), "")
        return _went(plan, seen.tls, said, letter)
    passed = [stage for stage in seen.stages if stage.stage is Stage.RECIPIENT]
    recipients = letter.envelope.recipients[len(passed) :] if letter else ()
    shown = {"names": ", ".join(chain[0].names[:4]), "pin": f"sha256:{chain[0].fingerprint}"} if chain else {}
    return verdict_on_stop(plan, failure, {"recipient": "".join(recipients[:1]), **shown, **facts}, letter)


def verdict_on_stop(plan: Plan, failure: SessionFailed, facts: Mapping[str, Any], letter: Letter | None) -> Verdict:
    """The verdict on a session that was stopped. `facts`: what else the sentences may name."""
    recipients = letter.envelope.recipients if letter else ()
    known = {
        "host": plan.host,
        "port": plan.port,
        "next_hop": plan.where,
        "login": plan.login,
        "text": failure.text,
        "address": failure.seen.address,
        "sender": (letter.envelope.reverse_path or "the empty sender") if letter else "",
        **facts,
    }
    known["recipient"] = known.get("recipient") or "".join(recipients[-1:])
    code, enhanced = failure.codes
    result = judge_attempt(failure.stage, failure.cause, code, enhanced, known)
    return result.verdict(result.meaning, f"{failure.text} (stage {failure.stage.value})")


def _went(plan: Plan, tls: str, said: str, letter: Letter | None) -> Verdict:
    next_hop = plan.where
    how = f"under {tls}" if tls else "without TLS"
    login = f"takes the login {plan.login}" if plan.login else "asked for no login"
    if letter is None:
        return Verdict(
            None, f"{next_hop} answers {how} and {login}: mail can be handed to it.", said, advice="nothing to do"
        )
    sender, recipients = letter.envelope.reverse_path, ", ".join(letter.envelope.recipients)
    if letter.content is None:
        whom = f"the sender <{sender}>" + (f" and the recipient {recipients}" if recipients else "")
        meaning = f"{next_hop} answers {how}, {login} and takes {whom}; no message was sent."
        return Verdict(None, meaning, said, advice="the same with --deliver sends one small real message")
    meaning = f"{next_hop} has taken the message for {recipients}, and answers for it from here."
    step = f"see whether it arrives at {recipients}; if not, give this reply to who runs {plan.host}"
    return Verdict(None, meaning, said, advice=step)


# --- several ports ---------------------------------------------------------------------------------------------------


async def sweep_ports(plan: Plan, ports: Sequence[int], facts: Mapping[str, Any]) -> list[Probed]:
    """Probe several ports at the same time, each in its usual way of TLS, or in the other where that is the one."""
    return await asyncio.gather(*(_sweep_one(replace(plan, port=port), facts) for port in ports))


async def _sweep_one(plan: Plan, facts: Mapping[str, Any]) -> Probed:
    result = await run_probe(replace(plan, tls="implicit" if plan.port == IMPLICIT_PORT else "starttls"), facts)
    cause = result.failure.cause if result.failure else None
    if cause is Cause.SPEAKS_TLS:
        return await run_probe(replace(plan, tls="implicit"), facts)
    if cause is Cause.SPEAKS_CLEAR:
        return await run_probe(replace(plan, tls="starttls"), facts)
    return result
