"""How far a session with a next hop gets: the stages it went through, where it stopped, and the verdict on that."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from copper_kite.errors import SessionFailed
from copper_kite.net.client import ClientSession, Plan
from copper_kite.net.dialogue import Dialogue
from copper_kite.net.opening import open_session
from copper_kite.smtp.transaction import Envelope
from copper_kite.verdict.judge import Verdict, judge
from copper_kite.words import Cause, Stage

__all__ = ["Letter", "Probed", "probe"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Probed:
    """What a probe found. `stages` holds (stage, seconds, what came back) of those that were passed.

    `failure` is what stopped it, if something did; `keywords` is what the next hop offered last.
    """

    plan: Plan
    stages: Sequence[tuple[Stage, float, str]]
    failure: SessionFailed | None
    address: str
    tls: str
    keywords: Mapping[str, tuple[str, ...]]
    dialogue: Dialogue
    verdict: Verdict

    @property
    def passed(self) -> bool:
        """Whether nothing stopped it."""
        return self.failure is None


class Letter(NamedTuple):
    """One message to hand over at the end of a probe."""

    envelope: Envelope
    content: bytes


async def probe(plan: Plan, facts: Mapping[str, Any], letter: Letter | None = None) -> Probed:
    """Open a session up to the login, hand over `letter` if there is one, and close it.

    `facts` is what the sentences may name.
    """
    loop = asyncio.get_running_loop()
    dialogue = Dialogue(loop.time())
    next_hop = f"{plan.host}:{plan.port}"
    known = {"host": plan.host, "next_hop": next_hop, "login": plan.login, **facts}
    known["more"] = f"kite connector test --dialogue {facts.get('connector', 'NAME')}"
    known["openssl"] = "" if plan.tls == "implicit" else "-starttls smtp"
    try:
        session = await open_session(plan, dialogue)
    except SessionFailed as failure:
        return Probed(
            plan=plan,
            stages=failure.facts.get("stages", []),
            failure=failure,
            address=str(failure.facts.get("address", "")),
            tls="",
            keywords={},
            dialogue=dialogue,
            verdict=_stopped(failure, {**known, "text": failure.text, "address": failure.facts.get("address", "")}),
        )
    stopped = await _hand_over(session, letter) if letter is not None else None
    tls = f"{session.tls_version} {session.cipher}" if session.tls_version else ""
    said = str(session.stages[-1][2])
    if stopped is not None:
        known |= {"text": stopped.text, "address": session.address, "recipient": _whom(letter)}
        verdict = _stopped(stopped, known)
    else:
        verdict = _went(plan, next_hop, tls, said, _whom(letter))
    found = Probed(
        plan=plan,
        stages=session.stages,
        failure=stopped,
        address=session.address,
        tls=tls,
        keywords=dict(session.capabilities.keywords),
        dialogue=dialogue,
        verdict=verdict,
    )
    await session.close()
    return found


def _whom(letter: Letter | None) -> str:
    return letter.envelope.recipients[0] if letter is not None else ""


async def _hand_over(session: ClientSession, letter: Letter) -> SessionFailed | None:
    """Hand one message over; what stopped it, if something did."""
    began = asyncio.get_running_loop().time()
    try:
        (result, *_) = await session.relay(letter.envelope, lambda: (letter.content,))
    except SessionFailed as failure:
        return failure
    if result.reply.positive:
        session.stages.append((Stage.ACCEPT, asyncio.get_running_loop().time() - began, str(result.reply)))
        return None
    return SessionFailed(result.stage, Cause.REPLY, str(result.reply), result.reply)


def _went(plan: Plan, next_hop: str, tls: str, said: str, recipient: str) -> Verdict:
    if recipient:
        return Verdict(
            None,
            f"{next_hop} has taken the message for {recipient}, and answers for it from here.",
            said,
            f"see whether it arrives at {recipient}; if not, give this reply to who runs {plan.host}",
        )
    how = f"under {tls}" if tls else "without TLS"
    login = f"takes the login {plan.login}" if plan.login else "asked for no login"
    return Verdict(None, f"{next_hop} answers {how} and {login}: mail can be handed to it.", said, "nothing to do")


def _stopped(failure: SessionFailed, facts: Mapping[str, Any]) -> Verdict:
    reply = failure.reply if failure.cause is Cause.REPLY else None
    found = judge(failure.stage, failure.cause, reply.code if reply else None, reply.enhanced if reply else "", facts)
    return Verdict(found.side, found.meaning, f"{failure.text} (stage {failure.stage.value})", found.next)
