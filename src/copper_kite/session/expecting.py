"""The expectations of a session script, and whether they are met."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Protocol

from copper_kite.settings import parse_duration
from copper_kite.smtp import Reply
from copper_kite.words import Stage

__all__ = ["Expectation", "Seen", "parse_expectation"]

_CODES = re.compile(r"([2-5](?:[0-9y][0-9z]))((?: or [2-5][0-9y][0-9z])*)(?: ([245]\.(?:\d{1,3}|y)\.(?:\d{1,3}|z)))?")
_TEXT = re.compile(r'(no )?text "(.+)"')
_OFFER = re.compile(r"(no )?offer ([A-Za-z0-9-]+)(?: (.+))?")
_TLS = re.compile(r"(no )?TLS(?: (1\.[0-3]))?")
_STOP = re.compile(r"stop(?: at ([a-z]+)(?:: (.+))?)?")


class Seen(Protocol):
    """The parts of a session that an expectation can check."""

    reply: Reply | None
    seconds: float

    @property
    def offers(self) -> dict[str, tuple[str, ...]]:
        """The capabilities offered now."""

    @property
    def tls(self) -> str:
        """Version and cipher."""


@dataclass(frozen=True, slots=True)
class Expectation:
    """An expectation. `kind` is `seen` (known facts decide), or `closed`, `silence` or `stop`, which need the
    connection.

    `check` gives what came instead, empty when it is as expected; `seconds` is for silence, `stage`, `cause` for stop.
    """

    text: str
    kind: str = "seen"
    check: Callable[[Seen], str] = lambda seen: ""
    seconds: float = 0.0
    stage: Stage | None = None
    cause: str = ""


def parse_expectation(text: str) -> Expectation:
    """Parse the words after `expect`. Raises ValueError."""
    if match := _CODES.fullmatch(text):
        codes = [match[1], *match[2].split(" or ")[1:]]
        return Expectation(text, check=partial(_codes, codes=codes, enhanced=match[3] or ""))
    if match := _TEXT.fullmatch(text):
        return Expectation(text, check=partial(_text, words=match[2], wanted=not match[1]))
    if match := _OFFER.fullmatch(text):
        return Expectation(
            text, check=partial(_offer, keyword=match[2].upper(), argument=match[3] or "", wanted=not match[1])
        )
    if match := _TLS.fullmatch(text):
        return Expectation(text, check=partial(_tls, version=match[2] or "", wanted=not match[1]))
    if match := _STOP.fullmatch(text):
        return _stop(text, match[1], match[2] or "")
    if text == "closed":
        return Expectation(text, "closed")
    word, _, rest = text.partition(" ")
    if word in ("within", "silence"):
        seconds = parse_duration(rest)
        if word == "silence":
            return Expectation(text, "silence", seconds=seconds)
        return Expectation(text, check=partial(_within, bound=seconds))
    raise ValueError(
        f"{text!r} is nothing to expect; write a code (250, 5yz, 550 5.7.1), text, offer, TLS, within, silence, "
        "closed or stop"
    )


def _within(seen: Seen, bound: float) -> str:
    return "" if seen.seconds <= bound else f"it took {seen.seconds:.3f} s"


def _stop(text: str, stage: str | None, cause: str) -> Expectation:
    if stage is not None and stage not in list(Stage):
        raise ValueError(f"{stage!r} is no stage; they are {', '.join(Stage)}")
    return Expectation(text, "stop", stage=Stage(stage) if stage else None, cause=cause)


def _codes(seen: Seen, codes: list[str], enhanced: str) -> str:
    if seen.reply is None:
        return "no reply"
    said = str(seen.reply)
    if not any(_is_like(str(seen.reply.code), code) for code in codes):
        return said
    if enhanced and not all(
        part in ("y", "z", own)
        for part, own in zip(enhanced.split("."), seen.reply.enhanced.split(".") or [""], strict=False)
    ):
        return said
    return said if enhanced and not seen.reply.enhanced else ""


def _is_like(code: str, pattern: str) -> bool:
    return all(wanted in "yz" or wanted == digit for digit, wanted in zip(code, pattern, strict=True))


def _text(seen: Seen, words: str, *, wanted: bool) -> str:
    if seen.reply is None:
        return "no reply"
    return "" if (words.lower() in seen.reply.text.lower()) is wanted else str(seen.reply)


def _offer(seen: Seen, keyword: str, argument: str, *, wanted: bool) -> str:
    offered = seen.offers
    there = keyword in offered and (not argument or argument.upper() in (value.upper() for value in offered[keyword]))
    if there is wanted:
        return ""
    if keyword in offered:
        return " ".join((keyword, *offered[keyword])) + " is offered"
    return f"{keyword} is not offered"


def _tls(seen: Seen, version: str, *, wanted: bool) -> str:
    there = bool(seen.tls) and (not version or seen.tls.startswith(f"TLSv{version} "))
    return "" if there is wanted else seen.tls or "no TLS"
