"""Header fields with octets over 127 in the form that every server takes (RFC 2047, RFC 2231, RFC 1428).

Text, display names, comments and parameters can be encoded; addresses and ids cannot: a header with one of those that
is not ASCII is for servers with SMTPUTF8 alone (RFC 6531).
"""

from __future__ import annotations

import base64
import re
from urllib.parse import quote

from copper_kite.mail.addresses import PIECE, comment_end
from copper_kite.mail.content_type import split_parameters
from copper_kite.mail.header import FOLD

__all__ = ["ascii_header", "charset_of", "encode_text"]

MAX_WORD = 75  # characters of one encoded word, RFC 2047 2
MAX_LINE = 76  # of a line with encoded words

_FIELD = re.compile(rb"([!-9;-~]+)([ \t]*:[ \t]*)((?:[^\r\n]++|\r\n[ \t])*+)\r\n")
_ADDRESSES = frozenset(
    {b"from", b"sender", b"reply-to", b"to", b"cc", b"bcc", b"resent-from", b"resent-sender", b"resent-reply-to",
     b"resent-to", b"resent-cc", b"resent-bcc", b"disposition-notification-to"}
)  # fmt: skip
_PARAMETERS = frozenset({b"content-type", b"content-disposition"})
# What these hold are ids, dates and marks, which mean something only as they are.
_FIXED = frozenset(
    {b"message-id", b"in-reply-to", b"references", b"resent-message-id", b"content-id", b"date", b"resent-date",
     b"received", b"return-path", b"mime-version", b"content-transfer-encoding", b"dkim-signature",
     b"authentication-results", b"arc-seal", b"arc-message-signature", b"arc-authentication-results"}
)  # fmt: skip
_PLAIN_Q = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!*+-/")  # in a phrase, 5 (3)
_QUOTED_PAIR = re.compile(r"\\(.)", re.S)


def charset_of(octets: bytes) -> str:
    """The charset label for text in `octets`: `utf-8` where it is valid, else `unknown-8bit` (RFC 1428 3)."""
    try:
        octets.decode("utf-8")
    except UnicodeDecodeError:
        return "unknown-8bit"
    return "utf-8"


def ascii_header(header: bytes) -> bytes | None:
    """The fields of a header, each with its CR LF, in ASCII; None where one of them cannot be."""
    if header.isascii():
        return header
    out, place = [], 0
    for field in _FIELD.finditer(header):
        if field.start() != place:
            return None  # a line that is no field
        place = field.end()
        made = field[0] if field[0].isascii() else _ascii_field(field[1], field[2], field[3])
        if made is None:
            return None
        out.append(made)
    return b"".join(out) if place == len(header) else None


def _ascii_field(name: bytes, colon: bytes, value: bytes) -> bytes | None:
    kind, octets = name.lower(), FOLD.sub(b"", value)
    begin = len(name) + len(colon)
    if kind in _FIXED:
        return None
    if kind in _ADDRESSES:
        made = _encode_phrases(octets.decode("utf-8", "surrogateescape"))
    elif kind in _PARAMETERS:
        made = _encode_parameters(octets)
    else:
        made = encode_text(octets, begin)
    return None if made is None else name + colon + made.encode("ascii") + b"\r\n"


def encode_text(octets: bytes, column: int = 0) -> str:
    """Text as encoded words, folded; `column` is how far the first line is filled already (RFC 2047 2)."""
    charset = charset_of(octets)
    units = list(octets.decode("utf-8")) if charset == "utf-8" else [bytes((octet,)) for octet in octets]
    in_q = sum(octet in _PLAIN_Q or octet == 32 for octet in octets) * 3 > len(octets) * 2
    words: list[str] = []
    piece, room = b"", max(MAX_LINE - column, 40)
    for unit in units:
        more = unit.encode("utf-8") if isinstance(unit, str) else unit
        if piece and len(_word(piece + more, charset, in_q=in_q)) > min(MAX_WORD, room):
            words.append(_word(piece, charset, in_q=in_q))
            piece, room = b"", MAX_LINE - 1
        piece += more
    words.append(_word(piece, charset, in_q=in_q))
    return "\r\n ".join(words)


def _word(octets: bytes, charset: str, *, in_q: bool) -> str:
    if not in_q:
        return f"=?{charset}?b?{base64.b64encode(octets).decode()}?="
    shown = "".join("_" if o == 32 else chr(o) if o in _PLAIN_Q else f"={o:02X}" for o in octets)
    return f"=?{charset}?q?{shown}?="


def _encode_phrases(text: str) -> str | None:
    """An address list whose names and comments are encoded where they must be; None where an address must be."""
    changes: list[tuple[int, int, str]] = []
    phrase: list[tuple[int, int]] = []
    at = 0
    while (piece := PIECE.search(text, at)) is not None:
        at = piece.end()
        if piece.lastgroup is None:
            at = comment_end(text, at)
            changes += _encoded_comment(text, piece.end(), at - 1)
        elif piece.lastgroup in ("word", "quoted"):
            phrase.append(piece.span())
        elif piece.lastgroup == "angle" or piece["mark"] == ":":  # what came before is a name
            if not piece[0].isascii():
                return None
            changes += _encoded_name(text, phrase)
            phrase = []
        elif all(text[first:last].isascii() for first, last in phrase):
            phrase = []
        else:
            return None  # an address without brackets
    out, place = [], 0
    for first, last, made in changes:
        if first < place:
            return None  # a comment in the middle of a name
        out += [text[place:first], made]
        place = last
    whole = "".join([*out, text[place:]])
    return whole if whole.isascii() else None


def _encoded_comment(text: str, first: int, last: int) -> list[tuple[int, int, str]]:
    comment = text[first:last]
    if comment.isascii():
        return []
    octets = _QUOTED_PAIR.sub(r"\1", comment).encode("utf-8", "surrogateescape")
    return [(first, last, encode_text(octets, 20))]


def _encoded_name(text: str, phrase: list[tuple[int, int]]) -> list[tuple[int, int, str]]:
    if all(text[first:last].isascii() for first, last in phrase):
        return []
    first, last = phrase[0][0], phrase[-1][1]
    blank = "" if text[last : last + 1].isspace() else " "
    return [(first, last, encode_text(_plain(text, phrase), 20) + blank)]


def _plain(text: str, phrase: list[tuple[int, int]]) -> bytes:
    """The words of a name as they are meant, quotes taken off, one blank between them."""
    words = [text[first:last] for first, last in phrase]
    plain = [_QUOTED_PAIR.sub(r"\1", word[1:].removesuffix('"')) if word.startswith('"') else word for word in words]
    return " ".join(plain).encode("utf-8", "surrogateescape")


def _encode_parameters(octets: bytes) -> str | None:
    """A value with parameters, those that are not ASCII as RFC 2231 4 has them."""
    if charset_of(octets) != "utf-8":
        return None
    kind, parameters = split_parameters(octets.decode("utf-8"))
    if not kind.isascii() or not "".join(parameters).isascii():
        return None
    out = [kind]
    for name, value in parameters.items():
        if value.isascii():
            escaped = value.replace("\\", "\\\\").replace('"', '\\"')
            out.append(f'{name}="{escaped}"')
        else:
            out.append(f"{name}*=utf-8''{quote(value, safe='')}")
    return ";\r\n ".join(out)
