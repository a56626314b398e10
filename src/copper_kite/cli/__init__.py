"""The command line: it parses, calls the core, and shows what came of it. Everything below it is silent.

`main` runs a command; `hand_in` is the short way of `kite pipe`. `commands/` has a file for each family of commands,
`output/` what they print, `shared/` what several of them need.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from copper_kite.lazy import lazy_exports

if TYPE_CHECKING:
    from copper_kite.cli.commands.pipe_command import hand_in
    from copper_kite.cli.main import kite, run_command_line
    from copper_kite.cli.output.manual import manual_pages

__getattr__, __all__ = lazy_exports(
    __name__,
    {
        "commands.pipe_command": "hand_in",
        "main": "kite run_command_line",
        "output.manual": "manual_pages",
    },
)
