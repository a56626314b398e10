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


def print_probed(probed: Probed, *, dialogue: bool) -> None:
    """Stages, what was seen, the dialogue if wanted, and the verdict."""
    print_stages(probed.stages, probed.failure)
    for tried in probed.tried:
        say(f"tried {tried.address}: {tried.said} (stage {tried.stage.value})", indent=2)
    print_facts(probed)
    if dialogue:
        echo()
        print_dialogue(probed.dialogue.export())
    echo()
    print_verdict(probed.verdict)


def print_facts(probed: Probed) -> None:
    """The offers, TLS and certificates."""
    rows = _facts(probed)
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


def _facts(probed: Probed) -> list[tuple[str, str]]:
    rows = []
    if probed.tls and probed.in_clear is not None:
        rows.append(("offered in clear", _keywords(probed.in_clear) or "nothing"))
    if probed.keywords:
        where = "offered under TLS" if probed.tls else "offered, without TLS"
        rows.append((where, _keywords(probed.keywords)))
    if probed.tls:
        rows.append(("TLS", probed.tls))
    if probed.plan.demand is not None:
        rows.append(("policy", probed.plan.demand.words))
    rows += probed.policies.items()
    for place, certificate in enumerate(probed.chain):
        rows.append(("certificate" if not place else "signed by", certificate_words(certificate, probed.at)))
    if probed.keywords:
        limit = probed.offers.size
        rows.append(("logins", ", ".join(probed.offers.logins) or "none"))
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


def print_sweep(probes: Sequence[Probed], connector: str) -> None:
    """A line a port, and the best of them; `connector` is the one whose host it is, if one is."""
    print_table(
        ("port", "works", "TLS", "certificate", "logins", "largest", "time", "what stopped it"),
        [_sweep_row(item) for item in probes],
        right=("port", "largest", "time"),
        wraps=True,
        colours=MARK_COLOURS,
        gap=1,
    )
    echo()
    best = max(probes, key=lambda probed: (probed.passed, probed.plan.tls == "implicit", len(probed.stages)))
    verdict = best.verdict
    if best.passed:
        where = f"hosts={best.plan.host}:{best.plan.port} tls={best.plan.tls}"
        command = f"kite connector set {connector} {where}" if connector else ""
        verdict = replace(verdict, next=command, advice="" if connector else f"a connector goes there with {where}")
    print_verdict(verdict)


def _sweep_row(probed: Probed) -> tuple[str, ...]:
    tls = f"{probed.plan.tls}, {probed.tls.partition(' ')[0]}" if probed.tls else f"{probed.plan.tls}?"
    certificate = days_left(probed.chain[0], probed.at) if probed.chain else "-"
    limit = probed.offers.size
    return (
        str(probed.plan.port),
        "yes" if probed.passed else "no",
        tls,
        certificate,
        _logins(probed.offers.logins),
        size(limit) if limit else "-",
        milliseconds(sum(took for _, took, _ in probed.stages)) if probed.stages else "-",
        f"{probed.failure.stage.value}: {probed.failure.text}" if probed.failure else "",
    )


def _logins(names: Sequence[str]) -> str:
    """The first of them, and how many more: a row has no room for all."""
    return f"{names[0]} +{len(names) - 1}" if len(names) > 1 else "".join(names) or "-"


def _times(probes: Sequence[Probed]) -> dict[str, list[float]]:
    """Seconds by stage, of those that came so far."""
    times: dict[str, list[float]] = {}
    for item in probes:
        for stage, took, _ in item.stages:
            times.setdefault(stage.value, []).append(took)
    return times


def print_repeats(probes: Sequence[Probed]) -> None:
    """The times by stage, and how often it went well."""
    rows = [
        (
            stage,
            str(len(times)),
            *(milliseconds(value) for value in (min(times), statistics.median(times), max(times))),
        )
        for stage, times in _times(probes).items()
    ]
    print_table(("stage", "passed", "least", "median", "most"), rows, right=("passed", "least", "median", "most"))
    passed = sum(item.passed for item in probes)
    echo()
    say((f"{passed} of {len(probes)} went well", "bold"))
    last = next((item for item in reversed(probes) if not item.passed), probes[-1])
    print_verdict(last.verdict)


def repeats_json(probes: Sequence[Probed]) -> dict[str, Any]:
    """The same as JSON values, with every probe."""
    return {
        "passed": sum(item.passed for item in probes),
        "of": len(probes),
        "times": {
            stage: {"passed": len(times), "least": min(times), "median": statistics.median(times), "most": max(times)}
            for stage, times in _times(probes).items()
        },
        "probes": [probed_json(item) for item in probes],
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


def probed_json(probed: Probed) -> dict[str, Any]:
    """The result of a probe as JSON values."""
    plan = probed.plan
    return {
        "time": json_time(probed.at),
        "next_hop": plan.where,
        "address": probed.address or None,
        "tried": [
            {"address": tried.address, "stage": tried.stage.value, "cause": tried.cause.value, "said": tried.said}
            for tried in probed.tried
        ],
        "passed": probed.passed,
        "cause": probed.failure.cause.value if probed.failure else None,
        "mode": plan.tls,
        "tls": probed.tls or None,
        "policies": dict(probed.policies),
        "offers_in_clear": None if probed.in_clear is None else _lines(probed.in_clear),
        "offers": _lines(probed.keywords),
        "logins": list(probed.offers.logins),
        "max_size": probed.offers.size,
        "certificates": [_certificate_json(item, probed.at) for item in probed.chain],
        "stages": stages_json(probed.stages, probed.failure),
        "dialogue": probed.dialogue.export(),
        "verdict": verdict_json(probed.verdict),
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
