"""`kite rehearse`, as the built program."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from copper_kite.store import open_store
from tests.configuration import connector, site_text, store_of, table
from tests.support import kite

OUTAGE = ("--rate", "600/h", "--service", "beacon=1/s", "--down", "beacon=6h@09:00")


@pytest.fixture
def config(tmp_path: Path) -> Path:
    file = tmp_path / "kite.toml"
    text = site_text(
        connector("beacon", "out.beaconpost.example:587"),
        connector("harbour", "gate.harbouroffice.example:465", recipients=["harbouroffice.example"], tls="implicit"),
        table("[retry]", waits=["1m", "5m"], notice_after="4h"),
        bind="127.0.0.1:2525",
    )
    file.write_text(text)
    return file


def test_an_outage_is_rehearsed_for_programs(config: Path) -> None:
    """One object; each figure has its median and band."""
    ran = kite("rehearse", *OUTAGE, "--runs", 3, "--json", config=config)
    assert ran.returncode == 0, ran.stderr
    result = json.loads(ran.stdout)
    for name in ("largest_queue", "empty_after", "expired", "notices"):
        assert result[name]["low"] <= result[name]["median"] <= result[name]["high"]
    assert result["largest_queue"]["median"] == pytest.approx(3650, rel=0.06)
    assert 70 * 60 < result["empty_after"]["median"] < 110 * 60
    assert result["expired"]["high"] == 0 and result["notices"]["low"] > 1000
    assert result["delay"]["p50"]["median"] < 5 < result["delay"]["p95"]["median"] < result["delay"]["max"]["median"]
    assert result["runs"] == 3 and result["ok"] and len(result["verdict"]) == 3
    again = json.loads(kite("rehearse", *OUTAGE, "--runs", 3, "--json", config=config).stdout)
    assert again == result, "the same seed says the same"


def test_people_read_the_verdict_first_and_see_the_queue(config: Path, tmp_path: Path) -> None:
    picture, page, curves = tmp_path / "q.png", tmp_path / "q.html", tmp_path / "q.csv"
    ran = kite(
        "rehearse", *OUTAGE, "--runs", 2, "--png", picture, "--html", page, "--csv", curves, config=config
    )  # fmt: skip
    lines = ran.stdout.decode().splitlines()
    assert lines[0] == "Verdict" and "Beacon is down from" in lines[1]
    assert "Recipients waiting" in ran.stdout.decode() and any(line.endswith("####") for line in lines)
    assert picture.read_bytes().startswith(b"\x89PNG")
    html = page.read_text()
    assert "<svg" in html and "Beacon is down from" in html
    assert "<script" not in html and 'src="http' not in html and "@import" not in html, "it fetches nothing"
    header, *rows = curves.read_text().splitlines()
    assert header.startswith("time,waiting_recipients,") and len(rows) >= 288


def test_exit_1_says_that_mail_would_expire(config: Path) -> None:
    ran = kite(
        "rehearse", "--rate", "60/h", "--set", "retry.lifetime=2h", "--down", "beacon=6h", "--runs", 1, config=config
    )
    assert ran.returncode == 1 and b"recipients expire" in ran.stdout


def test_exit_1_says_that_more_comes_than_leaves(config: Path) -> None:
    ran = kite("rehearse", "--rate", "900/h", "--service", "beacon=600/h", "--for", "6h", "--runs", 1, config=config)
    text = " ".join(ran.stdout.decode().split())
    assert ran.returncode == 1 and "More comes than can ever leave: beacon gets" in text
    assert "a next hop that takes" in text


@pytest.mark.parametrize(
    ("words", "says", "status"),
    [
        (
            ("--rate", "60/h", "--down", "beakon=1h"),
            b"there is no connector or next hop 'beakon'; did you mean beacon",
            2,
        ),
        (("--rate", "60/h", "--down", "beacon"), b"down: 'beacon': write it as beacon=6h@09:00", 2),
        (("--rate", "lots"), b"rate: 'lots' is no pace", 2),
        (("--rate", "900/s", "--for", "1d"), b"77,760,000 messages are too many", 2),
        (("--rate", "60/h", "--load", "x"), b"load: 'x' is no number", 2),
        (
            ("--rate", "60/h", "--find", "speed", "--goal", "expired < 1"),
            b"--find takes sessions, waits or allowance",
            2,
        ),
        (("--rate", "60/h", "--find", "waits"), b"--find and --goal go together", 2),
        (("--rate", "60/h", "--find", "sessions", "--goal", "expired < 1"), b"say of which connector", 2),
        (("--scenario", "nowhere.toml"), b"nowhere.toml cannot be read", 1),
    ],
)
def test_what_cannot_be_rehearsed_is_said(config: Path, words: tuple[str, ...], says: bytes, status: int) -> None:
    ran = kite("rehearse", *words, config=config)
    assert ran.returncode == status and says in ran.stderr and b"Traceback" not in ran.stderr


def test_what_arrives_is_what_the_scenario_is_about(config: Path) -> None:
    """Without a history, it goes by the connector that is named, or to the domain that is refused."""
    words = ("--rate", "60/h", "--runs", 1, "--for", "1d", "--json")
    ran = kite("rehearse", *words, "--refuse", "passenger.example=550:2h", config=config)
    assert 90 < json.loads(ran.stdout)["refused"]["median"] < 150
    ran = kite("rehearse", *words, "--down", "harbour=3h", config=config)
    assert 140 < json.loads(ran.stdout)["largest_queue"]["median"] < 220


def test_without_a_history_it_says_what_to_type(config: Path, tmp_path: Path) -> None:
    ran = kite("rehearse", "--down", "beacon=6h", config=config)
    assert ran.returncode == 1 and b"--rate 600/h" in ran.stderr, "there is no queue at all"
    open_store(store_of(tmp_path / "queue")).upgrade()
    ran = kite("rehearse", "--down", "beacon=6h", config=config)
    assert ran.returncode == 1 and b"the history has 0 hours" in ran.stderr and b"--rate 600/h" in ran.stderr


def test_a_value_is_searched_and_the_command_printed(config: Path) -> None:
    words = ("--rate", "600/h", "--service", "beacon=20s", "--for", "2h", "--runs", 2)
    ran = kite("rehearse", *words, "--find", "sessions", "--goal", "p95 delay < 60s", "--json", config=config)
    result = json.loads(ran.stdout)
    assert ran.returncode == 0 and result["command"] == f"kite connector set beacon sessions={result['value']}"
    set_up = kite(*result["command"].split()[1:], config=config)
    assert set_up.returncode == 0, "what is printed can be typed"
    text = kite("rehearse", *words, "--find", "sessions", "--goal", "p95 delay < 60s", config=config).stdout.decode()
    assert f"sessions = {result['value']} is the smallest" in text and "meets it" in text


def test_two_configurations_are_compared_on_the_same_mail(config: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.toml"
    other.write_text(
        config.read_text().replace('"out.beaconpost.example:587"', '"out.beaconpost.example:587", "b.example:25"')
    )
    words = ("--rate", "60/h", "--down", "out.beaconpost.example=2h", "--runs", 2, "--config", other)
    result = json.loads(kite("rehearse", *words, "--json", config=config).stdout)
    second = result["compared"][str(other)]
    assert second["submitted"] == result["submitted"]
    assert second["largest_queue"]["median"] < 10 < result["largest_queue"]["median"]


def test_a_scenario_file_says_the_same(config: Path, tmp_path: Path) -> None:
    file = tmp_path / "monday.toml"
    file.write_text('title = "A bad Monday"\nrate = "60/h"\ndown = ["beacon=1h@mon-08:00"]\n')
    ran = kite("rehearse", "--scenario", file, "--runs", 1, "--html", tmp_path / "m.html", config=config)
    assert "Beacon is down from Mon 08:00 to 09:00" in " ".join(ran.stdout.decode().split())
    assert "<title>A bad Monday</title>" in (tmp_path / "m.html").read_text()
    schema = json.loads(kite("rehearse", "--schema").stdout)
    assert schema["properties"]["down"]["type"] == "array"
