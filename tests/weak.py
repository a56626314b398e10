"""A configuration with all that can be weak in files."""

from __future__ import annotations

import subprocess
from pathlib import Path

from copper_kite.smtp import Secret
from copper_kite.smtp.sasl.scram_keys import ScramKey
from tests.cli.test_domain import ZONE
from tests.configuration import connector, site_text, table

WEAK = (
    table("[[account]]", name="ticketing"),
    table("[[account]]", name="rota", senders=["rota@ternferries.example"], allowance=["10/day"], networks=["10.1.2.0/24"]),
    connector("beacon", "out.beaconpost.example", tls="starttls", credential="beacon", login_in_clear=True,
              ciphers="AES128-SHA:ECDHE-RSA-AES128-GCM-SHA256"),
    connector("second", "out.second.example", tls="off", recipients=["second.example"]),
    connector("third", "out.third.example", tls="opportunistic", recipients=["third.example"]),
    connector("direct", mx=True, tls="opportunistic", policy="off", sign=False, recipients=["crew.example"]),
    table("[[signing]]", domain="other.example", selector="old", key="old.pem"),
    table("[retry]", lifetime="6h"),
    table("[journal]", keep="1d"),
    table("[log]", to="file:kite.log"),
    table("[metrics]", bind="0.0.0.0:9587", allow=["0.0.0.0/0"]),
)  # fmt: skip


def write_weak(folder: Path) -> Path:
    """Write it, with all its files; its path."""
    config = folder / "kite.toml"
    config.write_text(site_text(*WEAK, bind=["0.0.0.0:2525"], server={"dns": "zone:trial.zone", "addresses": ["192.0.2.25"]},
                                listener={"allow": ["10.0.0.0/8"]}))  # fmt: skip
    (folder / "trial.zone").write_text(ZONE.replace("ip4:192.0.2.25 ", ""))
    key = ScramKey.make(Secret("made-up"), b"salt salt salt", 4096)
    for name, text in (
        ("credentials.toml", '[beacon]\nlogin = "x"\npassword = "made-up"\n'),
        ("accounts.toml", f'[ticketing]\nkey = "{key}"\n'),
    ):
        (folder / name).touch(mode=0o600)
        (folder / name).write_text(text)
    subprocess.run(["openssl", "genrsa", "-out", str(folder / "old.pem"), "1024"], check=True, capture_output=True)
    (folder / "old.pem").chmod(0o600)
    (folder / "queue").mkdir(mode=0o755)
    (folder / "kite.log").touch(mode=0o644)
    return config
