"""A process that answers monitoring programs over HTTP and evaluates alarms, separate from the mail server so that
neither can slow mail down.

It reads the store as every command does. The server that started it has bound the socket, says on standard input by
which configuration it goes, and then, octet by octet, that its loop runs; when that ends, so does this process. On
standard output go lines of JSON: every 10 s the text of each alarm's condition, empty where it does not hold; and a
report that is due.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import sys
import threading
import time
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from copper_kite.errors import KiteError
from copper_kite.monitoring.collector import render
from copper_kite.monitoring.conditions import describe_condition
from copper_kite.monitoring.due_report import DueReport
from copper_kite.monitoring.due_tls_reports import DueTlsReports
from copper_kite.monitoring.health import Problem
from copper_kite.monitoring.readings import Readings, take_readings
from copper_kite.monitoring.totals import Totals
from copper_kite.settings import Loaded, is_within, load_source

__all__ = ["MonitoringServer", "Source", "evaluate_alarms", "serve"]

UNRESPONSIVE_SECONDS = 10.0  # without a sign of the loop's life, the server counts as held up
FRESH_SECONDS = 1.0  # for which one look at the server answers all who ask
REQUEST_SECONDS = 10.0  # for one request, from the connection to the end of the answer
MOST_SHARE = 0.05  # of a processor, on a queue so long that an evaluation takes a while
EVALUATION_SECONDS = 10.0  # from one look at what alarms watch to the next
MOST_REQUESTS = 16  # at a time; more are turned away
_OUTPUT = threading.Lock()
FORBIDDEN = b"HTTP/1.0 403 Forbidden\r\nContent-Type: text/plain\r\n\r\nthis address is not in [metrics] allow\n"


class Source:
    """The state of the server, shared by all requests."""

    def __init__(self, loaded: Loaded) -> None:
        self.loaded = loaded
        self.last_heartbeat = time.monotonic()  # the last sign of life
        self._lock = threading.Lock()
        self._totals = Totals()
        self._readings: Readings | None = None
        self._taken = 0.0

    def readings(self) -> Readings:
        """A fresh look at the server. Raises StoreError."""
        with self._lock:
            if self._readings is None or time.monotonic() - self._taken >= FRESH_SECONDS:
                self._readings = take_readings(self.loaded, self._totals, time.time())
                self._taken = time.monotonic()
            return self._readings

    @property
    def unresponsive(self) -> bool:
        """Whether the server's loop has not turned for a while."""
        return time.monotonic() - self.last_heartbeat > UNRESPONSIVE_SECONDS

    def problems(self) -> list[Problem]:
        """The problems of the server."""
        held = [Problem("held up", "the server does not answer: its loop stands still")] if self.unresponsive else []
        try:
            return [*held, *self.readings().problems]
        except KiteError as error:
            return [*held, Problem("queue", str(error))]


