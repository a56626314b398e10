"""`kite service`."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from copper_kite.cli.output.show import echo
from copper_kite.cli.shared.options import load_settings
from copper_kite.errors import InputError

__all__ = ["service"]


@click.command()
@click.option("--install", is_flag=True, help="Write the units to --folder instead of standard output.")
@click.option("--folder", default="/etc/systemd/system", show_default=True, help="Where --install puts them.")
@click.option("--share", metavar="FOLDER", help="Where --install puts the manual pages; else where man looks.")
@click.option("--path", metavar="FILE", help="Instead: install FILE as the command to which programs hand mail.")
@click.option(
    "--completion",
    metavar="FOLDER",
    is_flag=False,
    flag_value="",
    help="Instead: install completion for bash, zsh and fish.",
)
@click.option("--yes", is_flag=True, help="With --path: do not ask.")
@click.option("--user", default="copper-kite", show_default=True, help="User that the service runs as.")
@click.pass_obj
def service(
    config: str | None,
    install: bool,
    folder: str,
    share: str | None,
    path: str | None,
    completion: str | None,
    yes: bool,
    user: str,
) -> None:
    """Print a systemd unit for the server, with its socket unit.

    A user of its own, no rights beyond those it needs, port 25 opened by systemd, the credentials handed over by
    systemd (LoadCredential). `systemctl reload` takes up a changed configuration. With --install, also the manual
    pages: `man kite`, `man kite-trace`, `man kite.toml`.

    With --path, programs that call FILE, the path that ISO/IEC 23360-1 names for submitting mail, hand it to this
    server: what stood there is told, and kept beside it.

    With --completion, the shells complete commands, options, the names of connectors, listeners, accounts and
    credentials, keys, and ids of the queue; for all users as root, else for yourself.
    """
    if completion is not None:
        _install_completion(Path(completion) if completion else _share_folder())
        return
    if path is not None:
        from copper_kite.cli.commands.install_wrapper import set_up_path

        set_up_path(Path(path), load_settings(config).path.absolute(), _command(), yes=yes)
        return
    from copper_kite.settings import NAME, STATE, EditFailed, service_unit, socket_unit, write_file

    loaded = load_settings(config)
    units = {f"{NAME}.service": service_unit(loaded, _command(), user), f"{NAME}.socket": socket_unit(loaded)}
    if not install:
        for name, text in units.items():
            echo(f"# {name}\n{text}")
        return
    if not Path(folder).is_dir():
        raise InputError(f"{folder} is no folder", usage=True)
    for name, text in units.items():
        try:
            write_file(Path(folder) / name, text)
        except EditFailed as error:
            raise InputError(f"{error}; run it as root") from error
        echo(f"{Path(folder) / name} written")
    _install_manual(Path(share) if share else _share_folder())
    echo("Next:")
    if loaded.data.absolute() != STATE:  # there, systemd makes the user and the folder
        echo(f"  useradd --system --shell /usr/sbin/nologin {user}")
        echo(f"  install -d -o {user} -m 0700 {loaded.data.absolute()}")
    echo(f"  systemctl daemon-reload\n  systemctl enable --now {NAME}.socket {NAME}.service")


def _share_folder() -> Path:
    """The folder where shells and man look for files of added programs: for all users, or for one."""
    return Path("/usr/local/share") if os.geteuid() == 0 else Path.home() / ".local/share"


def _install_completion(share: Path) -> None:
    from copper_kite.cli.shared.completion import completion_files

    for path, text in completion_files(share, _root_command()).items():
        _write_shared(path, text)
        echo(f"{path} written")
    echo("A new shell completes them; zsh where its fpath has that folder.")


def _install_manual(share: Path) -> None:
    from copper_kite.cli.output.manual import manual_pages

    for name, text in manual_pages(_root_command()).items():
        _write_shared(share / "man" / f"man{name[-1]}" / name, text)
    echo(f"manual pages written to {share / 'man'}")


def _root_command() -> click.Group:
    command = click.get_current_context().find_root().command
    assert isinstance(command, click.Group)
    return command


def _write_shared(path: Path, text: str) -> None:
    """Raises InputError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    except OSError as error:
        raise InputError(f"{path} cannot be written ({error.strerror})") from error


def _command() -> list[str]:
    """The command that starts this very program, in full."""
    script = Path(sys.argv[0]).absolute()
    return [str(script)] if script.name == "kite" else [sys.executable, "-m", "copper_kite"]
