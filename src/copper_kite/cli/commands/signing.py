"""`kite signing`."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from copper_kite.cli.output.domain_output import GRADE_COLOURS, print_records
from copper_kite.cli.output.show import echo, print_json, print_table, say
from copper_kite.cli.shared.editing import change, handed_over
from copper_kite.cli.shared.options import checked_domain, json_option, load_settings, lookups_of
from copper_kite.errors import InputError
from copper_kite.mail import SIGNING_KINDS

if TYPE_CHECKING:
    from copper_kite.posture import Line
    from copper_kite.settings import Document, Loaded, Signing

__all__ = ["signing"]

FOLDER = "keys"  # beside the configuration
STILL_NEEDED = 7 * 86400.0  # seconds for which mail signed by a key that is past may be on its way, at least
SECONDS = 5.0  # for each answer of the resolver
HAND_OVER = (
    "the running server has its keys from systemd, which hands these over by\n"
    "  kite service --install && systemctl daemon-reload && systemctl restart copper-kite"
)


@click.group()
def signing() -> None:
    """Manage the keys that mail is signed with (DKIM)."""


@signing.command("list")
@json_option
@click.pass_obj
def list_keys(config: str | None, as_json: bool) -> None:
    """List all keys with their selectors, and how each is used."""
    loaded = load_settings(config)
    rows = [_key_row(loaded, entry) for entry in loaded.settings.signing]
    if as_json:
        print_json(rows)
        return
    print_table(
        ("domain", "selector", "kind", "use", "since", "key"),
        [
            (*(row[key] or "" for key in ("domain", "selector", "kind", "use", "since")), row["problem"] or row["key"])
            for row in rows
        ],
        wraps=True,
    )
    unsigned = [entry.name for entry in loaded.settings.connector if entry.enabled and entry.sign is False]
    if unsigned:
        echo(f"unsigned on purpose (sign = false): mail through {', '.join(unsigned)}")
    for entry in loaded.settings.signing:
        if entry.use == "past" and _is_out(loaded, entry):
            echo(f"no mail needs it any longer: kite signing remove {entry.domain} {entry.selector}")


def _key_row(loaded: Loaded, entry: Signing) -> dict[str, Any]:
    from copper_kite.mail import KeyUnusable
    from copper_kite.settings import key_of

    kind, problem = None, None
    try:
        key = key_of(loaded.path, entry)
        kind = key.kind if key.kind == "ed25519" else f"rsa {key.bits}"
    except KeyUnusable as error:
        problem = str(error)
    return {
        "domain": entry.domain,
        "selector": entry.selector,
        "kind": kind,
        "use": entry.use,
        "since": entry.since or None,
        "key": entry.key,
        "record": entry.record_name,
        "problem": problem,
    }


def _is_out(loaded: Loaded, entry: Signing) -> bool:
    """Whether nothing that a key of the past has signed can still be on its way."""
    if not entry.since:
        return False
    since = time.mktime(time.strptime(entry.since, "%Y-%m-%d"))
    return time.time() > since + max(STILL_NEEDED, loaded.settings.retry.lifetime)


@signing.command("add")
@click.argument("name", metavar="DOMAIN")
@click.option("--only", type=click.Choice(SIGNING_KINDS), help="Make only this kind of key; by default one of each.")
@click.option("--selector", help="Name of the key; with --only. By default made from its kind and the date.")
@click.option("--later", is_flag=True, help="Do not sign yet; `kite signing rotate` begins to.")
@click.pass_obj
def add_key(config: str | None, name: str, only: str | None, selector: str | None, later: bool) -> None:
    """Make the keys of a DOMAIN, have mail from it signed, and print the records to publish."""
    if selector and not only:
        raise InputError("two keys need two selectors; name one kind with --only", usage=True)
    loaded = load_settings(config)
    name, kinds = checked_domain(name), (only,) if only else SIGNING_KINDS
    made = _make_keys(loaded, name, kinds, selector)
    lacks = handed_over(loaded) is not None  # it would find no key, and hold the mail
    later = later or lacks
    done = f"{len(made)} keys of {name} added" if len(made) > 1 else f"a key of {name} added"
    taken_up = change(config, lambda document: _add(document, made, later=later), done)
    _print_to_publish(config, name, [values["selector"] for values in made])
    if lacks:
        echo(HAND_OVER)
    echo(f"when they are published: kite signing {'rotate' if later else 'test'} {name}")
    if not taken_up:
        raise SystemExit(1)


def _add(document: Document, made: Sequence[dict[str, str]], *, later: bool) -> None:
    for values in made:
        document.add("signing", {**values, **({"use": "next"} if later else {})})


def _make_keys(loaded: Loaded, name: str, kinds: Sequence[str], selector: str | None) -> list[dict[str, str]]:
    """New keys in files for the configuration's owner; what the configuration is to say of each."""
    from copper_kite.mail import make_signing_key

    folder = loaded.path.parent / FOLDER
    folder.mkdir(mode=0o700, exist_ok=True)
    owner = loaded.path.stat()
    taken = {entry.selector for entry in loaded.settings.signing if entry.domain == name}
    made = []
    for kind in kinds:
        label = selector or _free_selector(kind, taken)
        if label in taken:
            raise InputError(f"{name} has a key {label!r} already", usage=True)
        file = folder / f"{label}.{name}.pem"
        _write_key(file, make_signing_key(kind))
        if os.geteuid() == 0:
            os.chown(folder, owner.st_uid, owner.st_gid)
            os.chown(file, owner.st_uid, owner.st_gid)
        made.append({"domain": name, "selector": label, "key": f"{FOLDER}/{file.name}"})
    return made