class MonitoringServer(ThreadingHTTPServer):
    """Answers at a socket that is bound already; each request in a thread, and not more than a few."""

    def __init__(self, sock: socket.socket, source: Source) -> None:
        super().__init__(("", 0), _Handler, bind_and_activate=False)
        self.socket.close()
        self.socket, self.source = sock, source
        self._room = threading.BoundedSemaphore(MOST_REQUESTS)

    def verify_request(self, request: Any, client_address: Any) -> bool:
        """Whether the client may ask; a Unix socket's is on this machine."""
        if isinstance(client_address, str | bytes) or not client_address:
            return True
        if is_within(client_address[0], self.source.loaded.settings.metrics.allow):
            return True
        with contextlib.suppress(OSError):
            request.send(FORBIDDEN)
        return False

    def process_request(self, request: Any, client_address: Any) -> None:
        """Answer, if there is room."""
        if self._room.acquire(blocking=False):
            super().process_request(request, client_address)
        else:
            self.shutdown_request(request)

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        """Answer one request; a client that takes too long, in however small steps, is cut off."""
        cut = threading.Timer(REQUEST_SECONDS, _cut_off, [request])
        cut.daemon = True
        cut.start()
        try:
            super().process_request_thread(request, client_address)
        finally:
            cut.cancel()
            self._room.release()

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A client that closed the connection early is ignored."""


def _cut_off(request: socket.socket) -> None:
    with contextlib.suppress(OSError):
        request.shutdown(socket.SHUT_RDWR)


class _Handler(BaseHTTPRequestHandler):
    """Answer one request on one connection (RFC 9112)."""

    server: MonitoringServer
    server_version, sys_version = "copper-kite", ""

    def do_GET(self) -> None:
        """Answer by the path."""
        source = self.server.source
        match self.path.partition("?")[0]:
            case "/metrics":
                try:
                    text, kind = render(source.readings(), self.headers.get("Accept", ""))
                except KiteError as error:
                    self._answer(503, f"{error}\n".encode(), "text/plain; charset=utf-8")
                else:
                    self._answer(200, text, kind)
            case "/health":
                problems = source.problems()
                results = {"healthy": not problems, "reasons": [problem._asdict() for problem in problems]}
                self._answer_json(503 if problems else 200, results)
            case "/live":
                self._answer_json(503 if source.unresponsive else 200, {"live": not source.unresponsive})
            case _:
                self._answer(404, b"there are /metrics, /health and /live\n", "text/plain")

    do_HEAD = do_GET

    def _answer_json(self, status: int, values: dict[str, Any]) -> None:
        self._answer(status, f"{json.dumps(values)}\n".encode(), "application/json")

    def _answer(self, status: int, body: bytes, kind: str) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Cache-Control", "no-store")
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def address_string(self) -> str:
        """A Unix socket's client has none."""
        return str(self.client_address)

    def log_message(self, format: str, *args: Any) -> None:
        """Requests are not worth a line of log."""


def serve(descriptor: int | None) -> None:
    """Answer at the socket with this file descriptor, if there is one, and watch, until the server is gone."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1):  # all of them are for the server
        signal.signal(number, signal.SIG_IGN)
    os.nice(5)
    start = json.loads(sys.stdin.buffer.readline())
    loaded = load_source(Path(start["path"]), start["source"], secrets=False)
    source = Source(replace(loaded, data=Path(start["data"]), server_name=start["server_name"]))
    threading.Thread(target=_follow_heartbeats, args=[source], daemon=True).start()
    if descriptor is not None:
        server = MonitoringServer(socket.socket(fileno=descriptor), source)
        threading.Thread(target=server.serve_forever, daemon=True).start()
    # Reports on TLS wait for the DNS and the web servers of others: alarms must not.
    threading.Thread(target=_make_tls_reports, args=[source.loaded], daemon=True).start()
    report = DueReport(source.loaded)
    while True:
        began = time.monotonic()
        _send("alarms", evaluate_alarms(source))
        _send("report", _due_report(report))
        took = time.monotonic() - began
        time.sleep(max(EVALUATION_SECONDS, took / MOST_SHARE))


def _make_tls_reports(loaded: Loaded) -> None:
    tls_reports = DueTlsReports(loaded)
    while True:
        _send("tls_report", _due_report(tls_reports))
        time.sleep(EVALUATION_SECONDS)


def _send(kind: str, result: dict[str, Any] | None) -> None:
    """Send a result to the server, if there is one, in one line; threads take turns."""
    if result:
        line = f"{json.dumps({kind: result})}\n".encode()
        with _OUTPUT:
            sys.stdout.buffer.write(line)
            sys.stdout.buffer.flush()


def _due_report(report: DueReport | DueTlsReports) -> dict[str, Any] | None:
    """A report to send, or the `fault` that prevented it; the report is tried again later."""
    try:
        return report.make_if_due(time.time())
    except KiteError:
        return None
    except Exception as error:  # alarms must go on, whatever a report meets
        return {"fault": f"{type(error).__name__}: {error}"}


def evaluate_alarms(source: Source) -> dict[str, str]:
    """The text of each alarm's condition by its name; nothing while the queue cannot be read."""
    alarms = [alarm for alarm in source.loaded.settings.alarm if alarm.enabled]
    try:
        return {alarm.name: describe_condition(alarm, source.readings()) for alarm in alarms}
    except KiteError:
        return {}


def _follow_heartbeats(source: Source) -> None:
    """Hear the server's signs of life; without them there is nothing left to do."""
    while os.read(sys.stdin.fileno(), 4096):
        source.last_heartbeat = time.monotonic()
    os._exit(0)


if __name__ == "__main__":
    serve(int(sys.argv[1]) if sys.argv[1:] else None)
