"""A message's way out: transforms, one after the other, make of what is kept what a next hop gets.

A transform takes a draft and what is known of the next hop, and returns the draft, or one with other content. To
add one, write it and name it in `TRANSFORMS`, in its order: the sender comes first, since later ones encode what it
writes; signatures come last, since they cover what all others wrote. What nearly every message is, ASCII in short
lines, passes all but the last unchanged.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import Future
from typing import NamedTuple

from copper_kite.mail import BodyDigest, author_domain, header_end, leave_under, to_lines, to_seven_bits
from copper_kite.relay.delivery import AttemptFailure
from copper_kite.relay.job import Job, SenderRule
from copper_kite.relay.signatures import SignatureFields, Signatures, SigningFailed
from copper_kite.smtp import Capabilities, Envelope, Reply, incompatibility
from copper_kite.words import Cause, Stage

__all__ = ["TRANSFORMS", "Content", "Draft", "NextHop", "Outgoing", "prepare"]

LINES_ENCODED = "long lines and NUL were encoded"
HIGH_ENCODED = "octets over 127 were encoded"
NO_LONG_LINES = Reply(554, "5.6.1", "a line has over 998 octets, or holds a NUL, and the connector takes none such")
NO_HIGH_FIELD = Reply(
    554, "5.6.9", "a header field is not ASCII and cannot be encoded, and the next hop does not offer SMTPUTF8"
)
MAX_ENCODED = 64 * 1024 * 1024  # octets of a message that is encoded; a larger one goes as it is
MAX_LOOKED_INTO = 8 * 1024 * 1024  # octets of a message whose parts' headers are looked at for octets over 127


class NextHop(NamedTuple):
    """The facts that the transforms use: what the next hop offers, whether it is `proven` who it is (see
    `incompatibility`), and the connector's settings for long lines, the sender and signatures."""

    capabilities: Capabilities
    proven: bool
    long_lines: str = "encode"
    sender_rule: SenderRule | None = None
    signatures: Signatures | None = None
    must_sign: bool = False


class Content(NamedTuple):
    """Octets on their way out, a portion at a time; `portions` may be called again, and raises ContentUnreadable."""

    size: int
    portions: Callable[[], Iterable[bytes]]

    @classmethod
    def of(cls, octets: bytes) -> Content:
        """Content that is whole in memory."""
        return cls(len(octets), lambda: (octets,))

    def first(self) -> bytes:
        """The first portion; the header stands in it."""
        return next(iter(self.portions()), b"")

    def whole(self) -> bytes:
        """All of it in memory."""
        return b"".join(self.portions())

    def with_header(self, header: bytes, end: int) -> Content:
        """The same with another header than the one that ends at `end`."""
        kept = self.portions

        def portions() -> Iterable[bytes]:
            rest = iter(kept())
            yield header + next(rest, b"")[end:]
            yield from rest

        return Content(self.size + len(header) - end, portions)

    def after(self, fields: SignatureFields) -> Content:
        """The same with `fields` before it."""
        kept = self.portions

        def portions() -> Iterable[bytes]:
            rest = iter(kept())
            yield fields.octets() + next(rest, b"")
            yield from rest

        return Content(self.size + fields.size, portions)


class Draft(NamedTuple):
    """A message on its way out. `form` is what its content needs (`smtp.content.Form`); `changed` says in words what is
    not as it was kept; its content waits until `ready` is done, where there is one."""

    envelope: Envelope
    content: Content
    form: int = 0
    changed: str = ""
    signed: str = ""
    ready: Future[bytes] | None = None

    def rewritten(self, content: Content, changed: str = "", *, eight_bit: bool | None = None) -> Draft:
        """The same with other content; the envelope follows its size and what its octets need."""
        eight_bit = self.envelope.eight_bit if eight_bit is None else eight_bit
        envelope = self.envelope._replace(size=content.size, eight_bit=eight_bit)
        return self._replace(
            envelope=envelope, content=content, changed=", ".join(filter(None, (self.changed, changed)))
        )


class Outgoing(NamedTuple):
    """A message as a next hop gets it; or `stop`, why it cannot; or `apart`, the recipients that must go separately.

    `changed` says in words what is not as it was kept, `signed` by whom it is signed. The content is there when `ready`
    is done, if there is one; whoever asks for it before is kept waiting.
    """

    envelope: Envelope
    content: Callable[[], Iterable[bytes]]
    stop: AttemptFailure | None = None
    apart: tuple[str, ...] = ()
    changed: str = ""
    signed: str = ""
    ready: Future[bytes] | None = None


class _CannotLeave(Exception):
    """Raised for a message that cannot go to this next hop."""

    def __init__(self, cause: Cause, reply: Reply) -> None:
        super().__init__(reply.text)
        self.stop = AttemptFailure(stage=Stage.SENDER, cause=cause, text=reply.text, reply=reply)


class _MustWait(Exception):
    """Raised for a message that cannot leave yet."""

    def __init__(self, cause: Cause, text: str) -> None:
        super().__init__(text)
        self.stop = AttemptFailure(stage=Stage.SENDER, cause=cause, text=text)


