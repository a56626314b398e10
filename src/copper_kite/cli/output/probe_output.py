"""The result of a probe, as text and as JSON."""

from __future__ import annotations

import statistics
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, json_time, print_table, print_verdict, say, size, verdict_json
from copper_kite.smtp import visible

if TYPE_CHECKING:
    from copper_kite.net import Certificate, SessionFailed
    from copper_kite.session import Probed
    from copper_kite.words import Stage

__all__ = [
    "certificate_words",
    "print_dialogue",
    "print_facts",
    "print_probed",
    "print_repeats",
    "print_stages",
    "print_sweep",
    "probed_json",
    "repeats_json",
]

MARK_COLOURS = {"ok": "green", "STOP": "bold red", "yes": "green", "no": "red"}
SOON = 21  # days before its end from which a certificate is worth a word


def print_probed(found: Probed, *, dialogue: bool) -> None:
    """Stages, what was seen, the dialogue if wanted, and the verdict."""
    print_stages(found.stages, found.failure)
    for tried in found.tried:
        say(f"tried {tried.address}: {tried.said} (stage {tried.stage.value})", indent=2)
    print_facts(found)
    if dialogue:
        echo()
        print_dialogue(found.dialogue.export())
    echo()
    print_verdict(found.verdict)


def print_facts(found: Probed) -> None:
    """The offers, TLS and certificates."""
    rows = _facts(found)
    if rows:
        echo()
        print_table(("seen", ""), rows, wraps=True)


def print_dialogue(lines: Iterable[Sequence[object]]) -> None:
    """Every line with its time, and who said it, as RFC 5321 D has it; a note on what happened after `--`."""
    from copper_kite.net import SIGNS

    for at, who, text in lines:
        echo(f"  {at:8.3f}  {SIGNS[str(who)]} {visible(str(text))}")


def print_stages(stages: Sequence[tuple[Stage, float, str]], failure: SessionFailed | None) -> None:
    """Print the stages of a session, a line each."""
    rows = [("ok", stage.value, milliseconds(took), said) for stage, took, said in stages]
    if failure is not None:
        rows.append(("STOP", failure.stage.value, "", failure.text))
    print_table(("", "stage", "time", "what came back"), rows, right=("time",), wraps=True, colours=MARK_COLOURS)


def _facts(found: Probed) -> list[tuple[str, str]]:
    rows = []
    if found.tls and found.in_clear is not None:
        rows.append(("offered in clear", _keywords(found.in_clear) or "nothing"))
    if found.keywords:
        where = "offered under TLS" if found.tls else "offered, without TLS"
        rows.append((where, _keywords(found.keywords)))
    if found.tls:
        rows.append(("TLS", found.tls))
    if found.plan.demand is not None:
        rows.append(("policy", found.plan.demand.words))
    rows += found.policies.items()
    for place, certificate in enumerate(found.chain):
        rows.append(("certificate" if not place else "signed by", certificate_words(certificate, found.at)))
    if found.keywords:
        limit = found.offers.size
        rows.append(("logins", ", ".join(found.offers.logins) or "none"))
        rows.append(("largest message", size(limit) if limit else "no limit told"))
    return rows


def _keywords(keywords: Mapping[str, tuple[str, ...]]) -> str:
    return ", ".join(" ".join((key, *values)) for key, values in keywords.items())


def certificate_words(certificate: Certificate, now: float) -> str:
    """The certificate's names, expiry, key, issuer and fingerprint."""
    names = ", ".join(certificate.names) or certificate.subject
    issuer = "itself" if certificate.self_signed else certificate.issuer
    begins = f"from {_day(certificate.not_before)} " if certificate.not_before > now else ""
    until = f"{begins}until {_day(certificate.not_after)} ({days_left(certificate, now)})"
    return f"{names}; {until}; {certificate.key}; issuer: {issuer}; sha256:{certificate.fingerprint}"


def milliseconds(seconds: float) -> str:
    """A short time: with a decimal where it tells something."""
    return f"{seconds * 1000:.0f} ms" if seconds >= 0.01 else f"{seconds * 1000:.1f} ms"


def _day(at: float) -> str:
    return time.strftime("%Y-%m-%d", time.localtime(at))


def days_left(certificate: Certificate, now: float) -> str:
    """How long it is good for, in words."""
    left = certificate.days_left(now)
    if certificate.not_after < now:
        return f"OUT OF DATE for {-left} days"
    return f"{left} days left" + (", SOON OVER" if left < SOON else "")


# --- several ports, several times ------------------------------------------------------------------------------------


