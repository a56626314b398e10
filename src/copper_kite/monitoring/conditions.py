"""The conditions of alarms: whether one holds, and the text that describes it."""

from __future__ import annotations

from collections.abc import Callable

from copper_kite.clock import span_text
from copper_kite.monitoring.readings import Readings
from copper_kite.settings import Alarm
from copper_kite.words import State

__all__ = ["describe_condition"]

FEW = 20  # recipients in an hour: too few for a share


def describe_condition(alarm: Alarm, readings: Readings) -> str:
    """The condition in a sentence; empty when it does not hold."""
    return _CONDITIONS[alarm.when](readings, alarm.threshold)


def _connector_failing(readings: Readings, limit: float) -> str:
    """A connector as a whole; with MX, a domain that is unreachable is no fault of the connector."""
    names = {connector.name for connector in readings.loaded.settings.connector if connector.enabled}
    results = [
        f"connector {stop.connector} has not got through for {span_text(readings.now - stop.since)}: {stop.text};"
        f" `kite probe --connector {stop.connector}` shows how far it gets"
        for stop in readings.stops
        if stop.connector in names and not stop.domain and readings.now - stop.since > limit
    ]
    return "; ".join(results)


def _oldest_waiting(readings: Readings, limit: float) -> str:
    oldest = readings.summary.oldest
    if oldest is None or readings.now - oldest <= limit:
        return ""
    return f"the oldest message has waited for {span_text(readings.now - oldest)}; `kite queue` shows for what"


def _waiting(readings: Readings, limit: float) -> str:
    waiting = sum(readings.summary.by_state.get(state, 0) for state in (State.QUEUED, State.DELAYED))
    return f"{waiting} recipients wait; `kite queue` shows for what" if waiting > limit else ""


def _failed_share(readings: Readings, limit: float) -> str:
    failed, relayed = readings.flow.last_hour("failed"), readings.flow.last_hour("relayed")
    if failed + relayed < FEW or failed <= limit * (failed + relayed):
        return ""
    share = 100 * failed / (failed + relayed)
    return f"{failed} of {failed + relayed} recipients failed in the last hour ({share:.0f} %); `kite report` says why"


def _refused(readings: Readings, limit: float) -> str:
    refused = readings.flow.last_hour("refused")
    text = f"listeners refused {refused} recipients in the last hour; `kite trace --refused` shows from whom, and why"
    return text if refused > limit else ""


def _allowance(readings: Readings, limit: float) -> str:
    results = [
        f"connector {connector} has used {used} of its allowance {allowance}; `kite report --day` shows by whom"
        for connector, allowance, used in readings.allowances
        if used > limit * allowance.count
    ]
    return "; ".join(results)


def _disk(readings: Readings, limit: float) -> str:
    disk = readings.disk
    if disk is None or disk.free >= limit:
        return ""
    free, keep_free = f"{disk.free / 1024**2:.0f} MiB", f"{disk.keep_free / 1024**2:.0f} MiB"
    text = f"{free} are left on the disk of the queue; below {keep_free} nothing is taken in"
    return f"{text}; `kite status` shows what uses it"


def _certificate_expires(readings: Readings, limit: float) -> str:
    results = [
        f"the certificate of {kind} {name} "
        + (f"ends in {span_text(end - readings.now)}" if end > readings.now else "has ended")
        for kind, name, end in readings.certificates
        if end - readings.now < limit
    ]
    return "; ".join(results)


def _surge(readings: Readings, limit: float) -> str:
    senders = ", ".join(dict.fromkeys(readings.surges))
    text = f"slowed down since they send far more than ever: {senders}; `kite report --day` shows to whom"
    return text if senders else ""


def _configuration(readings: Readings, limit: float) -> str:
    return "; ".join(problem.text for problem in readings.problems if problem.reason == "configuration")


def _drop_folder(readings: Readings, limit: float) -> str:
    dropped = readings.dropped
    return f"{dropped} messages lie in the drop folder {readings.loaded.drop}" if dropped > limit else ""


def _signing(readings: Readings, limit: float) -> str:
    return "; ".join(f"{problem}; mail from there waits" for problem in readings.unusable_keys)


def _tokens(readings: Readings, limit: float) -> str:
    return "; ".join(
        f"credential {name} gets no new token for {span_text(readings.now - since)}: {why}"
        for name, why, since in readings.token_problems
    )


_CONDITIONS: dict[str, Callable[[Readings, float], str]] = {
    "connector_failing": _connector_failing,
    "oldest_waiting": _oldest_waiting,
    "waiting": _waiting,
    "failed_share": _failed_share,
    "refused": _refused,
    "allowance": _allowance,
    "disk": _disk,
    "certificate_expires": _certificate_expires,
    "surge": _surge,
    "configuration": _configuration,
    "drop_folder": _drop_folder,
    "signing": _signing,
    "tokens": _tokens,
}
