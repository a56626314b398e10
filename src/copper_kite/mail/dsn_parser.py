"""A notice from anybody, read: whom it is about, what became of them, and which message it was (RFC 3464, RFC 6533).

What is not in the form of the standards is read as far as that can be done without guessing at what it means: an
address, a reply's code, and the words around them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

from copper_kite.mail.dates import parse_date
from copper_kite.mail.header import decode_words, header_fields
from copper_kite.mail.parts import Part, mime_parts
from copper_kite.mail.received_parser import Hop, parse_received

__all__ = ["Returned", "ReturnedFor", "read_notice"]

ACTIONS = ("failed", "delayed", "delivered", "relayed", "expanded")  # RFC 3464 2.3.3
MAX_TEXT = 256 * 1024  # characters of free text that are looked at
MAX_RECIPIENTS = 1000
_STATUS = re.compile(r"[245]\.\d{1,3}\.\d{1,3}")
MAX_REASON = 300  # characters of what is said of one recipient
_REPLY = re.compile(r"(?<![\d.#-])([45]\d\d)(?:[ -]|[)\]]:? ?)[(\[]?#?(?:([45]\.\d{1,3}\.\d{1,3})[ :)\]]+)?(.{0,300})")
_ADDRESS = re.compile(r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~.-]{1,64}@[A-Za-z0-9-]{1,63}(?:\.[A-Za-z0-9-]{1,63}){1,126}")
_QUOTED_ID = re.compile(r"(?im)^[> \t]*Message-ID:[ \t]*(<[^<>\s]{3,250}>)")
_AT_LINE_START = re.compile(rf"(?m)^[ \t*-]{{0,8}}<?({_ADDRESS.pattern})>?(?:[ \t]*[:;,(\[-]|[ \t]*$)")
_OWN = ("mailer-daemon@", "postmaster@")
_NAMES_FAILED = re.compile("failed.*recipient")  # of a field that some servers add
_IN_WORDS = {
    "failed": re.compile(
        r"(?i)\b(?:could|can|was|were|has|have|been)(?: ?not|n.t) (?:be(?:en)? )?deliver|\bundeliver|\bnot delivered"
        r"|\bdelivery (?:has )?(?:to .{0,80} )?fail|\bpermanent(?:ly)? (?:fail|error)"
        r"|\b(?:giv(?:en|ing)|gave) (?:it )?up"
    ),
    "delayed": re.compile(
        r"(?i)\bdelay|\bstill (?:be(?:ing)? )?(?:tr|in the queue|wait)|\bnot yet (?:been )?deliver"
        r"|\b(?:keep|continue)s? (?:on )?(?:to )?tr"
    ),
}


@dataclass(slots=True, kw_only=True)
class ReturnedFor:
    """A notice's result for one recipient. `said` is the reply that a server gave, `at_server` that server; `missing`
    names what RFC 3464 demands and the notice lacks."""

    recipient: str
    original: str = ""
    action: str = ""
    status: str = ""
    said: str = ""
    at_server: str = ""
    until: float | None = None
    missing: tuple[str, ...] = ()
    others: dict[str, str] = field(default_factory=dict)

    @property
    def code(self) -> int | None:
        """The reply's code, where the notice has one."""
        match = re.match(r"([245]\d\d)\b", self.said)
        return int(match[1]) if match else None

    @property
    def failed(self) -> bool:
        """Whether it is over for this recipient."""
        return self.action == "failed" or (not self.action and self.status.startswith("5"))


@dataclass(slots=True, kw_only=True)
class Returned:
    """A notice. `form` is `report` for the standards' form, `words` for free text; `hops` are those of the message it
    is about, the oldest last."""

    form: str
    id: str
    at: float | None
    reporter: str
    envelope_id: str = ""
    message_id: str = ""
    subject: str = ""
    recipients: list[ReturnedFor] = field(default_factory=list)
    hops: list[Hop] = field(default_factory=list)


def read_notice(content: bytes) -> Returned | None:
    """Parse a notice; None for any other message."""
    outer: dict[str, str] = {}
    for name, value in header_fields(content):
        outer.setdefault(name, value)
    results = list(mime_parts(content))
    status = next((part for part in results if part.kind in _STATUS_KINDS), None)
    notice = Returned(
        form="report" if status is not None else "words",
        id=outer.get("message-id", ""),
        at=parse_date(outer.get("date", "")).at,
        reporter=_address(outer.get("from", "")),
    )
    if status is not None:
        _read_status(notice, _decoded(status))
    else:
        _read_words(notice, outer, results)
    _read_original(notice, results)
    return notice if notice.recipients else None


_STATUS_KINDS = ("message/delivery-status", "message/global-delivery-status")
_ORIGINAL_KINDS = ("message/rfc822", "text/rfc822-headers", "message/global", "message/global-headers")


def _decoded(part: Part) -> bytes:
    """The text with LF for each CRLF, so that empty lines separate the groups."""
    return part.octets.replace(b"\r\n", b"\n")


def _read_status(notice: Returned, octets: bytes) -> None:
    """The groups: one of the message, then one for each recipient (RFC 3464 2.1)."""
    groups = [dict(reversed(header_fields(group))) for group in re.split(rb"(?:\n[ \t]*)+\n", octets.strip(b"\n"))]
    for group in filter(None, groups):
        if "final-recipient" in group or "original-recipient" in group or "action" in group:
            if len(notice.recipients) < MAX_RECIPIENTS:
                notice.recipients.append(_recipient(group))
        else:
            notice.reporter = _typed(group.get("reporting-mta", "")) or notice.reporter
            notice.envelope_id = group.get("original-envelope-id", notice.envelope_id)