def prepare(job: Job, hop: NextHop) -> Outgoing:
    """The content to send to a next hop. Raises ContentUnreadable."""
    envelope = job.envelope
    if len(envelope.recipients) > 1 and (apart := _apart(envelope, hop.capabilities)):
        return Outgoing(envelope, job.content, apart=apart)
    draft = Draft(envelope, Content(envelope.size, job.content), job.message.form)
    try:
        for transform in TRANSFORMS:
            draft = transform(draft, hop)
        refused = incompatibility(draft.envelope, hop.capabilities, proven=hop.proven)
        if refused is not None:
            raise _CannotLeave(*refused)
    except (_CannotLeave, _MustWait) as error:
        return Outgoing(draft.envelope, draft.content.portions, error.stop)
    return Outgoing(
        draft.envelope, draft.content.portions, changed=draft.changed, signed=draft.signed, ready=draft.ready
    )


def _apart(envelope: Envelope, capabilities: Capabilities) -> tuple[str, ...]:
    """The recipients beyond this next hop's limit (RFC 9422 4), or whose addresses it cannot take (RFC 6531 3.2)."""
    recipients = envelope.recipients
    if (most := capabilities.most_recipients) is not None and len(recipients) > most:
        return recipients[most:]
    if "SMTPUTF8" in capabilities or "".join(recipients).isascii():
        return ()
    high = tuple(path for path in recipients if not path.isascii())
    return high if len(high) < len(recipients) else ()


def _leave_as_sender(draft: Draft, hop: NextHop) -> Draft:
    """Under the sender that the connector's mail leaves with, in the envelope and in the header."""
    rule = hop.sender_rule
    if rule is None:
        return draft
    first = draft.content.first()
    end = header_end(first)
    draft = draft.rewritten(draft.content.with_header(leave_under(first[:end], rule.sender, rule.lets_pass), end))
    path = draft.envelope.reverse_path
    if not path or rule.lets_pass(path):
        return draft
    return draft._replace(envelope=draft.envelope._replace(reverse_path=rule.sender))


def _encode_lines(draft: Draft, hop: NextHop) -> Draft:
    """Lines that are too long, and NUL, encoded (RFC 5322 2.1.1); where that breaks something, as they are."""
    if not draft.form or hop.long_lines == "pass":
        return draft
    if hop.long_lines == "refuse":
        raise _CannotLeave(Cause.LONG_LINES, NO_LONG_LINES)
    if draft.content.size > MAX_ENCODED or (made := to_lines(draft.content.whole())) is None:
        return draft
    return draft.rewritten(Content.of(made), LINES_ENCODED, eight_bit=not made.isascii())


def _encode_high(draft: Draft, hop: NextHop) -> Draft:
    """Octets over 127 encoded for a next hop without 8BITMIME (RFC 6152 3) or SMTPUTF8 (RFC 6531 3.2), where it can be
    done right. Bodies that cannot stay as they are, for `incompatibility` to see."""
    envelope, content = draft.envelope, draft.content
    if not envelope.eight_bit and not envelope.utf8:
        return draft
    header = b""
    if envelope.eight_bit:
        first = content.first()
        header = first[: header_end(first)]
    paths = "".join((envelope.reverse_path, *envelope.recipients))
    draft = draft._replace(envelope=envelope._replace(utf8=not (header.isascii() and paths.isascii())))
    bodies = envelope.eight_bit and "8BITMIME" not in hop.capabilities
    if not bodies and ("SMTPUTF8" in hop.capabilities or _needs_no_look(draft, header)):
        return draft
    if hop.capabilities.size is not None and content.size > hop.capabilities.size:
        return draft  # encoding makes it no smaller
    whole = content.whole()
    encoded = to_seven_bits(whole, bodies=bodies)
    if encoded is not None:
        changed = "" if encoded == whole else HIGH_ENCODED
        draft = draft.rewritten(Content.of(encoded), changed, eight_bit=not bodies and envelope.eight_bit)
        return draft._replace(envelope=draft.envelope._replace(utf8=not paths.isascii()))
    if bodies or header.isascii():  # the latter has a part that nobody can look into: it goes as it is
        return draft
    raise _CannotLeave(Cause.NEEDS_SMTPUTF8, NO_HIGH_FIELD)


def _needs_no_look(draft: Draft, header: bytes) -> bool:
    """Whether no header of it, nor of its parts, can hold octets over 127; or it is too large to tell."""
    return header.isascii() and (not draft.envelope.eight_bit or draft.content.size > MAX_LOOKED_INTO)


def _sign(draft: Draft, hop: NextHop) -> Draft:
    """Signed by the keys of the domain in From (RFC 6376 5); never unsigned for want of a key that there should be."""
    if hop.signatures is None:
        return draft
    first = draft.content.first()
    end = header_end(first)
    domain = author_domain(first[:end])
    try:
        signers = hop.signatures.signers(domain)
    except SigningFailed as error:
        raise _MustWait(Cause.SIGNING_FAILED, str(error)) from error
    if not signers:
        if hop.must_sign:
            text = f"mail from {domain or 'an unknown domain'} must leave signed, and there is no key for it"
            raise _MustWait(Cause.NO_SIGNING_KEY, text)
        return draft
    digest = BodyDigest()
    portions = iter(draft.content.portions())
    digest.update(next(portions, b"")[_body_start(first, end) :])
    for portion in portions:
        digest.update(portion)
    fields = hop.signatures.sign(signers, first[:end], digest.value())
    return draft.rewritten(draft.content.after(fields))._replace(signed=fields.signed, ready=fields.ready)


def _body_start(first: bytes, end: int) -> int:
    """Where the body begins, after the empty line that ends the header."""
    return end + 2 if first.startswith(b"\r\n", end) else end


Transform = Callable[[Draft, NextHop], Draft]
TRANSFORMS: tuple[Transform, ...] = (_leave_as_sender, _encode_lines, _encode_high, _sign)