def _write_key(file: Path, pem: bytes) -> None:
    try:
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError as error:
        raise InputError(f"{file} exists already; remove it, or choose another --selector") from error
    with os.fdopen(descriptor, "wb") as opened:
        opened.write(pem)


def _free_selector(kind: str, taken: set[str]) -> str:
    base = kind[0] + time.strftime("%Y%m%d")
    return next(
        name for name in (base, *(f"{base}{letter}" for letter in "bcdefghijklmnopqrstuvwxyz")) if name not in taken
    )


def _print_to_publish(config: str | None, name: str, selectors: Sequence[str]) -> None:
    from copper_kite.posture import key_records

    loaded = load_settings(config)
    entries = [entry for entry in loaded.settings.signing if entry.domain == name and entry.selector in selectors]
    say(("to publish", "bold"))
    print_records(key_records(loaded, entries))


@signing.command("rotate")
@click.argument("name", metavar="DOMAIN")
@click.option("--unpublished", is_flag=True, help="Sign with the new keys even if DNS does not show them.")
@click.pass_obj
def rotate_keys(config: str | None, name: str, unpublished: bool) -> None:
    """Replace the keys of a DOMAIN, in two steps.

    The first makes new keys and prints their records. The second, when these are published, signs with them; the old
    records must stay until no mail that they signed is on its way, and `kite signing list` says when that is.
    """
    loaded, name = load_settings(config), checked_domain(name)
    present = _of_domain(loaded, name)
    waiting = [entry for entry in present if entry.use == "next"]
    if not waiting:
        done = _begin_rotation(config, loaded, present)
    elif _are_lacking(loaded, waiting):
        done = False
    elif unpublished or _are_published(loaded, waiting):
        done = change(config, lambda document: _switch(document, name), f"{name} signs with its new keys")
    else:
        done = False
    raise SystemExit(0 if done else 1)


def _begin_rotation(config: str | None, loaded: Loaded, present: Sequence[Signing]) -> bool:
    """Make a new key for each that signs; whether the running server, if there is one, knows of them."""
    name = present[0].domain
    kinds = list(dict.fromkeys(_kind_of(loaded, entry) for entry in present if entry.use == "sign"))
    made = _make_keys(loaded, name, kinds or SIGNING_KINDS, None)
    taken_up = change(
        config, lambda document: _add(document, made, later=True), f"new keys of {name} made, not in use yet"
    )
    _print_to_publish(config, name, [values["selector"] for values in made])
    if handed_over(loaded) is not None:
        echo(HAND_OVER)
    echo(f"when they are published: kite signing rotate {name}")
    return taken_up


def _are_lacking(loaded: Loaded, entries: Sequence[Signing]) -> bool:
    """Whether the running server could not read these keys; says what hands them over."""
    folder = handed_over(loaded)
    if folder is None or all((folder / Path(entry.key).name).exists() for entry in entries):
        return False
    echo(f"nothing was changed: {HAND_OVER}")
    return True


