"""`kite help` and the manual pages."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from copper_kite.cli.main import kite as commands
from copper_kite.cli.output.manual import manual_pages
from copper_kite.cli.output.pages import TOPICS, Code, Heading, Items, Paragraph, Table, as_text, read_page
from tests.support import kite

MARKDOWN = """\
# Tides

When they are *high*, see [the table](tides.md) and `kite help`.

![a picture](tides.png)

- one
- two

Then:

    kite send --tide high

| tide | meaning |
| --- | --- |
| `high` | at `14:20`, or later |
"""


def test_a_page_is_read_into_blocks() -> None:
    assert read_page(MARKDOWN) == [
        Heading(1, "Tides"),
        Paragraph("When they are high, see the table and kite help."),
        Items(["one", "two"]),
        Paragraph("Then:"),
        Code("kite send --tide high"),
        Table(["tide", "meaning"], [["high", "at 14:20, or later"]]),
    ]


@pytest.mark.parametrize("topic", TOPICS)
def test_each_topic_is_shown_in_the_width_of_the_terminal(topic: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("COLUMNS", "72")
    shown = kite("help", topic).stdout.decode()
    assert kite("help").stdout.decode().count(f"{topic} ") and len(shown.splitlines()) > 10
    assert [x for x in shown.splitlines() if len(x) > 72 and not x.startswith(" " * 6)] == []  # code is never wrapped


def test_a_key_and_a_section_are_found_by_their_words() -> None:
    shown = kite("help", "configuration", "connector.hosts").stdout.decode()
    assert shown.startswith("[[connector]]\n\n  hosts\n      type     list of text\n") and "listener" not in shown
    assert kite("help", "configuration", "pace").stdout.count(b"  pace\n") == 3
    assert kite("help", "causes", "wrong", "password").stdout.startswith(b"Wrong password\n")
    missing = kite("help", "configuration", "hostess")
    assert missing.returncode == 1 and b"has no 'hostess'" in missing.stderr


def test_a_command_s_help_is_shown_by_its_name() -> None:
    assert kite("help", "queue", "park").stdout == kite("queue", "park", "--help").stdout
    unknown = kite("help", "tides")
    assert unknown.returncode == 2 and b"`kite help` lists the topics" in unknown.stderr


def paths(command: click.Command, path: str, context: click.Context) -> Iterator[tuple[str, click.Command]]:
    yield path, command
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            child = command.get_command(context, name)
            assert child is not None
            yield from paths(child, f"{path} {name}", context)


def test_the_manual_has_every_command_and_option() -> None:
    pages = manual_pages(commands)
    for path, command in paths(commands, "kite", click.Context(commands)):
        page = pages[f"{'-'.join(path.split()[:2])}.1"].replace("\\-", "-")
        assert f"\n.B {path}\n" in page
        assert [x for option in command.params for x in option.opts if x.startswith("-") and x not in page] == []
    assert all(f"\n.B {key}\n" in pages["kite.toml.5"] for key in ("hosts", "keep_free", "open_relay"))


@pytest.mark.skipif(shutil.which("groff") is None, reason="groff is not here")
def test_the_manual_is_set_without_a_warning(folder: Path) -> None:
    for name, text in manual_pages(commands).items():
        (folder / name).write_text(text)
        done = subprocess.run(
            ["groff", "-man", "-Kutf8", "-Tutf8", "-ww", "-z", folder / name],
            capture_output=True,
            text=True,
            check=True,
        )
        assert done.stderr == "", name


def test_no_text_becomes_a_request_of_the_typesetter() -> None:
    @click.group()
    def odd() -> None:
        """Hidden.

        .so /etc/passwd

        'b \\fBbold
        """

    page = manual_pages(odd)["kite.1"]
    assert "\n\\&.so /etc/passwd\n" in page and "\n\\&'b \\efBbold\n" in page


def test_rows_are_entries_with_the_names_of_their_columns() -> None:
    table = Table(["key", "type", "meaning"], [["pace", "text", "how fast " * 5]])
    assert as_text([table], 40) == (
        "  pace\n      type     text\n      meaning  how fast how fast how\n               fast how fast how fast\n"
    )
