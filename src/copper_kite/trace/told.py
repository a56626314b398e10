"""Verdicts on notices: a message that left here failed, was delayed or was delivered at another server."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from copper_kite.smtp import split_reply
from copper_kite.verdict import Judgement, judge_attempt
from copper_kite.words import Cause, Side, Stage

__all__ = ["judge_told"]


def judge_told(about: Mapping[str, Any], more: Mapping[str, Any]) -> Judgement:
    """The verdict; `about` has recipient, action, status, said, at_server, reporter. `more` fills in the sentences."""
    code, status = _code(about)
    said = str(about["said"])
    facts = {
        "next_hop": about["at_server"] or about["reporter"] or "the server there",
        "host": about["at_server"] or about["reporter"],
        "recipient": about["recipient"],
        "text": said,
        "more": "",  # what was said there is not known
        **more,
    }
    if code is None or about["action"] in ("delivered", "relayed", "expanded"):
        meaning = {"delivered": "It is in the mailbox.", "relayed": "It went on, to where nobody tells.",
                   "expanded": "It went to all whom that address stands for."}.get(about["action"], "")  # fmt: skip
        return Judgement(Side.BEYOND, meaning or "The notice tells no reason.", advice="nothing to do")
    judged = judge_attempt(Stage.RECIPIENT, Cause.REPLY, code, status, facts)
    side = Side.HERE if judged.side is Side.HERE else Side.BEYOND
    advice = judged.advice
    if advice.startswith("nothing to do"):  # it is in their queue now, if in any
        advice = "nothing to do: it is tried again there" if about["action"] == "delayed" else _LATER
    return Judgement(side, judged.meaning, judged.next, advice)


_LATER = "send it again later, or ask the recipient by another way"


def _code(about: Mapping[str, Any]) -> tuple[int | None, str]:
    """The reply's code and enhanced code; where only the enhanced code is known, a basic code of its class."""
    status = str(about["status"])
    number, _, enhanced = split_reply(str(about["said"]))[0].partition(" ")
    if number and number[0] in "245":
        return int(number), enhanced or status
    kind = status[:1] or {"failed": "5", "delayed": "4"}.get(about["action"], "")
    return (int(kind) * 100 + 50 if kind in ("4", "5") else None), status
