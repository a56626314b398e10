"""Write docs/causes.md from what the commands print: each cause is produced for real (see tests/causes.py)."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.causes import CAUSES, run_cause, situations

HEAD = """\
# What stops mail, and the command that tells

One command for each, with what it printed. This page is made by `docs/make_causes.py`, which has all of it happen on
one machine; `tests/cli/test_causes.py` fails when a command no longer leads to its cause. `kite status` and
`kite queue` show that something waits or has failed, and `kite trace ADDRESS` finds the message.
"""

if __name__ == "__main__":
    os.environ["KITE_COLUMNS"] = "100"
    pages = [HEAD, "\n| what stops it | the command |\n| --- | --- |\n"]
    pages += [
        f"| [{cause.title}](#{cause.title.lower().replace(' ', '-')}) | `kite {cause.command[0]} …` |\n"
        for cause in CAUSES
    ]
    with tempfile.TemporaryDirectory() as name, situations(Path(name)) as (config, known):
        for cause in CAUSES:
            command, shown = run_cause(cause, config, known)
            shown = shown.replace(f"{config}", "/etc/copper-kite/kite.toml").replace(name, "/etc/copper-kite")
            pages.append(f"\n## {cause.title}\n\n    $ {command}\n")
            pages += [f"    {line}".rstrip() + "\n" for line in shown.splitlines()]
    Path(__file__).with_name("causes.md").write_text("".join(pages))