_KNOWN = ("final-recipient", "original-recipient", "action", "status", "diagnostic-code", "remote-mta",
          "will-retry-until")  # fmt: skip


def _recipient(group: dict[str, str]) -> ReturnedFor:
    action, status = group.get("action", "").split("(")[0].strip().lower(), _STATUS.search(group.get("status", ""))
    final, original = (_mailbox(_typed(group.get(f"{which}-recipient", ""))) for which in ("final", "original"))
    missing = [name for name in ("Final-Recipient", "Action", "Status") if not group.get(name.lower(), "").strip()]
    if action and action not in ACTIONS:
        missing.append(f"Action known ({action})")
    return ReturnedFor(
        recipient=final or original,
        original=original,
        action=action if action in ACTIONS else "",
        status=status[0] if status else "",
        said=" ".join(_typed(group.get("diagnostic-code", "")).split()),
        at_server=_typed(group.get("remote-mta", "")),
        until=parse_date(group.get("will-retry-until", "")).at,
        missing=tuple(missing),
        others={name: value for name, value in group.items() if name not in _KNOWN},
    )


def _typed(value: str) -> str:
    """A value without its type, as in `rfc822; a@b.example`."""
    kind, mark, rest = value.partition(";")
    return rest.strip() if mark and re.fullmatch(r"[A-Za-z0-9_. -]+", kind) else value.strip()


def _mailbox(text: str) -> str:
    """An address as it is, also one that is not ASCII or written for those who have only that (RFC 6533 3)."""
    return re.sub(r"\\x\{([0-9A-Fa-f]{2,6})\}", _character, text.strip("<> "))


def _character(match: re.Match[str]) -> str:
    number = int(match[1], 16)
    return chr(number) if number < 0x110000 else match[0]


def _address(text: str) -> str:
    match = _ADDRESS.search(text)
    return match[0] if match else ""


# --- free text --------------------------------------------------------------------------------------------------------


def _read_words(notice: Returned, outer: dict[str, str], parts: Iterable[Part]) -> None:
    """A notice without a machine-readable part: only from a typical sender, and only if it names an outcome."""
    sender = _address(outer.get("from", "")).lower()
    if not sender.startswith(_OWN) and outer.get("return-path", "none").strip("<> "):
        return
    text = "\n".join(part.text for part in parts if part.kind == "text/plain")[:MAX_TEXT]
    own, quoted = _before_original(text)
    match = _QUOTED_ID.search(quoted)
    notice.message_id = match[1] if match else ""
    named = [item for name, value in outer.items() if _NAMES_FAILED.search(name) for item in _ADDRESS.findall(value)]
    sections = _sections(own) or [("", own)]
    usual = _action_in_words(f"{outer.get('subject', '')} {own}")
    for address, words in sections[:MAX_RECIPIENTS]:
        addresses = [address] if address else named or [_first_address(own)]
        told = [_told_in_words(item, words, usual) for item in dict.fromkeys(addresses) if item]
        notice.recipients += [item for item in told if item.action]
    if not notice.recipients:
        notice.recipients += [_told_in_words(item, "", usual or "failed") for item in dict.fromkeys(named)]


def _sections(text: str) -> list[tuple[str, str]]:
    """The addresses with which a line begins, each with the words from there to the next one."""
    starts = [match for match in _AT_LINE_START.finditer(text) if not match[1].lower().startswith(_OWN)]
    ends = [*(match.start() for match in starts[1:]), len(text)]
    return [(match[1], text[match.end() : end]) for match, end in zip(starts, ends, strict=bool(starts))]


def _first_address(text: str) -> str:
    return next((item for item in _ADDRESS.findall(text) if not item.lower().startswith(_OWN)), "")


def _told_in_words(address: str, words: str, usual: str) -> ReturnedFor:
    """The result that the words after an address state; `usual` is the action where they state none."""
    flat = " ".join(words.split())
    reply, status = _REPLY.search(flat), _STATUS.search(flat)
    code, enhanced, said = reply.groups("") if reply is not None else ("", "", flat[:MAX_REASON])
    enhanced = enhanced or (status[0] if status else "")
    kind = (code or enhanced)[:1]
    action = {"4": "delayed", "5": "failed"}.get(kind) or _action_in_words(flat) or usual
    return ReturnedFor(
        recipient=address,
        action=action,
        status=enhanced,
        said=" ".join(filter(None, (code, enhanced if code else "", said.strip(" )]")))),
        missing=("a form that is standard",),
    )


def _action_in_words(text: str) -> str:
    """The action that words state without a code; empty where they state none."""
    results = [(match.start(), action) for action, pattern in _IN_WORDS.items() if (match := pattern.search(text))]
    return min(results)[1] if results else ""


def _before_original(text: str) -> tuple[str, str]:
    """The words of the notice itself, and the message that it quotes, as far as that begins with a header."""
    match = re.search(r"(?im)^[> \t]*(?:Received|Return-Path|Message-ID|From|Date|Subject):[ \t]", text)
    return (text, "") if match is None else (text[: match.start()], text[match.start() :])


def _read_original(notice: Returned, parts: Iterable[Part]) -> None:
    """The message that it is about, by the header that came back."""
    part = next((part for part in parts if part.kind in _ORIGINAL_KINDS), None)
    if part is None:
        return
    for name, value in header_fields(part.octets):
        if name == "received":
            notice.hops.append(parse_received(value))
        elif name == "message-id":
            notice.message_id = notice.message_id or value
        elif name == "subject":
            notice.subject = notice.subject or decode_words(value)
