"""Messages as programs make them and SMTP does not carry them: long lines, NUL, in every kind of part."""

from __future__ import annotations

from collections.abc import Iterator

__all__ = ["corpus"]

LONG = b"word " * 800 + b"end"  # with blanks, and without
SOLID = b"x" * 2500
UTF8 = "Füße über dem Pier, größer als sonst. ".encode() * 40
LATIN = "Füße über dem Pier. ".encode("latin-1") * 80
BINARY = bytes(range(1, 10)) + bytes(range(14, 256)) * 6  # without CR, LF and NUL
HEADER = b"From: rota@ternferries.example\r\nTo: ana@passenger.example\r\nSubject: the tide\r\n"
MIME = b"MIME-Version: 1.0\r\n"

BODIES = {
    "blanks": LONG,
    "solid": SOLID,
    "utf-8": UTF8,
    "latin": LATIN,
    "NUL": b"a\0b\0" * 20 + b"c",
    "trailing blanks": LONG + b"  \t",
    "equals": b"a=b=" * 400,
    "several": LONG + b"\r\nshort\r\n\r\n" + SOLID + b"\r\n.\r\n..dots",
}
TEXTS = {
    "plain": (b"Content-Type: text/plain\r\n", ("blanks", "solid", "NUL", "several", "trailing blanks")),
    "ascii": (
        b"Content-Type: text/plain; charset=us-ascii\r\nContent-Transfer-Encoding: 7bit\r\n",
        ("equals", "several"),
    ),
    "utf-8": (b"Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n", ("utf-8", "several")),
    "latin": (b"Content-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: 8bit\r\n", ("latin",)),
    "odd": (b"Content-Type: text/plain; charset=x-unknown-harbour\r\n", ("latin", "solid")),
    "html": (b'Content-Type: text/html; charset="utf-8"\r\n', ("blanks", "utf-8", "solid")),
    "octets": (b"Content-Type: application/octet-stream; name=a.bin\r\n", ("solid", "NUL", "latin")),
    "json": (b"Content-Type: application/json\r\n", ("blanks", "utf-8")),
    "csv": (b"Content-Disposition: attachment; filename=a.csv\r\nContent-Type: text/csv\r\n", ("blanks", "equals")),
    "binary": (b"Content-Type: image/png\r\nContent-Transfer-Encoding: binary\r\n", ("solid", "latin")),
}


def corpus() -> Iterator[tuple[str, bytes, bool]]:
    """A name, the message, and whether it can be mended at all."""
    for name in ("blanks", "solid", "utf-8", "latin", "NUL", "several"):
        yield f"no MIME, {name}", HEADER + b"\r\n" + BODIES[name] + b"\r\n", True
    parts = []
    for kind, (header, bodies) in TEXTS.items():
        for name in bodies:
            parts.append((f"{kind}, {name}", header + b"\r\n" + BODIES[name] + b"\r\n"))
            yield f"{kind}, {name}", HEADER + MIME + parts[-1][1], True
    for kind in ("mixed", "alternative", "related"):
        for number in range(0, len(parts) - 2, 3):
            some = [part for _, part in parts[number : number + 3]]
            yield f"{kind} {number}", HEADER + MIME + multipart(kind, b"b0", some), True
    inner = multipart("alternative", b"inner", [parts[0][1], parts[12][1]])
    yield "nested", HEADER + MIME + multipart("mixed", b"outer", [inner, parts[16][1]]), True
    deep = inner
    for number in range(6):
        deep = multipart("mixed", b"d%d" % number, [deep])
    yield "deep", HEADER + MIME + deep, True
    preamble = multipart("mixed", b"b", [parts[0][1]]).replace(b"\r\n\r\n--b", b"\r\n\r\n" + SOLID + b"\r\n--b", 1)
    yield "long preamble", HEADER + MIME + preamble, True
    base64 = b"Content-Type: image/gif\r\nContent-Transfer-Encoding: base64\r\n\r\n" + b"QUJDREVG" * 400 + b"\r\n"
    yield "base64 in one line", HEADER + MIME + base64, True
    quoted = (
        b"Content-Type: text/plain\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n" + b"=41b=0A" * 300 + b"\r\n"
    )
    yield "quoted-printable in one line", HEADER + MIME + quoted, True
    yield (
        "long To",
        HEADER + b"Cc: " + b", ".join(b"r%d@passenger.example" % n for n in range(80)) + b"\r\n\r\nx\r\n",
        True,
    )
    yield "long Subject", HEADER.replace(b"the tide", LONG) + b"\r\nx\r\n", True
    # What any change breaks, and what cannot be folded:
    signed = [parts[0][1], b"Content-Type: application/pgp-signature\r\n\r\nsignature\r\n"]
    yield "signed", HEADER + MIME + multipart("signed", b"s", signed), False
    yield "signed within", HEADER + MIME + multipart("mixed", b"m", [multipart("signed", b"s", signed)]), False
    encrypted = [b"Content-Type: application/pgp-encrypted\r\n\r\nVersion: 1\r\n", parts[0][1]]
    yield "encrypted", HEADER + MIME + multipart("encrypted", b"e", encrypted), False
    forwarded = b"Content-Type: message/rfc822\r\n\r\n" + HEADER + b"\r\n" + LONG + b"\r\n"
    yield "forwarded", HEADER + MIME + forwarded, False
    yield "solid header", HEADER + b"X-Token: " + SOLID + b"\r\n\r\nx\r\n", False


def multipart(kind: str, boundary: bytes, parts: list[bytes]) -> bytes:
    """Parts between boundaries."""
    head = f"Content-Type: multipart/{kind}; boundary=".encode() + boundary + b"\r\n\r\n"
    inner = b"".join(b"--" + boundary + b"\r\n" + part.removesuffix(b"\r\n") + b"\r\n" for part in parts)
    return head + inner + b"--" + boundary + b"--\r\n"
