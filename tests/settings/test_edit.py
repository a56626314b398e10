"""The file changed in place: what is not meant stays, to the last blank."""

from __future__ import annotations

import difflib
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from copper_kite.errors import InputError
from copper_kite.settings.edit import Document, EditFailed, toml_value, write_file
from copper_kite.settings.model import Connector, Identity, Listener
from copper_kite.settings.values import apply_assignments, parse_assignment

SOURCE = """\
# Top comment
[server]
name = "quay1.ternferries.example"   # ours
data = "queue"

# The general provider
[[connector]]
name = "beacon"          # inline # twice
# inside
hosts = ["out.beaconpost.example:587"]  # the host, say "out"
recipients = [
    "*",   # all
]

# The harbour office; call Ana
[[connector]]
name = "harbour"
hosts = ["gate#1.example"]   # a '#' in text

# Times
[retry]
waits = ["1m"]
"""


def changed(edit: Callable[[Document], None]) -> tuple[str, str]:
    """The lines that an edit takes away and adds."""
    document = Document(SOURCE)
    edit(document)
    tomllib.loads(document.text)
    lines = list(difflib.unified_diff(SOURCE.splitlines(), document.text.splitlines(), n=0))[2:]
    gone = [line[1:] for line in lines if line.startswith("-")]
    come = [line[1:] for line in lines if line.startswith("+")]
    return "|".join(gone), "|".join(come)


@pytest.mark.parametrize(
    ("edit", "gone", "come"),
    [
        (
            lambda d: d.set("connector", "beacon", "hosts", ["a:25"]),
            'hosts = ["out.beaconpost.example:587"]  # the host, say "out"',
            'hosts = ["a:25"]  # the host, say "out"',
        ),
        (
            lambda d: d.set("connector", "harbour", "hosts", ["b"]),
            """hosts = ["gate#1.example"]   # a '#' in text""",
            """hosts = ["b"]   # a '#' in text""",
        ),
        (
            lambda d: d.set("connector", "beacon", "recipients", ["x.example"]),
            'recipients = [|    "*",   # all|]',
            'recipients = ["x.example"]',
        ),
        (lambda d: d.set("connector", "beacon", "enabled", False), "", "enabled = false"),
        (lambda d: d.set("connector", "beacon", "hosts", None), 'hosts = ["out.beaconpost.example:587"]  # the host, say "out"', ""),
        (lambda d: d.set("identity", None, "domain", "x.example"), "", '|[identity]|domain = "x.example"'),
        (lambda d: d.set("retry", None, "lifetime", "2d"), "", 'lifetime = "2d"'),
        (lambda d: d.add("connector", {"name": "new"}), "", '[[connector]]|name = "new"|'),
        (
            lambda d: d.remove("connector", "harbour"),
            """[[connector]]|name = "harbour"|hosts = ["gate#1.example"]   # a '#' in text""",
            "",
        ),
        (
            lambda d: d.copy("connector", "harbour", "second"),
            "",
            """[[connector]]|name = "second"|hosts = ["gate#1.example"]   # a '#' in text|""",
        ),
    ],
)  # fmt: skip
def test_only_the_lines_concerned(edit: Callable[[Document], None], gone: str, come: str) -> None:
    result = changed(edit)
    assert result[0].strip("|") == gone and result[1].strip("|") == come.strip("|")


def test_line_ends_and_odd_separators_stay() -> None:
    text = '[server]\r\nname = "a\u2028b"\r\n# end\r\n'
    document = Document(text)
    document.set("server", None, "data", "queue")
    assert document.text == '[server]\r\nname = "a\u2028b"\r\ndata = "queue"\r\n# end\r\n'
    assert Document('["a.example"]  # x\nlogin = "b"\n').tables == ["a.example"]
    assert Document("").text == "" and Document("# no line end").text == "# no line end\n"


def test_a_link_stays_a_link(folder: Path) -> None:
    (folder / "real").mkdir()
    real = folder / "real" / "kite.toml"
    real.write_text("one")
    link = folder / "kite.toml"
    link.symlink_to(real)
    write_file(link, "two")
    assert link.is_symlink() and real.read_text() == "two"


def test_what_cannot_be_changed_in_place_is_refused() -> None:
    for text in ("[server\n", 'name = "unended\n', "what is this\n"):
        with pytest.raises(EditFailed):
            Document(text)
    with pytest.raises(EditFailed):
        Document(SOURCE).remove("connector", "nobody")


@given(st.recursive(st.text() | st.booleans() | st.integers(), lambda inner: st.lists(inner, max_size=3), max_leaves=8))
def test_any_value_comes_back(value: object) -> None:
    assert tomllib.loads(f"key = {toml_value(value)}")["key"] == value


def test_a_file_is_written_whole_with_its_mode_and_the_version_before(folder: Path) -> None:
    path = folder / "kite.toml"
    path.write_text("one")
    path.chmod(0o640)
    write_file(path, "two")
    assert (path.read_text(), path.stat().st_mode & 0o777) == ("two", 0o640)
    assert (folder / "kite.toml.last").read_text() == "one"
    secrets = folder / "credentials.toml"
    secrets.touch(mode=0o644)  # whoever made it so: with a secret in it, it is its owner's alone
    for text in ("old secret", "new secret"):
        write_file(secrets, text, mode=0o600, keep_last=False)
    assert secrets.stat().st_mode & 0o777 == 0o600
    assert sorted(file.name for file in folder.iterdir()) == ["credentials.toml", "kite.toml", "kite.toml.last"]
    with pytest.raises(EditFailed):
        write_file(folder / "none" / "kite.toml", "x")


@pytest.mark.parametrize(
    ("model", "text", "found"),
    [
        (Connector, "recipients=a.example, b.example", ("recipients", "=", ["a.example", "b.example"])),
        (Connector, 'recipients=["*"]', ("recipients", "=", ["*"])),
        (Connector, "recipients+=c.example", ("recipients", "+=", ["c.example"])),
        (Connector, "preference=5", ("preference", "=", 5)),
        (Connector, "enabled=no", ("enabled", "=", False)),
        (Connector, "credential=", ("credential", "=", None)),
        (Listener, "max_size=10MiB", ("max_size", "=", "10MiB")),
        (Identity, 'recipients=root = "a@b.example"', ("recipients", "=", {"root": "a@b.example"})),
    ],
)
def test_values_as_they_are_typed(model: type, text: str, found: object) -> None:
    assert parse_assignment(model, text) == found


def test_wrong_assignments_say_what_is_right() -> None:
    for text, words in (
        ("hosts", "KEY=VALUE"), ("hots=x", "did you mean 'hosts'?"), ("tls+=x", "not a list"),
        ("hosts=[x", "not TOML"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=r"write|did|list|TOML") as error:
            parse_assignment(Connector, text)
        assert words in str(error.value) and error.value.exit_code == 2
    assert apply_assignments({"hosts": ["a", "b"]}, ("hosts", "-=", ["a"])) == ["b"]
    with pytest.raises(InputError):
        apply_assignments({"hosts": ["a"]}, ("hosts", "-=", ["z"]))
