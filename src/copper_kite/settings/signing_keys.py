"""The keys that `[[signing]]` names."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from copper_kite.mail import KeyUnusable, SigningKey, read_signing_key
from copper_kite.settings.load import Loaded, secret_file
from copper_kite.settings.signing import Signing

if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["key_of", "unusable_keys"]


def key_of(config: Path, entry: Signing) -> SigningKey:
    """The private key of an entry of the configuration in `config`. Raises KeyUnusable, which names the file."""
    file = secret_file(config, entry.key)
    try:
        return read_signing_key(file)
    except KeyUnusable as error:
        raise KeyUnusable(f"the key {file} of {entry.record_name} cannot be used: {error}") from error


def unusable_keys(loaded: Loaded) -> Iterator[tuple[int, str]]:
    """The entries that are to sign and cannot, by their number, each with what is wrong."""
    for number, entry in enumerate(loaded.settings.signing):
        if entry.use != "past":
            try:
                key_of(loaded.path, entry)
            except KeyUnusable as error:
                yield number, str(error)
