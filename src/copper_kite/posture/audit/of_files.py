"""Weaknesses in files: modes, certificates, keys, backups."""

from __future__ import annotations

import stat
from collections.abc import Iterator
from pathlib import Path

from copper_kite.mail import GOOD_RSA_BITS, KeyUnusable
from copper_kite.net import certificate_end
from copper_kite.posture.audit.weakness import Weakness, kite
from copper_kite.settings import Loaded, key_of

__all__ = ["backup", "certificates", "keys", "modes"]

SOON = 21 * 86400.0  # before a certificate ends
OLD_BACKUP = 8 * 86400.0


def modes(loaded: Loaded) -> Iterator[Weakness]:
    """Files that others on this machine can read, and need not."""
    base, settings = loaded.path.parent, loaded.settings
    private = [base / settings.server.credentials, base / "accounts.toml"]
    private += [base / entry.key for entry in settings.listener if entry.key]
    private += [base / entry.key for entry in settings.connector if entry.key]
    private += [base / entry.key for entry in settings.signing]
    if settings.log.to.startswith("file:"):
        private.append(base / settings.log.to.removeprefix("file:"))
    for file in dict.fromkeys(private):
        mode = _mode(file)
        if mode is not None and mode & 0o007:
            text = f"{file} has the mode {mode:04o}"
            yield Weakness("readable-file", str(file), text, f"chmod o= {file}", True)
    mode = _mode(loaded.data)
    if mode is not None and mode & 0o006:
        text = f"{loaded.data} has the mode {mode:04o}"
        yield Weakness("readable-file", str(loaded.data), text, f"chmod 711 {loaded.data}", True)


def _mode(file: Path) -> int | None:
    try:
        return stat.S_IMODE(file.stat().st_mode)
    except OSError:
        return None


def certificates(loaded: Loaded, now: float) -> Iterator[Weakness]:
    """Our own certificates that end soon. `now` in seconds since 1970."""
    settings = loaded.settings
    listeners = [("listener", entry.name, entry.certificate) for entry in settings.listener if entry.enabled]
    connectors = [("connector", entry.name, entry.certificate) for entry in settings.connector if entry.enabled]
    for kind, name, certificate in (*listeners, *connectors):
        if certificate is None:
            continue
        end = certificate_end(loaded.path.parent / certificate)
        if end is not None and end - now < SOON:  # one that cannot be read is a finding of `kite check`
            left = (end - now) / 86400
            text = f"the certificate of {name} {f'ends in {left:.0f} days' if left > 0 else 'has ended'}"
            advice = "put a renewed certificate into its place first"
            yield Weakness("certificate-ends", name, text, kite(kind, "show", name), advice=advice)


def keys(loaded: Loaded) -> Iterator[Weakness]:
    """Keys to sign with that are short."""
    for entry in loaded.settings.signing:
        if entry.use != "sign":
            continue
        try:
            key = key_of(loaded.path, entry)
        except KeyUnusable:
            continue  # `kite check` says so
        if key.kind == "rsa" and key.bits < GOOD_RSA_BITS:
            rotate = kite("signing", "rotate", entry.domain)
            cure = f"{rotate} && {rotate} --unpublished"
            text = f"the key {entry.record_name} has {key.bits} bits"
            advice = "better in two steps, with the new record published between them"
            yield Weakness("short-key", entry.record_name, text, cure, advice=advice)


def backup(loaded: Loaded, now: float) -> Iterator[Weakness]:
    """Whether there is a copy of the queue, and how old it is. `now` in seconds since 1970."""
    place, data = loaded.settings.server.backup, loaded.data.absolute()
    if not place:
        copy = f"{data}.backup"
        cure = f"cp -a {data} {copy} && {kite('config', 'set', 'server', f'backup={copy}')}"
        advice = "on another disk, and each day, while the server is stopped: kite help backup"
        yield Weakness("no-backup", "", "no backup of the queue is configured", cure, advice=advice)
        return
    folder = loaded.path.parent / place
    try:
        newest = max(item.stat().st_mtime for item in (folder, *folder.iterdir()))
    except OSError:
        newest = 0.0
    if now - newest > OLD_BACKUP:
        age = f"is {(now - newest) / 86400:.0f} days old" if newest else "cannot be found"
        cure = f"rm -rf {folder} && cp -a {data} {folder} && touch {folder}"
        yield Weakness("old-backup", "", f"the backup of the queue in {folder} {age}", cure, advice="kite help backup")
