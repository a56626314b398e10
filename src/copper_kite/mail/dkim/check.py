"""Check the DKIM signatures of a message, and say what broke one (RFC 6376 6, RFC 8463, RFC 8301)."""

from __future__ import annotations

import binascii
import hashlib
import re
from base64 import b64decode
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from copper_kite.mail.dkim.canonical import BodyDigest, canonical_field, field_name, split_fields
from copper_kite.mail.dkim.keys import LEAST_RSA_BITS, KeyUnusable, PublishedKey, parse_key_record
from copper_kite.mail.dkim.tags import BadTags, parse_tags

__all__ = ["Signature", "SignatureResult", "SignedMessage", "check_signature", "parse_signatures"]

MAX_SIGNATURES = 20  # looked at in one message
CRLF = b"\r\n"
MAX_ADDED = 400  # lines at the end of a body that are tried as something added
MAX_HASHED = 256 * 1024 * 1024  # octets hashed altogether to find what changed a body
CLOCK_SKEW = 300.0  # seconds by which a signature may be from the future
_B = re.compile(rb"(?P<tag>(?:^|;)[ \t\r\n]*b[ \t\r\n]*=)[^;]*")
_BLANKS = re.compile(r"\s+")
_PREFIX = re.compile(rb"^([^:]*:[ \t]*)\[[^\]\r\n]{1,60}\][ \t]*", re.I)
_ALGORITHMS = {"rsa-sha256": "rsa", "ed25519-sha256": "ed25519"}


class SignedMessage:
    """A message with its parts as signatures cover them; its line ends are CRLF."""

    def __init__(self, content: bytes) -> None:
        end = content.find(b"\r\n\r\n")
        self.fields = split_fields(content if end < 0 else content[: end + 2])
        self.body = b"" if end < 0 else content[end + 4 :]

    def digest(self, *, relaxed: bool, limit: int | None, body: bytes | None = None) -> tuple[bytes, int]:
        """The digest of the body in base64, and the octets of its whole canonical form, whatever the limit."""
        digest = BodyDigest(relaxed=relaxed, limit=limit)
        digest.update(self.body if body is None else body)
        return digest.value(), digest.octets


@dataclass(frozen=True)
class Signature:
    """One DKIM-Signature field. `problem` says why it cannot be checked at all (RFC 6376 6.1.1)."""

    field: bytes
    tags: dict[str, str]
    problem: str = ""

    @property
    def domain(self) -> str:
        """The signing domain (`d=`)."""
        return self.tags.get("d", "").lower()

    @property
    def selector(self) -> str:
        """The selector of its key (`s=`)."""
        return self.tags.get("s", "")

    @property
    def key_name(self) -> str:
        """The name in DNS at which its key is published (RFC 6376 3.6.2.1)."""
        return f"{self.selector}._domainkey.{self.domain}"

    @cached_property
    def names(self) -> list[bytes]:
        """The fields it covers, in lower case (`h=`)."""
        return [name.strip().lower().encode() for name in self.tags.get("h", "").split(":")]

    @property
    def forms(self) -> tuple[bool, bool]:
        """Whether header and body are relaxed (`c=`)."""
        header, _, body = self.tags.get("c", "simple/simple").partition("/")
        return header == "relaxed", (body or "simple") == "relaxed"

    @property
    def limit(self) -> int | None:
        """The number of octets of the body that it covers (`l=`)."""
        return int(self.tags["l"]) if "l" in self.tags else None


class SignatureResult(NamedTuple):
    """The result of a signature: `pass`, `fail`, `permerror`, `temperror` or `policy` (RFC 8601 2.7.1).

    `why` says what is wrong, `changed` which part of the message it is, as far as that can be found out.
    """

    signature: Signature
    result: str
    why: str = ""
    changed: str = ""
    testing: bool = False
    bits: int = 0


def parse_signatures(message: SignedMessage) -> list[Signature]:
    """The signatures of a message, the newest first."""
    results = [field for field in message.fields if field_name(field) == b"dkim-signature"]
    return [_parse(field) for field in results[:MAX_SIGNATURES]]


def _parse(field: bytes) -> Signature:
    try:
        tags = parse_tags(field.partition(b":")[2].replace(b"\r\n", b"").decode("utf-8", "replace"))
    except BadTags as error:
        return Signature(field, {}, f"it cannot be read: {error}")
    return Signature(field, tags, _why_unusable(tags))