def print_sweep(found: Sequence[Probed], connector: str) -> None:
    """A line a port, and the best of them; `connector` is the one whose host it is, if one is."""
    print_table(
        ("port", "works", "TLS", "certificate", "logins", "largest", "time", "what stopped it"),
        [_sweep_row(item) for item in found],
        right=("port", "largest", "time"),
        wraps=True,
        colours=MARK_COLOURS,
        gap=1,
    )
    echo()
    best = max(found, key=lambda one: (one.passed, one.plan.tls == "implicit", len(one.stages)))
    verdict = best.verdict
    if best.passed:
        where = f"hosts={best.plan.host}:{best.plan.port} tls={best.plan.tls}"
        command = f"kite connector set {connector} {where}" if connector else ""
        verdict = replace(verdict, next=command, advice="" if connector else f"a connector goes there with {where}")
    print_verdict(verdict)


def _sweep_row(one: Probed) -> tuple[str, ...]:
    tls = f"{one.plan.tls}, {one.tls.partition(' ')[0]}" if one.tls else f"{one.plan.tls}?"
    certificate = days_left(one.chain[0], one.at) if one.chain else "-"
    limit = one.offers.size
    return (
        str(one.plan.port),
        "yes" if one.passed else "no",
        tls,
        certificate,
        _logins(one.offers.logins),
        size(limit) if limit else "-",
        milliseconds(sum(took for _, took, _ in one.stages)) if one.stages else "-",
        f"{one.failure.stage.value}: {one.failure.text}" if one.failure else "",
    )


def _logins(names: Sequence[str]) -> str:
    """The first of them, and how many more: a row has no room for all."""
    return f"{names[0]} +{len(names) - 1}" if len(names) > 1 else "".join(names) or "-"


def _times(found: Sequence[Probed]) -> dict[str, list[float]]:
    """Seconds by stage, of those that came so far."""
    times: dict[str, list[float]] = {}
    for item in found:
        for stage, took, _ in item.stages:
            times.setdefault(stage.value, []).append(took)
    return times


def print_repeats(found: Sequence[Probed]) -> None:
    """The times by stage, and how often it went well."""
    rows = [
        (
            stage,
            str(len(times)),
            *(milliseconds(value) for value in (min(times), statistics.median(times), max(times))),
        )
        for stage, times in _times(found).items()
    ]
    print_table(("stage", "passed", "least", "median", "most"), rows, right=("passed", "least", "median", "most"))
    passed = sum(item.passed for item in found)
    echo()
    say((f"{passed} of {len(found)} went well", "bold"))
    last = next((item for item in reversed(found) if not item.passed), found[-1])
    print_verdict(last.verdict)


def repeats_json(found: Sequence[Probed]) -> dict[str, Any]:
    """The same as JSON values, with every probe."""
    return {
        "passed": sum(item.passed for item in found),
        "of": len(found),
        "times": {
            stage: {"passed": len(times), "least": min(times), "median": statistics.median(times), "most": max(times)}
            for stage, times in _times(found).items()
        },
        "probes": [probed_json(item) for item in found],
    }


# --- JSON ------------------------------------------------------------------------------------------------------------


def stages_json(stages: Sequence[tuple[Stage, float, str]], failure: SessionFailed | None) -> list[dict[str, Any]]:
    """The stages of a session, as JSON values."""
    results: list[dict[str, Any]] = [
        {"stage": stage.value, "passed": True, "seconds": round(took, 4), "said": said} for stage, took, said in stages
    ]
    if failure is not None:
        results.append({"stage": failure.stage.value, "passed": False, "seconds": None, "said": failure.text})
    return results


def probed_json(found: Probed) -> dict[str, Any]:
    """The result of a probe as JSON values."""
    plan = found.plan
    return {
        "time": json_time(found.at),
        "next_hop": plan.where,
        "address": found.address or None,
        "tried": [
            {"address": tried.address, "stage": tried.stage.value, "cause": tried.cause.value, "said": tried.said}
            for tried in found.tried
        ],
        "passed": found.passed,
        "cause": found.failure.cause.value if found.failure else None,
        "mode": plan.tls,
        "tls": found.tls or None,
        "policies": dict(found.policies),
        "offers_in_clear": None if found.in_clear is None else _lines(found.in_clear),
        "offers": _lines(found.keywords),
        "logins": list(found.offers.logins),
        "max_size": found.offers.size,
        "certificates": [_certificate_json(item, found.at) for item in found.chain],
        "stages": stages_json(found.stages, found.failure),
        "dialogue": found.dialogue.export(),
        "verdict": verdict_json(found.verdict),
    }


def _lines(keywords: Mapping[str, tuple[str, ...]]) -> list[str]:
    return [" ".join((key, *values)) for key, values in keywords.items()]


def _certificate_json(certificate: Certificate, now: float) -> dict[str, Any]:
    return {
        "names": list(certificate.names),
        "subject": certificate.subject,
        "issuer": certificate.issuer,
        "not_before": json_time(certificate.not_before),
        "not_after": json_time(certificate.not_after),
        "days_left": certificate.days_left(now),
        "key": certificate.key,
        "sha256": certificate.fingerprint,
    }
