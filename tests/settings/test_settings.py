"""The configuration: what it takes, and how it says what is wrong."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import get_args, get_origin

import pytest
from pydantic import BaseModel

from copper_kite.errors import SettingsError
from copper_kite.routing.cover import ties
from copper_kite.settings.find import sketch
from copper_kite.settings.load import find_config, load_configuration
from copper_kite.settings.model import Connector, Listener, Settings
from copper_kite.settings.units import Endpoint, parse_duration, parse_endpoint, parse_pace, parse_size

GOOD = """\
[server]
name = "quay1.ternferries.example"
data = "queue"

[identity]
domain = "ternferries.example"
recipients = { root = "duty@ternferries.example" }

[[listener]]
name = "programs"
bind = ["127.0.0.1:2525", "unix:/tmp/k.sock"]
allow = ["127.0.0.0/8", "::1"]
max_size = "10MiB"

[[connector]]
name = "beacon"
hosts = ["out.beaconpost.example"]
credential = "beacon"

[retry]
waits = ["1m", "1h30m"]
lifetime = "2d"
"""
CREDENTIALS = '[beacon]\nlogin = "tern"\npassword = "hush-hush-42"\n'


def put(folder: Path, text: str = GOOD, credentials: str | None = CREDENTIALS, mode: int = 0o600) -> Path:
    if credentials is not None:
        path = folder / "credentials.toml"
        path.write_text(credentials)
        path.chmod(mode)
    (folder / "kite.toml").write_text(text)
    return folder / "kite.toml"


def findings(path: Path) -> list[tuple[int | None, str, str]]:
    with pytest.raises(SettingsError) as error:
        load_configuration(path)
    assert "hush-hush" not in str(error.value)
    return [(finding.line, finding.key, f"{finding.problem} | {finding.remedy}") for finding in error.value.findings]


def test_a_good_file(folder: Path) -> None:
    loaded = load_configuration(put(folder))
    assert loaded.data == folder / "queue"
    (connector,), (listener,) = loaded.settings.connector, loaded.settings.listener
    assert connector.next_hop == Endpoint("out.beaconpost.example", 587)
    assert (listener.max_size, loaded.settings.retry.waits) == (10 * 1024**2, [60.0, 5400.0])
    assert loaded.credentials["beacon"].login == "tern"
    assert "hush-hush" not in repr(loaded)


def test_everything_wrong_is_told_at_once_with_its_place(folder: Path) -> None:
    text = (
        GOOD.replace("domain =", "domian =")
        .replace('"127.0.0.0/8"', '"127.0.0.1/8"')
        .replace('"10MiB"', '"10 elephants"')
        .replace('credential = "beacon"', 'credential = "beacon"\ntls = "maybe"\npreference = "high"')
        .replace('"1m"', '"one"')
        .replace('name = "quay1.ternferries.example"', 'name = "quay1"')
        .replace('"127.0.0.1:2525"', '"somewhere:2525"')
    )
    result = findings(put(folder, text))
    assert [(line, key) for line, key, _ in result] == [
        (2, "server.name"), (6, "identity.domian"), (11, "listener[1].bind[1]"), (12, "listener[1].allow[1]"),
        (13, "listener[1].max_size"), (19, "connector[1].tls"), (20, "connector[1].preference"), (23, "retry.waits[1]"),
    ]  # fmt: skip
    words = [text for _, _, text in result]
    assert "did you mean 'domain'?" in words[1]
    assert "the network is 127.0.0.0/8" in words[3]
    assert "'starttls'" in words[5] and "a whole number" in words[6] and "90s, 15m, 2h or 5d" in words[7]


@pytest.mark.parametrize(
    ("change", "line", "key", "words"),
    [
        (('name = "beacon"', 'name = "a b"'), 16, "connector[1].name", ""),
        (('hosts = ["out.beaconpost.example"]', ""), 15, "connector[1].hosts", "is missing"),
        (('hosts = ["out.beaconpost.example"]', "hosts = []"), 17, "connector[1].hosts", "or mx = true"),
        (('credential = "beacon"', 'credential = "beacn"'), 18, "connector[1].credential", "did you mean 'beacon'?"),
        (('credential = "beacon"', 'credential = "beacon"\ntls = "off"'), 19, "connector[1].tls", "in clear"),
        (('credential = "beacon"', 'trust = "no.pem"'), 18, "connector[1].trust", "no file 'no.pem'"),
        (('root = "duty@ternferries.example"', 'root = "duty"'), 7, "identity.recipients", "with a domain"),
        (('waits = ["1m", "1h30m"]', 'waits = ["40000d"]'), 21, "retry.waits[1]", "longer than a century"),
        (("[retry]", "[retri]"), 20, "retri", "did you mean 'retry'?"),
        (("[retry]", "[retry"), 20, "", "not TOML"),
    ],
)
def test_single_faults(folder: Path, change: tuple[str, str], line: int, key: str, words: str) -> None:
    (result,) = findings(put(folder, GOOD.replace(*change)))
    assert result[:2] == (line, key) and words in result[2]


ODD = [
    "5", "-1", "1.5", "nan", "true", '""', '"x"', "[]", "[5]", "[[]]", "[{}]", '["x"]', '["\u00e9"]', "{}", "{a = 5}", "{a = []}",
    str(10**30), f'"{"1" * 400}"', f'"{"1" * 400}d"', '"\\u0000"',
]  # fmt: skip
LEAST = {  # of a table of this kind
    "listener": {"name": '"programs"', "bind": '["127.0.0.1:2525"]'},
    "connector": {"name": '"beacon"', "hosts": '["out.beaconpost.example"]'},
    "account": {"name": '"shop"'},
    "priority": {"senders": '["*"]', "priority": '"urgent"'},
}


@pytest.mark.parametrize("value", ODD)
def test_a_value_of_any_kind_at_any_key_is_taken_or_is_a_finding(folder: Path, value: str) -> None:
    for section, result in Settings.model_fields.items():
        is_list = get_origin(result.annotation) is list
        model = get_args(result.annotation)[0] if is_list else result.annotation
        assert model is not None
        assert issubclass(model, BaseModel)
        for key in model.model_fields:
            table = LEAST.get(section, {}) | {key: value}
            lines = ['[server]\nname = "quay1.ternferries.example"'] * (section != "server")
            lines += [f"[[{section}]]" if is_list else f"[{section}]", *(f"{k} = {v}" for k, v in table.items())]
            with contextlib.suppress(SettingsError):
                load_configuration(put(folder, "\n".join(lines), None))
            with contextlib.suppress(SettingsError):
                sketch(str(folder / "kite.toml"))


@pytest.mark.parametrize("page", ["make_configuration.py", "make_conformance.py", "make_manual.py", "make_metrics.py"])
def test_pages_that_are_made_are_made_anew(page: str) -> None:
    """docs/configuration.md is made from the model, docs/conformance.md from the tests, man/ from the commands."""
    import subprocess
    import sys

    docs = Path(__file__).parents[2] / "docs"
    done = subprocess.run([sys.executable, docs / page, "--check"], capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()


def test_two_of_a_name(folder: Path) -> None:
    more = '\n[[connector]]\nname = "beacon"\nhosts = ["b.example"]\n'
    assert findings(put(folder, GOOD + more))[0][:2] == (25, "connector[2].name")


@pytest.mark.parametrize(
    ("credentials", "mode", "words"),
    [
        (CREDENTIALS, 0o644, "others can read it (mode 0644)"),
        (CREDENTIALS, 0o640, "chmod 600"),
        (None, 0, "no such file"),
        ('[beacon]\nlogin = "tern"\n', 0o600, "both needed"),
        ('[beacon]\nlogin = "tern"\npasword = "hush-hush-42"\n', 0o600, "unknown key"),
        ("beacon = 1\n", 0o600, "outside a table"),
        ("[beacon\n", 0o600, "not TOML"),
    ],
)
def test_credentials(folder: Path, credentials: str | None, mode: int, words: str) -> None:
    result = findings(put(folder, credentials=credentials, mode=mode))
    assert any(words in text for _, _, text in result)


def test_where_the_file_is_looked_for(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(folder))
    monkeypatch.delenv("KITE_CONFIG", raising=False)
    (folder / "copper-kite").mkdir()
    path = put(folder / "copper-kite")
    assert find_config(None) == path
    monkeypatch.setenv("KITE_CONFIG", "/else/kite.toml")
    assert find_config(None) == Path("/else/kite.toml")
    assert find_config("mine.toml") == Path("mine.toml")


def test_units() -> None:
    assert [parse_duration(text) for text in ("90s", "15m", "2h", "5d", "1h30m")] == [90, 900, 7200, 432000, 5400]
    assert [parse_size(text) for text in ("35MiB", "500kB", 4096, "0")] == [36700160, 500000, 4096, 0]
    for bad in ("", "5", "m", "-1m", "1 m", 5, None):
        with pytest.raises(ValueError):
            parse_duration(bad)
    for bad in ("", "x", "5 parsecs", None, "-1"):
        with pytest.raises(ValueError):
            parse_size(bad)


def test_endpoints() -> None:
    assert [parse_pace(text).interval for text in ("10/s", "30/m", "0.5/h")] == [0.1, 2, 7200]
    for bad in ("10", "0/s", "5/d", "-1/s", 5):
        with pytest.raises(ValueError, match="pace"):
            parse_pace(bad)
    assert parse_endpoint("[::1]:25") == Endpoint("::1", 25)
    assert str(parse_endpoint("[::1]:25")) == "[::1]:25"
    assert parse_endpoint("unix:/run/k.sock").path == "/run/k.sock"
    assert parse_endpoint("h.example", default_port=587).port == 587
    for bad in ("h.example", "h:0", "h:70000", "a b:25", "unix:rel", "", 5, "[zz]:25", "::1:25"):
        with pytest.raises(ValueError):
            parse_endpoint(bad)


def test_an_ipv4_network_in_ipv6_form_is_that_network() -> None:
    """Else it would be taken, and match nobody."""
    listener = Listener.model_validate(
        {"name": "l", "bind": ["127.0.0.1:25"], "allow": ["::ffff:127.0.0.0/104", "::1", "2001:db8::/32", "::/0"]}
    )
    assert list(map(str, listener.allow)) == ["127.0.0.0/8", "::1/128", "2001:db8::/32", "::/0"]


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        (f"a = {'[' * 5000}{']' * 5000}", "too deep"),
        (f"a.{'.'.join('b' * 50_000)} = 1", "so many parts"),
        (f"# {'x' * 5_000_000}", "that is no configuration"),
    ],
)
def test_what_is_made_to_be_hard_to_read_is_refused_at_once(folder: Path, text: str, problem: str) -> None:
    file = folder / "kite.toml"
    file.write_text(text)
    with pytest.raises(SettingsError, match=problem):
        load_configuration(file)


def test_many_connectors_that_tie_are_one_finding_each() -> None:
    many = [Connector.model_validate({"name": f"c{n}", "hosts": ["h.example:25"]}) for n in range(2000)]
    result = ties(many)
    assert [(first.name, number, pattern) for first, number, pattern in result] == [
        ("c0", n, "*") for n in range(1, 2000)
    ]
