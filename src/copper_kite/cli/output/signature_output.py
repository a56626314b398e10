"""The validity of a message's signatures, as text and as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from copper_kite.cli.output.show import echo, print_table, print_verdict, verdict_json

if TYPE_CHECKING:
    from copper_kite.mail import SignatureResult
    from copper_kite.trace import SignatureChecks

__all__ = ["print_signatures", "signatures_json"]


def print_signatures(checks: SignatureChecks) -> None:
    """A line for each signature, the seals, and the verdict."""
    from copper_kite.trace import signatures_verdict

    if checks.results:
        print_table(
            ("result", "domain", "selector", "algorithm", "why"),
            [
                (
                    result.result,
                    result.signature.domain or "?",
                    result.signature.selector or "?",
                    result.signature.tags.get("a", "?"),
                    _why(result),
                )
                for result in checks.results
            ],
            wraps=True,
        )
    if checks.sealed_by:
        echo(f"sealed on its way (ARC) by {', then '.join(checks.sealed_by)}; seals are not checked")
    if checks.results or checks.sealed_by:
        echo()
    print_verdict(signatures_verdict(checks))


def _why(result: SignatureResult) -> str:
    testing = "the key is published as a trial (t=y)" if result.testing else ""
    return "; ".join(filter(None, (result.why, result.changed, testing)))


def signatures_json(checks: SignatureChecks) -> dict[str, Any]:
    """The same as JSON values."""
    from copper_kite.trace import signatures_verdict

    return {
        "from_domain": checks.author_domain or None,
        "signatures": [
            {
                "result": result.result,
                "domain": result.signature.domain or None,
                "selector": result.signature.selector or None,
                "algorithm": result.signature.tags.get("a"),
                "signed_fields": [name.decode("utf-8", "replace") for name in result.signature.names],
                "key_bits": result.bits or None,
                "testing": result.testing,
                "why": result.why or None,
                "changed": result.changed or None,
            }
            for result in checks.results
        ],
        "sealed_by": checks.sealed_by,
        "verdict": verdict_json(signatures_verdict(checks)),
    }