def _why_unusable(tags: dict[str, str]) -> str:
    missing = [tag for tag in ("v", "a", "b", "bh", "d", "h", "s") if not tags.get(tag)]
    if missing:
        return f"it has no {missing[0]}="
    if tags["v"] != "1":
        return f"its version {tags['v'][:20]!r} is not known"
    if tags["a"] not in _ALGORITHMS:
        old = " and no longer valid (RFC 8301)" if tags["a"] == "rsa-sha1" else ""
        return f"its algorithm {tags['a'][:40]!r} is not supported{old}"
    if "from" not in [name.strip().lower() for name in tags["h"].split(":")]:
        return "it does not cover From"
    forms = tags.get("c", "simple/simple").split("/")
    if len(forms) > 2 or not {*forms} <= {"simple", "relaxed"}:
        return f"its canonicalization {tags['c'][:40]!r} is not known"
    if any(not tags[tag].isdecimal() or len(tags[tag]) > 20 for tag in ("l", "t", "x") if tag in tags):
        return "one of its numbers (l=, t=, x=) is invalid"
    identity = tags.get("i", "@" + tags["d"]).rpartition("@")[2].lower()
    if identity != tags["d"].lower() and not identity.endswith("." + tags["d"].lower()):
        return "its identity (i=) is not of its domain (d=)"
    return ""


def check_signature(
    message: SignedMessage, signature: Signature, records: Sequence[str], now: float
) -> SignatureResult:
    """The result of one signature with the `records` at its `key_name`; `now` in seconds since 1970."""

    def end(result: str, why: str) -> SignatureResult:
        return SignatureResult(signature, result, why)

    if signature.problem:
        return end("permerror", signature.problem)
    if "x" in signature.tags and now > int(signature.tags["x"]):
        return end("fail", "it has expired (x=)")
    if int(signature.tags.get("t", "0")) > now + CLOCK_SKEW:
        return end("fail", "it is from the future (t=): one of the two clocks is wrong")
    keys, problem = _usable_keys(signature, records)
    if not keys:
        return end("permerror", problem)
    try:
        results = [_check_by_key(message, signature, key) for key in keys]
    except KeyUnusable as error:
        return end("permerror", str(error))
    return next((result for result in results if result.result == "pass"), results[0])


def _usable_keys(signature: Signature, records: Sequence[str]) -> tuple[list[PublishedKey], str]:
    """The published keys that may have made it, or why there is none (RFC 6376 6.1.2)."""
    if not records:
        return [], f"no key is published at {signature.key_name}"
    keys, problem = [], ""
    for text in records:
        try:
            key = parse_key_record(text)
        except KeyUnusable as error:
            problem = str(error)
            continue
        problem = problem or _why_not_with(key, signature)
        if not _why_not_with(key, signature):
            keys.append(key)
    return keys, problem


def _why_not_with(key: PublishedKey, signature: Signature) -> str:
    if key.revoked:
        return "its key is revoked (p= is empty)"
    if key.kind != _ALGORITHMS[signature.tags["a"]]:
        return f"the published key is of kind {key.kind}, and the signature is {signature.tags['a']}"
    if key.hashes and "sha256" not in key.hashes:
        return "the published key is not for SHA-256 (h=)"
    if not {"*", "email"} & {*key.services}:
        return "the published key is not for mail (s=)"
    identity = signature.tags.get("i", "@" + signature.domain).rpartition("@")[2].lower()
    if key.strict_identity and identity != signature.domain:
        return "its key forbids an identity of a subdomain (t=s)"
    return ""


def _check_by_key(message: SignedMessage, signature: Signature, key: PublishedKey) -> SignatureResult:
    if key.kind == "rsa" and key.bits < LEAST_RSA_BITS:
        why = f"its key has {key.bits} bits, and keys under {LEAST_RSA_BITS} do not count (RFC 8301)"
        return SignatureResult(signature, "policy", why, "", key.testing, key.bits)
    wanted = _BLANKS.sub("", signature.tags["bh"]).encode()
    relaxed = signature.forms[1]
    digest, octets = message.digest(relaxed=relaxed, limit=signature.limit)
    whole = _Verifier(signature, key)
    header_holds = whole.holds(message.fields)
    if digest != wanted or (signature.limit or 0) > octets:
        why = "the body is not the one that was signed"
        return SignatureResult(signature, "fail", why, _body_change(message, signature, wanted), key.testing, key.bits)
    if not header_holds:
        why = "the header is not the one that was signed, or another key signed it"
        changed = _header_change(message, signature, whole)
        return SignatureResult(signature, "fail", why, changed, key.testing, key.bits)
    short = signature.limit is not None and signature.limit < octets
    why = f"only the first {signature.limit} octets of the body are signed (l=): anybody may have added the rest"
    return SignatureResult(signature, "pass", why if short else "", "", key.testing, key.bits)


