"""`kite explain`."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import click

from copper_kite.cli.output.show import print_json, print_verdict, say, verdict_json
from copper_kite.cli.shared.options import json_option

if TYPE_CHECKING:
    from copper_kite.words import Stage

__all__ = ["explain"]

STAGES = ("greet", "hello", "secure", "login", "sender", "recipient", "content", "accept")
_REPLY = re.compile(r"\s*([2-5]\d\d)?[ -]*([245]\.\d{1,3}\.\d{1,3})?[ -]*(.*)", re.S)


@click.command()
@click.argument("reply", nargs=-1, required=True)
@click.option("--stage", type=click.Choice(STAGES), help="Stage of the session; by default it is guessed.")
@json_option
def explain(reply: tuple[str, ...], stage: str | None, as_json: bool) -> None:
    """Explain a server's REPLY: its meaning, whose side the problem is on, and what to do.

    As in: kite explain 451 4.7.1 "try again later". The code, the enhanced code or the text may be left out.
    """
    from copper_kite.verdict import Verdict, find_phrase, judge_attempt, standard_meaning
    from copper_kite.words import Cause, Stage

    match = _REPLY.fullmatch(" ".join(reply))
    assert match is not None
    code, enhanced, text = int(match[1]) if match[1] else None, match[2] or "", match[3].strip()
    if code is None and enhanced:
        code = int(enhanced[0]) * 100 + 50
    phrase = find_phrase(code, text)
    if code is None and phrase is None:
        raise click.UsageError('a reply begins with a code, as in: kite explain 550 5.1.1 "no such user"')
    code = code or 550
    where = Stage(stage) if stage else _guess(code, enhanced)
    if 200 <= code < 400:
        verdict = Verdict(None, "The server says yes.", " ".join(reply), advice="nothing to do")
    else:
        judged = judge_attempt(where, Cause.REPLY, code, enhanced, {"text": text})
        verdict = judged.verdict(judged.meaning, " ".join(reply))
    standard = standard_meaning(enhanced) if enhanced else ""
    if as_json:
        shown = {"code": code, "enhanced": enhanced or None, "text": text, "stage": where.value}
        about = phrase.about if phrase else None
        print_json({**shown, "standard": standard or None, "about": about, "verdict": verdict_json(verdict)})
        return
    if standard:
        say((enhanced, "bold"), f"  {standard}")
    elif enhanced:
        say((enhanced, "bold"), "  is not defined by RFC 3463 or its registry")
    if phrase is not None:
        say(("its words", "bold"), f"  speak of: {phrase.about}")
    print_verdict(verdict)


def _guess(code: int, enhanced: str) -> Stage:
    """The stage that replies with these codes mostly come at."""
    from copper_kite.words import Stage

    subject = enhanced[2:]
    if code in (454, 534, 535, 538) or subject in ("7.8", "7.9", "7.11"):
        return Stage.LOGIN
    if code in (553,) or subject in ("1.7", "1.8"):
        return Stage.SENDER
    if code in (552, 554) or subject.startswith(("6.", "3.4", "2.3")):
        return Stage.ACCEPT
    return Stage.GREET if code == 421 and not enhanced else Stage.RECIPIENT
