"""The result of a survey of a connector's next hops, as text and as JSON."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.probe_output import (
    MARK_COLOURS,
    milliseconds,
    print_dialogue,
    print_facts,
    print_stages,
    probed_json,
)
from copper_kite.cli.output.show import echo, print_table, print_verdict, say, verdict_json
from copper_kite.errors import InputError
from copper_kite.words import Stage

if TYPE_CHECKING:
    from copper_kite.session import Letter, Probed, Survey
    from copper_kite.settings import Connector, Loaded

__all__ = ["postmaster_letter", "print_survey", "survey_connector", "survey_json"]


def postmaster_letter(loaded: Loaded, entry: Connector, recipients: Sequence[str]) -> Letter:
    """The transaction of a test after the login: a sender that mail of this server has, and recipients; no message.

    Some smart hosts ask for a login only then (RFC 4954 6).
    """
    from copper_kite.session import Letter
    from copper_kite.smtp import Envelope

    sender = entry.sender or loaded.postmaster
    utf8 = not "".join((sender, *recipients)).isascii()
    return Letter(Envelope(sender, tuple(recipients), 1000, False, utf8), None)


async def survey_connector(loaded: Loaded, entry: Connector, recipient: str | None, *, more: str) -> Survey:
    """Connect to each address of each next hop of a connector; `more` is the command that shows the dialogue."""
    from copper_kite.net import StsPolicies
    from copper_kite.routing import make_plan, make_plans
    from copper_kite.session import PATIENCE, exchangers, run_survey

    facts = {
        "connector": entry.name, "credential": entry.credential, "mx": entry.mx, "recipient": recipient, "more": more,
        "probing": True,
    }  # fmt: skip
    letter = postmaster_letter(loaded, entry, (recipient,) if recipient else ())
    if not entry.mx:
        return await run_survey([replace(plan, timeouts=PATIENCE) for plan in make_plans(loaded, entry)], facts, letter)
    if recipient is None:
        why = f"{entry.name} goes to each domain's own mail exchangers: name a recipient, by --to"
        raise InputError(why, usage=True)
    first = replace(make_plan(loaded, entry), timeouts=PATIENCE)
    policies = None
    if entry.policy == "auto" and entry.tls != "off":
        policies = StsPolicies(None, time.time, first.dns, first.trust, entry.policy_port)
    hosts = await exchangers(first, recipient, {loaded.server_name.lower()}, facts, policies)
    return await run_survey(hosts, facts, letter)


def print_survey(survey: Survey, *, dialogue: bool) -> None:
    """A line for each way; all that is known of the first one that is stopped, or else of the first; the verdict."""
    told = next((way for way in survey.ways if not way.passed), survey.ways[0])
    if len(survey.ways) > 1:
        print_table(
            ("works", "next hop", "address", "TLS", "time", "what came back"),
            [_row(way) for way in survey.ways],
            right=("time",),
            wraps=True,
            colours=MARK_COLOURS,
        )
        echo()
        say((told.plan.where, "bold"), f" at {told.plan.address}" if told.plan.address else "")
    print_stages(told.stages, told.failure)
    print_facts(told)
    for way in survey.ways if dialogue else ():
        echo()
        say((f"Dialogue with {way.plan.where}", "bold"), f" at {way.address}" if way.address else "")
        print_dialogue(way.dialogue.export())
    echo()
    print_verdict(survey.verdict)


def _row(way: Probed) -> tuple[str, ...]:
    said = next((stage.said for stage in reversed(way.stages) if stage.stage is not Stage.QUIT), "")
    return (
        "yes" if way.passed else "no",
        way.plan.where,
        way.plan.address or "-",
        way.tls.partition(" ")[0] or way.plan.tls,
        milliseconds(sum(took for _, took, _ in way.stages)) if way.stages else "-",
        f"{way.failure.stage.value}: {way.failure.text}" if way.failure is not None else said,
    )


def survey_json(name: str, survey: Survey) -> dict[str, Any]:
    """The same as JSON values."""
    return {
        "connector": name,
        "passed": survey.passed,
        "ways": [probed_json(way) for way in survey.ways],
        "verdict": verdict_json(survey.verdict),
    }
