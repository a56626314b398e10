"""What other servers answer, or why they do not; by a stand-in for ssh that does what the address says."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from copper_kite.errors import SettingsError
from copper_kite.fleet import Answered, ask_all, compare_exports, cross_servers
from copper_kite.settings import read_fleet
from tests.configuration import connector, site_text, table

SSH = """#!/bin/sh
printf '%s\\n' "$*" >> "$(dirname "$0")/asked"
while [ "$1" != -- ]; do shift; done
case "$2" in
    good) printf '{"there": "%s", "given": "%s"}' "$3" "$(cat)" ;;
    busy) echo '{"passed": false}'; exit 1 ;;
    wrong) echo 'kite: no such option' >&2; exit 2 ;;
    away) echo 'ssh: connect to host away port 22: Connection refused' >&2; exit 255 ;;
    mute) exit 255 ;;
    bare) echo 'sh: kite: not found' >&2; exit 127 ;;
    older) echo 'hello' ;;
    slow) exec sleep 600 ;;
esac
"""
SERVERS = ("good", "busy", "wrong", "away", "mute", "bare", "older")


@pytest.fixture
def ssh(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    place = folder / "bin"
    place.mkdir()
    (place / "ssh").write_text(SSH)
    (place / "ssh").chmod(0o755)
    monkeypatch.setenv("PATH", f"{place}:/usr/bin:/bin")
    return place


def write_fleet(folder: Path, *addresses: str, more: str = "") -> str:
    file = folder / "fleet.toml"
    file.write_text(more + "".join(table("[[server]]", name=name, address=name) for name in addresses))
    return str(file)


def test_each_answer_is_understood(folder: Path, ssh: Path) -> None:
    seen: list[Answered] = []
    fleet = read_fleet(write_fleet(folder, *SERVERS, more='ssh = ["-4"]\n'))
    answers = asyncio.run(ask_all(fleet, ["status", "--json", "two words"], stdin=b"octets", progress=seen.append))
    assert [answered.server.name for answered in answers] == [*SERVERS]
    assert {answered.server.name for answered in seen} == {*SERVERS}
    by_name = {answered.server.name: answered for answered in answers}
    assert by_name["good"].value == {"there": "kite status --json 'two words'", "given": "octets"}
    assert (by_name["busy"].status, by_name["busy"].value) == (1, {"passed": False})
    assert {name: answered.problem for name, answered in by_name.items()} == {
        "good": "",
        "busy": "",
        "wrong": "no such option",
        "away": "ssh: connect to host away port 22: Connection refused",
        "mute": "ssh cannot reach it",
        "bare": "kite is not there: sh: kite: not found",
        "older": "its answer is not JSON; is its kite of this version?",
    }
    for line in (ssh / "asked").read_text().splitlines():
        assert line.startswith("-o BatchMode=yes -o StrictHostKeyChecking=yes -o ConnectTimeout=29 -4 -- ")


def test_text_is_taken_as_it_is(folder: Path, ssh: Path) -> None:
    fleet = read_fleet(write_fleet(folder, "older", "wrong", "busy"))
    older, wrong, busy = asyncio.run(ask_all(fleet, ["config", "show"], as_json=False))
    assert (older.text, older.problem) == ("hello\n", "")
    assert wrong.problem == "no such option"
    assert busy.problem == ""


def test_who_does_not_answer_in_time_is_left(folder: Path, ssh: Path) -> None:
    (slow,) = asyncio.run(ask_all(read_fleet(write_fleet(folder, "slow", more='seconds = "1s"\n')), ["status"]))
    assert slow.problem == "no answer in 1 s"


def test_without_ssh_it_says_so(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", str(folder))
    (answered,) = asyncio.run(ask_all(read_fleet(write_fleet(folder, "good")), ["status"]))
    assert answered.problem == "there is no ssh on this machine"


def test_options_of_each_server_count(folder: Path, ssh: Path) -> None:
    text = table("[[server]]", name="a", address="good", config="/etc/k k.toml", command="sudo -n kite")
    text += table("[[server]]", name="b", address="good", enabled=False)
    (folder / "fleet.toml").write_text(text)
    (answered,) = asyncio.run(ask_all(read_fleet(str(folder / "fleet.toml")), ["status"]))
    assert answered.value["there"] == "sudo -n kite --config '/etc/k k.toml' status"


@pytest.mark.parametrize("address", ["-oProxyCommand=x", "a b", ""])
def test_an_address_is_never_an_option(folder: Path, address: str) -> None:
    with pytest.raises(SettingsError) as raised:
        read_fleet(write_fleet(folder, address))
    assert "address" in str(raised.value)


def test_a_message_that_goes_in_a_circle_is_shown_once_for_each_server() -> None:
    def story(id: str, reply: str) -> dict[str, object]:
        return {"id": id, "arrived": id, "attempts": [{"results": [{"reply": reply}]}]}

    crossings = cross_servers([("b", story("B1", "250 kept as A1")), ("a", story("A1", "250 kept as B1"))])
    assert {(crossing.server, crossing.handed_by) for crossing in crossings} == {("a", "b"), ("b", "a")}
    line = cross_servers(
        [("c", story("C1", "250 ok")), ("b", story("B1", "250 kept as C1")), ("a", story("A1", "250 as B1"))]
    )
    assert [crossing.server for crossing in line] == ["a", "b", "c"]


def test_exports_are_compared_by_what_they_mean() -> None:
    def export(**more: str) -> str:
        text = site_text(connector("beacon", "out.beaconpost.example", **more), bind="127.0.0.1:2525")
        return "[[listener]]" + text.partition("[[listener]]")[2]

    assert compare_exports(export(), "# a remark\n" + export()) == []
    (difference,) = compare_exports(export(), export(tls="implicit"))
    assert "tls" in str(difference)