def _are_published(loaded: Loaded, entries: Sequence[Signing]) -> bool:
    """Whether DNS shows these keys; says what is missing."""
    bad = [line for line in asyncio.run(_check(loaded, entries)) if line.grade.bad]
    for line in bad:
        say((line.of, "bold"), f" {line.grade.value}: {line.text}")
    print_records([line.publish for line in bad if line.publish is not None])
    if bad:
        echo("nothing was changed; --unpublished signs with them all the same")
    return not bad


def _switch(document: Document, name: str) -> None:
    today = time.strftime("%Y-%m-%d")
    for number in range(len(document.blocks("signing"))):
        block = document.blocks("signing")[number]
        values = document.values(block)
        use = {"next": "sign", "sign": "past"}.get(str(values.get("use", "sign")))
        if str(values.get("domain", "")).lower() == name and use is not None:
            document.set_in(block, "use", use)
            document.set_in(document.blocks("signing")[number], "since", today)


def _kind_of(loaded: Loaded, entry: Signing) -> str:
    from copper_kite.mail import KeyUnusable
    from copper_kite.settings import key_of

    try:
        return key_of(loaded.path, entry).kind
    except KeyUnusable:
        return "ed25519" if entry.selector.startswith("e") else "rsa"


def _of_domain(loaded: Loaded, name: str) -> list[Signing]:
    entries = [entry for entry in loaded.settings.signing if entry.domain == name]
    if not entries:
        domains = ", ".join(dict.fromkeys(entry.domain for entry in loaded.settings.signing)) or "none"
        raise InputError(f"{name} has no keys; there are those of {domains}; `kite signing add` makes them", usage=True)
    return entries


@signing.command("test")
@click.argument("name", metavar="[DOMAIN]", default="")
@json_option
@click.pass_context
def test_keys(ctx: click.Context, name: str, as_json: bool) -> None:
    """Check that each key can be read and is published as it is. Exits with 1 when one is not."""
    loaded = load_settings(ctx.obj)
    entries = _of_domain(loaded, checked_domain(name)) if name else loaded.settings.signing
    if not entries:
        raise InputError("nothing is signed; `kite signing add DOMAIN` makes keys", usage=True)
    lines = asyncio.run(_check(loaded, entries))
    rows = list(zip(entries, lines, strict=True))
    if as_json:
        print_json(
            [
                {"record": line.of, "use": entry.use, "grade": line.grade.value, "text": line.text,
                 "publish": line.publish.line if line.publish else None}
                for entry, line in rows
            ]
        )  # fmt: skip
    else:
        print_table(
            ("", "record", "use", "result"),
            [(line.grade.value, line.of, entry.use, line.text + " (DNSSEC)" * line.secure) for entry, line in rows],
            wraps=True,
            colours=GRADE_COLOURS,
        )
        missing = [line.publish for line in lines if line.publish is not None]
        if missing:
            say(("to publish", "bold"))
            print_records(missing)
    ctx.exit(1 if any(line.grade.bad for line in lines) else 0)


async def _check(loaded: Loaded, entries: Sequence[Signing]) -> list[Line]:
    from copper_kite.posture import Question, check_key

    lookups, now = lookups_of(loaded, SECONDS), time.time()
    return list(
        await asyncio.gather(*(check_key(Question(entry.domain, lookups, loaded, now), entry) for entry in entries))
    )


@signing.command("remove")
@click.argument("name", metavar="DOMAIN")
@click.argument("selector")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def remove_key(config: str | None, name: str, selector: str, yes: bool) -> None:
    """Remove a key from the configuration; its file stays."""
    loaded, name = load_settings(config), checked_domain(name)
    entry = next((item for item in _of_domain(loaded, name) if item.selector == selector), None)
    if entry is None:
        raise InputError(f"{name} has no key {selector!r}", usage=True)
    if entry.use == "sign":
        others = [item for item in _of_domain(loaded, name) if item.use == "sign" and item is not entry]
        echo(f"mail from {name} would be sent {'with one signature less' if others else 'unsigned'}")
    elif entry.use == "past" and not _is_out(loaded, entry):
        echo("mail that it signed may still be under way; leave its record published")
    if not yes:
        click.confirm(f"Remove {entry.record_name}?", abort=True)

    def edit(document: Document) -> None:
        document.remove_block(document.blocks("signing")[loaded.settings.signing.index(entry)])

    if not change(config, edit, f"{entry.record_name} removed"):
        raise SystemExit(1)
    echo(f"its key is still in {Path(entry.key)}")
