"""Write docs/configuration.md from the model, so that it cannot say anything else than the program does."""

from __future__ import annotations

import sys
from pathlib import Path

from pydantic import BaseModel
from pydantic_core import PydanticUndefined

from copper_kite.settings import model

HEAD = """\
# Configuration

One file, `kite.toml`: the one named by `--config`, then by `$KITE_CONFIG`, then in `~/.config/copper-kite/`, then in
`/etc/copper-kite/`. Unknown keys are errors. Paths count from the file's own folder. This page is made from the model
by `docs/make_configuration.py`; do not edit it.

Durations: `90s`, `15m`, `2h`, `5d`, `1h30m`. Sizes: `35MiB`, `500kB`, or a number of octets.
"""

TAIL = """\

## credentials.toml
Beside `kite.toml`, mode 0600; refused when others can read it. A table for each name: `[beacon]` with `login` and
`password`. A connector names the one it logs in with (`credential = "beacon"`); its mechanism is PLAIN (RFC 4616), and
it goes only under verified TLS (RFC 4954). `kite credential set NAME` writes it.

## accounts.toml
Beside `kite.toml`, mode 0600: for each account a SCRAM-SHA-256 key (RFC 5803), from which its password can be checked
and not found out. `kite account password NAME` writes it.

Under a service manager, files of these names in `$CREDENTIALS_DIRECTORY` are taken instead.

## For editors
`kite config schema > kite.schema.json` writes a JSON Schema of this file. `kite service` prints systemd units; their
exposure, by `systemd-analyze security --offline=true`, is 1.4 of 10 (systemd 252).
"""

TABLES: tuple[tuple[str, type[BaseModel]], ...] = (
    ("[server]", model.Server),
    ("[identity]", model.Identity),
    ("[[listener]]", model.Listener),
    ("[[account]]", model.Account),
    ("[[connector]]", model.Connector),
    ("[retry]", model.Retry),
)


def shown_default(value: object) -> str:
    """A default as one would write it."""
    if value is PydanticUndefined:
        return "required"
    if value is None or value == {}:
        return "none"
    if isinstance(value, list):
        return "`[" + ", ".join(f'"{part}"' if not isinstance(part, float) else span(part) for part in value) + "]`"
    if isinstance(value, float):
        return f"`{span(value)}`"
    return f'`"{value}"`' if isinstance(value, str) else f"`{value}`"


def span(seconds: float) -> str:
    """Seconds as a duration."""
    unit, length = next((unit, length) for unit, length in (("d", 86400), ("h", 3600), ("m", 60)) if seconds >= length)
    return f'"{seconds / length:g}{unit}"'


def page() -> str:
    """The whole page."""
    out = [HEAD]
    for title, table in TABLES:
        about = (table.__doc__ or "").partition(": ")[2]
        out += [f"\n## {title}\n{about[:1].upper()}{about[1:]}\n\n| key | default | meaning |\n| --- | --- | --- |\n"]
        for name, field in table.model_fields.items():
            out.append(f"| `{name}` | {shown_default(field.default)} | {field.description} |\n")
    return "".join([*out, TAIL])


if __name__ == "__main__":
    target = Path(__file__).with_name("configuration.md")
    if "--check" in sys.argv:
        sys.exit(
            target.read_text() != page() and "docs/configuration.md is out of date: run docs/make_configuration.py"
        )
    target.write_text(page())
