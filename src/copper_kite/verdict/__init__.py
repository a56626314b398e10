"""From codes, stages and causes to what they mean, on whose side, and what to do.

`judge_attempt` gives the verdict on an attempt; the knowledge is `knowledge.toml`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.verdict.explain import find_phrase, standard_meaning
    from copper_kite.verdict.judge import Judgement, Verdict, judge_attempt, judge_refusal, side_of

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "explain": "find_phrase standard_meaning",
        "judge": "Judgement Verdict judge_attempt judge_refusal side_of",
    },
)
