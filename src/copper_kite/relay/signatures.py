"""The keys that mail leaves signed with (RFC 6376): read when they are first needed, by the domain of From."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from copper_kite.mail import SIGNED_FIELDS, KeyUnusable, Signer, split_fields
from copper_kite.settings import Loaded, Signing, key_of, signing_domain

__all__ = ["SignatureFields", "Signatures", "SigningFailed"]

THREADS = 2
AGAIN_SECONDS = 5.0  # after which a file that could not be read is looked at again


class SigningFailed(Exception):
    """A key that must sign cannot be used: the message says which one, and why."""


class SignatureFields(NamedTuple):
    """Fields on their way: who signs, their size, what gives them, and with keys that take long when that need not
    wait."""

    signed: str
    size: int
    octets: Callable[[], bytes]
    ready: Future[bytes] | None = None


class Signatures:
    """Makes signatures. `now` gives seconds since 1970."""

    def __init__(self, now: Callable[[], float]) -> None:
        self._now = now
        self._entries: dict[str, list[Signing]] = {}
        self._config = Path()
        self._signers: dict[str, list[Signer]] = {}
        self._failed: dict[str, tuple[float, str]] = {}
        self._threads: ThreadPoolExecutor | None = None  # RSA takes a quarter of a millisecond, and needs no lock

    def take_up(self, loaded: Loaded) -> bool:
        """Use the keys of a configuration; whether they are others than before, or had been unusable."""
        entries: dict[str, list[Signing]] = {}
        for entry in loaded.settings.signing:
            if entry.use == "sign":
                entries.setdefault(entry.domain, []).append(entry)
        changed = entries != self._entries or loaded.path != self._config or bool(self._failed)
        self._entries, self._config = entries, loaded.path
        self._signers, self._failed = {}, {}  # a key may have been put into its file anew
        return changed

    def signers(self, domain: str) -> Sequence[Signer]:
        """The signers for mail from `domain`, with its own keys or those of the nearest domain above it; none where it
        has none. Raises SigningFailed where one of them cannot be used."""
        if not self._entries:
            return ()
        owner = signing_domain(domain.lower().rstrip("."), self._entries)
        if not owner:
            return ()
        signers = self._signers.get(owner)
        return signers if signers is not None else self._read(owner)

    def sign(self, signers: Sequence[Signer], header: bytes, body_digest: bytes) -> SignatureFields:
        """The fields to put before a header."""
        now, fields = self._now(), split_fields(header)
        unsigned = [signer.prepare(fields, body_digest, now) for signer in signers]
        signed = f"{signers[0].domain} ({', '.join([signer.selector for signer in signers])})"
        size = sum([item.size for item in unsigned])
        if not any(signer.key.kind == "rsa" for signer in signers):
            made = b"".join([item.field() for item in unsigned])
            return SignatureFields(signed, size, lambda: made)
        if self._threads is None:
            self._threads = ThreadPoolExecutor(THREADS, "signing")
        future = self._threads.submit(lambda: b"".join([item.field() for item in unsigned]))
        return SignatureFields(signed, size, future.result, future)

    def _read(self, owner: str) -> list[Signer]:
        failed_at, text = self._failed.get(owner, (0.0, ""))
        if text and abs(self._now() - failed_at) < AGAIN_SECONDS:
            raise SigningFailed(text)
        try:
            signers = [self._signer(entry) for entry in self._entries[owner]]
        except SigningFailed as error:
            self._failed[owner] = self._now(), str(error)
            raise
        self._failed.pop(owner, None)
        self._signers[owner] = signers
        return signers

    def _signer(self, entry: Signing) -> Signer:
        try:
            key = key_of(self._config, entry)
        except KeyUnusable as error:
            raise SigningFailed(str(error)) from error
        return Signer(entry.domain, entry.selector, key, tuple(entry.headers) or SIGNED_FIELDS, entry.expires)
