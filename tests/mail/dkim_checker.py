"""A second reading of RFC 6376 and RFC 8463, which shares no code with the product: `openssl` checks the signatures."""

import base64
import hashlib
import re
import subprocess
import tempfile
from pathlib import Path


def _relaxed_body(body: bytes) -> bytes:
    lines = [re.sub(rb"[ \t]+", b" ", line).rstrip(b" ") for line in body.split(b"\r\n")]
    while lines and not lines[-1]:
        lines.pop()
    return b"".join(line + b"\r\n" for line in lines)


def _simple_body(body: bytes) -> bytes:
    while body.endswith(b"\r\n\r\n"):
        body = body[:-2]
    return body if body.endswith(b"\r\n") and body != b"\r\n" else body.removesuffix(b"\r\n") + b"\r\n"


def _relaxed_header(name: bytes, value: bytes) -> bytes:
    return name.lower().strip() + b":" + re.sub(rb"\s+", b" ", value).strip()


def _openssl(key: bytes, kind: str, signature: bytes, signed: bytes) -> bool:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if kind == "ed25519":  # RFC 8410: what stands before the 32 octets in SubjectPublicKeyInfo
            key = bytes.fromhex("302a300506032b6570032100") + key
            signed = hashlib.sha256(signed).digest()
        for file, content in (("key.der", key), ("signature", signature), ("signed", signed)):
            (folder / file).write_bytes(content)
        subprocess.run(
            ["openssl", "pkey", "-pubin", "-inform", "DER", "-in", "key.der", "-out", "key.pem"], cwd=folder, check=True
        )
        words = ["openssl", "dgst", "-sha256", "-verify", "key.pem", "-signature", "signature", "signed"]
        if kind == "ed25519":
            words = ["openssl", "pkeyutl", "-verify", "-pubin", "-inkey", "key.pem", "-rawin", "-in", "signed"]
            words += ["-sigfile", "signature"]
        return subprocess.run(words, cwd=folder, capture_output=True).returncode == 0


def check(message: bytes, records: dict[str, str]) -> list[str]:
    """For each DKIM-Signature of a message, from above, `SELECTOR pass` or what does not fit."""
    head, _, body = message.partition(b"\r\n\r\n")
    fields = [tuple(field.split(b":", 1)) for field in re.split(rb"\r\n(?![ \t])", head)]
    return [
        _one(fields, name, value, body, records) for name, value in fields if name.lower().strip() == b"dkim-signature"
    ]


def _one(fields: list, name: bytes, value: bytes, body: bytes, records: dict[str, str]) -> str:
    tags = dict(re.findall(r"\s*(\w+)\s*=\s*([^;]*)", value.decode()))
    tags = {key: re.sub(r"\s+", "", text) for key, text in tags.items()}
    record = dict(re.findall(r"\s*(\w+)\s*=\s*([^;]*)", records[f"{tags['s']}._domainkey.{tags['d']}"]))
    header_form, _, body_form = tags.get("c", "simple/simple").partition("/")
    canonical = _relaxed_body(body) if body_form == "relaxed" else _simple_body(body)
    if base64.b64encode(hashlib.sha256(canonical).digest()).decode() != tags["bh"]:
        return f"{tags['s']} body"
    signed, left = [], list(fields)
    for wanted in tags["h"].lower().split(":"):
        place = next((n for n in range(len(left) - 1, -1, -1) if left[n][0].decode().lower().strip() == wanted), None)
        if place is None:
            continue
        key, content = left.pop(place)
        signed.append(_relaxed_header(key, content) if header_form == "relaxed" else key + b":" + content)
    emptied = re.sub(rb"(;\s*b\s*=)[^;]*", rb"\1", value)
    signed.append(_relaxed_header(name, emptied) if header_form == "relaxed" else name + b":" + emptied)
    kind = record.get("k", "rsa").strip()
    good = _openssl(
        base64.b64decode(re.sub(r"\s+", "", record["p"])), kind, base64.b64decode(tags["b"]), b"\r\n".join(signed)
    )
    return f"{tags['s']} {'pass' if good else 'signature'}"
