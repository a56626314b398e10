"""`kite queue retry`, `park`, `release`, `remove`, `return`, `redirect`: by ids or the filters of the list, with the
server or without."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from copper_kite.cli.commands.pipe_command import local_user
from copper_kite.cli.output.queue_table import show_queue
from copper_kite.cli.output.show import echo
from copper_kite.cli.shared.completion import complete_ids
from copper_kite.cli.shared.options import load_settings, queue_place
from copper_kite.cli.shared.selection import filters, selection

if TYPE_CHECKING:
    from copper_kite.settings import Loaded
    from copper_kite.store import AdminRequest, QueueRow, Running, Selection, StorePlace
    from copper_kite.words import Action

__all__ = ["ask_server", "make_action", "redirect", "some_server_runs"]

ANSWER_SECONDS = 5.0  # what the running server may take
WAIT_SECONDS = 120.0  # for attempts, with `--wait`
SHOWN = 10  # recipients listed before it is asked
_HELP = {
    "retry": "Try waiting or failed messages again now; failed ones get a new lifetime.",
    "park": "Hold messages: no attempt is made until they are released.",
    "release": "Release parked messages.",
    "remove": "Delete messages from the queue: they are not sent, and no notice is written.",
    "return": "Fail messages now and send their senders a notice.",
    "redirect": "Send messages through another connector, or to another recipient.",
}


def make_action(name: str) -> click.Command:
    """The command for one action."""

    @click.command(name, help=f"{_HELP[name]}\n\nSelect messages by ID, or by the filters that `kite queue list` has.")
    @click.argument("ids", nargs=-1, metavar="[ID...]", shell_complete=complete_ids)
    @filters
    @click.option("--yes", is_flag=True, help="Do not ask.")
    @click.pass_obj
    def command(config: str | None, /, ids: tuple[str, ...], yes: bool, wait: bool = False, **given: Any) -> None:
        from copper_kite.words import Action

        _act(config, _QueueAction(name, Action(name), wait=wait), ids, given, yes=yes)

    if name in ("retry", "release"):
        command.params.append(
            click.Option(["--wait"], is_flag=True, help="Wait for the attempts and show their results.")
        )
    return command


@click.command("redirect", help=f"{_HELP['redirect']}\n\nSelect messages by ID, or by filters of `kite queue list`.")
@click.argument("ids", nargs=-1, metavar="[ID...]", shell_complete=complete_ids)
@filters
@click.option("--to-connector", metavar="NAME", default="", help="Let this connector carry it from now on.")
@click.option("--to-recipient", metavar="ADDRESS", default="", help="Send it to this address instead.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def redirect(
    config: str | None,
    /,
    ids: tuple[str, ...],
    to_connector: str,
    to_recipient: str,
    yes: bool,
    **given: Any,
) -> None:
    """Exactly one of the two options names the target."""
    from copper_kite.words import Action

    loaded = load_settings(config)
    if bool(to_connector) == bool(to_recipient):
        raise click.UsageError("say where to: --to-connector NAME, or --to-recipient ADDRESS")
    if to_connector:
        names = [entry.name for entry in loaded.settings.connector if entry.enabled]
        if to_connector not in names:
            known = ", ".join(names) or "none"
            raise click.UsageError(f"no connector {to_connector!r} that is enabled; there are: {known}")
        action = _QueueAction(f"redirect to connector {to_connector}", Action.SEND_BY, to_connector)
    else:
        action = _QueueAction(f"redirect to {to_recipient}", Action.SEND_TO, _whole_address(loaded, to_recipient))
    _act(config, action, ids, given, yes=yes)


def _whole_address(loaded: Loaded, address: str) -> str:
    """An address as it leaves. Raises UsageError."""
    from copper_kite.routing import Outward

    recipient = Outward(loaded.settings.identity, loaded.server_name).recipient(address)
    if recipient is None:
        raise click.UsageError(f"{address!r} is not an address that mail can leave for")
    return recipient


class _QueueAction(NamedTuple):
    """A request: in words, as an action, and with its target where it has one."""

    words: str
    action: Action
    target: str = ""
    wait: bool = False


def _act(config: str | None, action: _QueueAction, ids: Sequence[str], given: dict[str, Any], *, yes: bool) -> None:
    """Show what is meant, ask, and have it done."""
    from copper_kite.store import open_store

    if not ids and not any(value for value in given.values()):
        raise click.UsageError("name messages by ID, or by a filter such as --to or --state")
    with open_store(queue_place(config)).reader() as reader:
        rows = _meant(reader, action.action, ids, given)
    if not rows:
        echo(f"There is nothing to {action.words}.")
        return
    messages = len({row.message.id for row in rows})
    _show(rows)
    affected = f"{len(rows)} recipient{'s' * (len(rows) > 1)} of {messages} message{'s' * (messages > 1)}"
    first, _, rest = action.words.partition(" ")
    if not yes and not click.confirm(f"{first.capitalize()} {affected}{f' {rest}' * bool(rest)}?"):
        return
    began = time.time()
    done = _have_done(config, action, rows)
    echo(f"{affected}: {done}")
    if action.wait:
        sys.exit(_follow(queue_place(config), rows, began))


def _meant(reader: Any, action: Action, ids: Sequence[str], given: dict[str, Any]) -> list[QueueRow]:
    from copper_kite.relay import may_apply
    from copper_kite.words import State

    chosen = selection(reader, ids, given)
    if not chosen.states:
        chosen = chosen._replace(states=[state for state in State if may_apply(action, state)])
    return [row for row in reader.select(chosen) if may_apply(action, row.recipient.state)]


def _show(rows: Sequence[QueueRow]) -> None:
    show_queue(rows[:SHOWN], time.time())
    if len(rows) > SHOWN:
        echo(f"… and {len(rows) - SHOWN} more")


def _have_done(config: str | None, action: _QueueAction, rows: Sequence[QueueRow]) -> str:
    """Store the requests for the running server; or carry them out where none runs."""
    from copper_kite.store import AdminRequest, running_server

    now, who = time.time(), local_user()
    wanted = [
        AdminRequest(0, now, who, action.action, row.message.id, row.recipient.number, action.target) for row in rows
    ]
    place = queue_place(config)
    running = running_server(place.folder)
    if running is None and not place.url:
        from copper_kite.relay import carry_out_offline

        carry_out_offline(load_settings(config), wanted, now)
        return "done; no server runs now"
    return ask_server(place, running, wanted)


def ask_server(place: StorePlace, running: Running | None, wanted: Sequence[AdminRequest]) -> str:
    """Store the requests, wake the running server, and wait; the line to show.

    Those that share the queue, one of which may run elsewhere, look by themselves.
    """
    from copper_kite.store import open_store

    numbers = open_store(place).add_requests(wanted)
    told = running is not None and tell_server(running)
    if not told and not some_server_runs(place):
        return "noted; no server runs now, and the next one that starts does it"
    return _answer(place, set(numbers))


def some_server_runs(place: StorePlace) -> bool:
    """Whether a server is at work on the queue, here or elsewhere. Raises StoreError."""
    from copper_kite.store import open_store, running_server

    if not place.url:
        return running_server(place.folder) is not None
    with open_store(place).reader() as reader:
        return any(server.alive for server in reader.servers())


def tell_server(running: Running) -> bool:
    """Wake the server; False if it has stopped meanwhile."""
    try:
        os.kill(running.pid, signal.SIGUSR1)
    except ProcessLookupError:
        return False
    return True


def _follow(place: StorePlace, rows: Sequence[QueueRow], began: float) -> int:
    """Wait until each was tried since then, or put off without a try, and show them; 0 when all were relayed."""
    from copper_kite.store import open_store
    from copper_kite.words import State

    if not some_server_runs(place):
        echo("no server runs now: nothing is tried before one does")
        return 1
    wanted = {(row.message.id, row.recipient.number) for row in rows}
    ids, until = sorted({id for id, _ in wanted}), time.monotonic() + WAIT_SECONDS
    with open_store(place).reader() as reader:
        while True:
            now = [row for row in reader.select(_of(ids)) if (row.message.id, row.recipient.number) in wanted]
            left = [row for row in now if _is_to_be_tried(row, began)]
            if not left or time.monotonic() > until:
                break
            time.sleep(0.05)
    _show(now)
    relayed = sum(row.recipient.state is State.RELAYED for row in now)
    echo(f"{relayed} of {len(now)} relayed" + f"; {len(left)} not tried within {WAIT_SECONDS:.0f} s" * bool(left))
    return 0 if relayed == len(now) else 1


def _is_to_be_tried(row: QueueRow, began: float) -> bool:
    from copper_kite.words import State

    recipient = row.recipient  # it may have left while somebody was asked
    return recipient.state is State.QUEUED or (recipient.changed < began and recipient.state is not State.RELAYED)


def _of(ids: Sequence[int]) -> Selection:
    from copper_kite.store import Selection
    from copper_kite.words import State

    return Selection(ids=ids, states=tuple(State))


def _answer(place: StorePlace, numbers: set[int]) -> str:
    from copper_kite.store import open_store

    until = time.monotonic() + ANSWER_SECONDS
    with open_store(place).reader() as reader:
        while left := {item.number for item in reader.admin_requests()} & numbers:
            if time.monotonic() > until:
                return f"{len(left)} of them are on their way now; the server does it when they are back"
            time.sleep(0.02)
    return "done"