class _Verifier:
    """Tries headers against one signature and one key."""

    def __init__(self, signature: Signature, key: PublishedKey) -> None:
        self._signature = signature
        self._public = key.public()
        self._kind = key.kind
        self._relaxed = signature.forms[0]
        name, _, value = signature.field.partition(b":")
        emptied = name + b":" + _B.sub(rb"\g<tag>", value, count=1)
        self._own = canonical_field(emptied, relaxed=self._relaxed)
        try:
            self._value = b64decode(_BLANKS.sub("", signature.tags["b"]), validate=True)
        except (binascii.Error, ValueError):
            self._value = b""

    def holds(self, fields: Iterable[bytes]) -> bool:
        """Whether the signature is over these fields of a header (RFC 6376 3.7, 5.4.2: the last of a name first)."""
        there: dict[bytes, list[bytes]] = {}
        for field in fields:
            there.setdefault(field_name(field), []).append(field)
        signed = []
        for name in self._signature.names:
            matches = there.get(name)
            if matches:
                signed.append(canonical_field(matches.pop(), relaxed=self._relaxed) + b"\r\n")
        return self._verifies(b"".join([*signed, self._own]))

    def _verifies(self, signed: bytes) -> bool:
        from cryptography.exceptions import InvalidSignature
        from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
        from cryptography.hazmat.primitives.hashes import SHA256

        try:
            if self._kind == "ed25519":
                self._public.verify(self._value, hashlib.sha256(signed).digest())  # type: ignore[call-arg]
            else:
                self._public.verify(self._value, signed, PKCS1v15(), SHA256())  # type: ignore[call-arg]
        except (InvalidSignature, ValueError):
            return False
        return True


def _header_change(message: SignedMessage, signature: Signature, verifier: _Verifier) -> str:
    """The single change of the header that explains the failure; empty where none does."""
    for words, fields in _header_guesses(message.fields, {*signature.names}):
        if verifier.holds(fields):
            return words
    return ""


def _header_guesses(fields: list[bytes], covered: set[bytes]) -> Iterator[tuple[str, list[bytes]]]:
    for place, field in enumerate(fields):
        name = field_name(field)
        if name not in covered:
            continue
        shown = name.decode("ascii", "replace")
        before, after = fields[:place], fields[place + 1 :]
        yield f"a field {shown} was added", [*before, *after]
        bare = _PREFIX.sub(rb"\1", field)
        if bare != field:
            yield f"words in brackets were put before the {shown}", [*before, bare, *after]
        unfolded = canonical_field(field, relaxed=True)
        written = field.partition(b":")[0] + b": " + unfolded.partition(b":")[2]
        if written != field:
            yield f"the blanks or folds in {shown} were changed", [*before, written, *after]
        if b'"' in field:
            yield f"quotation marks were added to {shown}", [*before, field.replace(b'"', b""), *after]
    for name in (b"reply-to", b"from"):
        kept = next((field for field in fields if field_name(field) in (b"x-original-" + name, b"x-" + name)), None)
        if kept is not None and name in covered:
            restored = name + b":" + kept.partition(b":")[2]
            others = [field for field in fields if field_name(field) != name]
            yield f"{name.decode()} was rewritten; the one before is kept in another field", [*others, restored]


def _body_change(message: SignedMessage, signature: Signature, wanted: bytes) -> str:
    """The change of the body that explains its digest; empty where none that is tried does."""
    relaxed = signature.forms[1]

    def fits(body: bytes) -> bool:
        return message.digest(relaxed=relaxed, limit=signature.limit, body=body)[0] == wanted

    lines = message.body.split(b"\r\n")
    tries = MAX_HASHED // (len(message.body) + 1)
    for added in range(1, min(MAX_ADDED, len(lines), tries)):
        if fits(b"\r\n".join(lines[:-added]) + b"\r\n"):
            return f"{_lines_added(added - message.body.endswith(CRLF))} at the end of the body"
    for added in range(1, min(20, len(lines), tries)):
        if fits(b"\r\n".join(lines[added:])):
            return f"{_lines_added(added)} at the beginning of the body"
    if fits(b""):
        return "the body was added: none was signed"
    if not relaxed and fits(re.sub(rb"[ \t]+(?=\r\n)", b"", message.body)):
        return "blanks at the ends of lines were added"
    decoded = _decoded(message)
    if decoded is not None and fits(decoded):
        return "the body was encoded again on its way (its Content-Transfer-Encoding was changed)"
    return ""


def _decoded(message: SignedMessage) -> bytes | None:
    """The body of a single part as it was before somebody encoded it."""
    import quopri

    how = next((field for field in message.fields if field_name(field) == b"content-transfer-encoding"), b"")
    word = how.partition(b":")[2].strip().lower()
    if word == b"quoted-printable":
        return quopri.decodestring(message.body)
    if word == b"base64":
        try:
            return b64decode(message.body)
        except (binascii.Error, ValueError):
            return None
    return None


def _lines_added(number: int) -> str:
    return "a line was added" if number == 1 else f"{number} lines were added"
