"""A message's way out: what of it goes to a next hop as it is, and what is changed for it first.

Each step looks at what the next hop offers. What nearly every message is, ASCII, passes all of them unchanged.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from copper_kite.mail.header import header_end
from copper_kite.mail.sevenbit import to_lines, to_seven_bits
from copper_kite.relay.delivery import AttemptFailure
from copper_kite.relay.job import Job
from copper_kite.smtp.extensions import Capabilities
from copper_kite.smtp.replies import Reply
from copper_kite.smtp.transaction import Envelope, incompatibility
from copper_kite.words import Cause, Stage

__all__ = ["Outgoing", "prepare"]

LINES_ENCODED = "long lines and NUL were encoded"
HIGH_ENCODED = "octets over 127 were encoded"
NO_LONG_LINES = Reply(554, "5.6.1", "a line has over 998 octets, or holds a NUL, and the connector takes none such")
MAX_ENCODED = 64 * 1024 * 1024  # octets of a message that is encoded; a larger one goes as it is
MAX_LOOKED_INTO = 8 * 1024 * 1024  # octets of a message whose parts' headers are looked at for octets over 127

Content = Callable[[], Iterable[bytes]]


class Outgoing(NamedTuple):
    """A message as a next hop gets it; or `stop`, why it cannot; or `apart`, the recipients that must go separately.

    `changed` says in words what is not as it was kept.
    """

    envelope: Envelope
    content: Content
    stop: AttemptFailure | None = None
    apart: tuple[str, ...] = ()
    changed: str = ""


def prepare(job: Job, capabilities: Capabilities, *, proven: bool, long_lines: str = "encode") -> Outgoing:
    """What is to be handed over to a next hop that offers `capabilities`; `proven` as in `incompatibility`,
    `long_lines` as in the configuration of a connector.

    Raises ContentUnreadable.
    """
    envelope, content = job.envelope, job.outgoing
    if job.message.form and long_lines == "refuse":
        return Outgoing(envelope, content, _stopped(Cause.LONG_LINES, NO_LONG_LINES))
    if job.message.form and long_lines == "encode":
        return _in_lines(job, capabilities, proven=proven)
    return _prepared(envelope, content, capabilities, proven=proven)


def _in_lines(job: Job, capabilities: Capabilities, *, proven: bool) -> Outgoing:
    """A message with lines that are too long, or NUL: encoded, or where that breaks something, as it is."""
    envelope, content = job.envelope, job.outgoing
    if envelope.size > MAX_ENCODED or (made := to_lines(b"".join(content()))) is None:
        return _prepared(envelope, content, capabilities, proven=proven)
    envelope = envelope._replace(size=len(made), eight_bit=not made.isascii())
    outgoing = _prepared(envelope, lambda: (made,), capabilities, proven=proven)
    return outgoing._replace(changed=", ".join(filter(None, (LINES_ENCODED, outgoing.changed))))


def _prepared(envelope: Envelope, content: Content, capabilities: Capabilities, *, proven: bool) -> Outgoing:
    if len(envelope.recipients) > 1 and (apart := _apart(envelope, capabilities)):
        return Outgoing(envelope, content, apart=apart)
    found = incompatibility(envelope, capabilities, proven=proven)
    if found is not None and found[0] is not Cause.NEEDS_8BITMIME:
        return Outgoing(envelope, content, _stopped(*found))
    if not envelope.eight_bit and not envelope.utf8:
        return Outgoing(envelope, content)
    return _fitted(envelope, content, capabilities, found)


def _apart(envelope: Envelope, capabilities: Capabilities) -> tuple[str, ...]:
    """Those that this next hop does not take with the others (RFC 9422 4), or not at all (RFC 6531 3.2)."""
    recipients = envelope.recipients
    if (most := capabilities.most_recipients) is not None and len(recipients) > most:
        return recipients[most:]
    if "SMTPUTF8" in capabilities or "".join(recipients).isascii():
        return ()
    high = tuple(path for path in recipients if not path.isascii())
    return high if len(high) < len(recipients) else ()


def _stopped(cause: Cause, reply: Reply) -> AttemptFailure:
    return AttemptFailure(stage=Stage.SENDER, cause=cause, text=reply.text, reply=reply)


def _fitted(
    envelope: Envelope, content: Content, capabilities: Capabilities, lacks_8bit: tuple[Cause, Reply] | None
) -> Outgoing:
    """A message with octets over 127, or of which somebody said so."""
    first = next(iter(content()), b"") if envelope.eight_bit else b""
    header = first[: header_end(first)]
    paths = "".join((envelope.reverse_path, *envelope.recipients))
    envelope = envelope._replace(utf8=not (header.isascii() and paths.isascii()))
    bodies = lacks_8bit is not None
    if "SMTPUTF8" in capabilities and not bodies:
        return Outgoing(envelope, content)
    if header.isascii() and not bodies and (not envelope.eight_bit or envelope.size > MAX_LOOKED_INTO):
        return Outgoing(envelope, content)
    whole = b"".join(content())
    converted = to_seven_bits(whole, bodies=bodies)
    if converted is not None:
        envelope = envelope._replace(
            size=len(converted), utf8=not paths.isascii(), eight_bit=not bodies and envelope.eight_bit
        )
        return Outgoing(envelope, lambda: (converted,), changed="" if converted == whole else HIGH_ENCODED)
    if lacks_8bit is not None:
        return Outgoing(envelope, content, _stopped(*lacks_8bit))
    if header.isascii():
        return Outgoing(envelope, content)  # a part that nobody can look into: it goes as it is
    text = "a header field is not ASCII and cannot be encoded, and the next hop does not offer SMTPUTF8"
    return Outgoing(envelope, content, _stopped(Cause.NEEDS_SMTPUTF8, Reply(554, "5.6.9", text)))
