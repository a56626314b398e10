"""Manual pages (man(7)), made from the commands and from the page on the configuration."""

from __future__ import annotations

import inspect
import re
from collections.abc import Iterator, Sequence

import click

from copper_kite import __version__
from copper_kite.cli.output.pages import Block, Code, Heading, Items, Paragraph, Table, page_text, read_page

__all__ = ["manual_pages"]

ENDING = """\
.SH FILES
.TP
.I /etc/copper-kite/kite.toml
The configuration, see
.BR kite.toml (5).
Instead of it:
.BR --config ,
.IR $KITE_CONFIG ,
.IR ~/.config/copper-kite/kite.toml .
.TP
.I /var/lib/copper-kite
The queue.
.SH EXIT STATUS
0 fine; 1 it found a problem; 2 wrong usage; 3 the configuration cannot be used; 4 the network or the other side failed.
"""


def manual_pages(commands: click.Group) -> dict[str, str]:
    """The pages by the names of their files: kite.1, one for each command, and kite.toml.5."""
    context = click.Context(commands, info_name="kite", **commands.context_settings)
    names = commands.list_commands(context)
    children = {name: _found(commands, context, name) for name in names}
    pages = {"kite.1": _overview(context, children)}
    for name, command in children.items():
        within = click.Context(command, parent=context, info_name=name)
        pages[f"kite-{name}.1"] = _command_page(within)
    return {**pages, "kite.toml.5": _configuration_page()}


def _found(group: click.Group, context: click.Context, name: str) -> click.Command:
    command = group.get_command(context, name)
    assert command is not None, name
    return command


def _title(name: str, section: int) -> str:
    return f'.TH {name.upper()} {section} "" "Copper Kite {__version__}" "Copper Kite"\n'


def _overview(context: click.Context, children: dict[str, click.Command]) -> str:
    listed = "".join(
        f".TP\n.BR kite-{name} (1)\n{_roff(_first_sentence(result))}\n" for name, result in children.items()
    )
    return (
        _title("kite", 1)
        + ".SH NAME\nkite \\- a send-only mail server, its queue, its tester and its tracer\n"
        + _body(context)
        + f".SH COMMANDS\n{listed}{ENDING}"
        + ".SH SEE ALSO\n.BR kite.toml (5);\n.B kite help\nshows the other pages of the documentation.\n"
    )


def _command_page(context: click.Context) -> str:
    command = context.command
    name = f"kite-{context.info_name}"
    parts = [_title(name, 1), f".SH NAME\n{name} \\- {_roff(_first_sentence(command))}\n", _body(context)]
    if isinstance(command, click.Group):
        parts += [".SH COMMANDS\n", *_subcommands(command, context)]
    return "".join([*parts, ENDING, ".SH SEE ALSO\n.BR kite (1),\n.BR kite.toml (5)\n"])


def _subcommands(group: click.Group, context: click.Context) -> Iterator[str]:
    """All commands of a group, and of the groups in it."""
    for name in group.list_commands(context):
        child = _found(group, context, name)
        below = click.Context(child, parent=context, info_name=name)
        yield _subcommand(below)
        if isinstance(child, click.Group):
            yield from _subcommands(child, below)


def _body(context: click.Context) -> str:
    command = context.command
    options = _options(context)
    return f".SH SYNOPSIS\n{_usage(context)}.SH DESCRIPTION\n{_prose(command.help or '')}" + (
        f".SH OPTIONS\n{options}" if options else ""
    )


def _subcommand(context: click.Context) -> str:
    return (
        f".SS {_roff(context.info_name or '')}\n{_usage(context)}.PP\n"
        + _prose(context.command.help or "")
        + (_options(context))
    )


def _usage(context: click.Context) -> str:
    return f".B {_roff(context.command_path)}\n{_roff(' '.join(context.command.collect_usage_pieces(context)))}\n"


def _prose(text: str) -> str:
    """The paragraphs of a docstring; those marked for click as not to be wrapped stay as they are."""
    parts = []
    for paragraph in re.split(r"\n\s*\n", inspect.cleandoc(text)):
        if paragraph.startswith("\b"):
            lines = paragraph.removeprefix("\b").strip("\n")
            parts.append(f".PP\n.nf\n{_lines(lines)}\n.fi\n")
        else:
            parts.append(f".PP\n{_roff(' '.join(paragraph.split()))}\n")
    return "".join(parts)


def _options(context: click.Context) -> str:
    records = [parameter.get_help_record(context) for parameter in context.command.get_params(context)]
    return "".join(f".TP\n.B {_roff(names)}\n{_roff(about)}\n" for names, about in filter(None, records) if about)


def _first_sentence(command: click.Command) -> str:
    return re.split(r"(?<=[.:])\s", " ".join((command.help or "").split()))[0].rstrip(".:")


def _configuration_page() -> str:
    blocks = read_page(page_text("configuration"))
    head = _title("kite.toml", 5) + ".SH NAME\nkite.toml \\- the configuration of Copper Kite\n.SH DESCRIPTION\n"
    return head + "".join(_blocks(blocks[1:])) + ".SH SEE ALSO\n.BR kite (1),\n.BR kite-config (1)\n"


def _blocks(blocks: Sequence[Block]) -> Iterator[str]:
    for block in blocks:
        match block:
            case Heading(_, text):
                yield f".SH {_roff(text)}\n"
            case Paragraph(text):
                yield f".PP\n{_roff(text)}\n"
            case Code(text):
                yield f".PP\n.nf\n{_lines(text)}\n.fi\n"
            case Items(texts):
                yield "".join(f".IP - 2\n{_roff(text)}\n" for text in texts)
            case Table(header, rows):
                yield "".join(_entry(header, row) for row in rows)


def _entry(header: Sequence[str], row: Sequence[str]) -> str:
    lines = "".join(
        f".br\n{name}: {_roff(cell)}\n" for name, cell in zip(header[1:], row[1:], strict=True) if cell
    ).removeprefix(".br\n")
    return f".TP\n.B {_roff(row[0])}\n{lines}"


def _lines(text: str) -> str:
    return "\n".join(_roff(line) for line in text.split("\n"))


def _roff(text: str) -> str:
    """Text in which nothing is a request or an escape, and each hyphen can be copied as one."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text
