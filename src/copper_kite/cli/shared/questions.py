"""Questions that a command asks where no option answers them; unattended, all that is missing at once."""

from __future__ import annotations

from collections.abc import Callable

import click

from copper_kite.cli.output.show import echo
from copper_kite.errors import InputError

__all__ = ["Asker"]


class Asker:
    """Asks for what no option gave; unattended, it notes what is missing, and `demand` raises that."""

    def __init__(self, unattended: bool) -> None:
        self.unattended = unattended
        self._missing: list[str] = []

    def text(
        self, option: str, question: str, default: str, check: Callable[[str], object], *, needed: bool = True
    ) -> str:
        """The answer; one that `check` refuses with a ValueError is asked for again. Empty for what is missing."""
        if self.unattended:
            if needed and not default:
                self.lacks(option, question)
            return default
        while True:
            shown = default or (None if needed else "")
            answer = str(click.prompt(question, default=shown, show_default=bool(default))).strip()
            try:
                if answer or needed:
                    check(answer)
            except ValueError as error:
                echo(str(error))
                continue
            return answer

    def secret(self, question: str, *, known: str) -> str:
        """A password, which does not show; `known` for an empty answer."""
        if self.unattended:
            if not known:
                self.lacks("--password-stdin, --password-env or --password-command", question)
            return known
        hint = " (empty: as it is)" if known else ""
        return str(click.prompt(question + hint, hide_input=True, default=known or None, show_default=False))

    def confirm(self, question: str, *, default: bool) -> bool:
        """Yes or no; unattended, yes."""
        return self.unattended or click.confirm(question, default=default)

    def lacks(self, option: str, question: str) -> None:
        """Note what is missing."""
        self._missing.append(f"{option}: {question[:1].lower()}{question[1:]}")

    def demand(self) -> None:
        """Raise InputError when anything is missing."""
        if self._missing:
            raise InputError("these are needed:\n  " + "\n  ".join(self._missing), usage=True)
