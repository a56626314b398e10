"""`kite pipe` as programs call it: by hand, from scripts, and at the path where they look for such a command."""

from __future__ import annotations

import asyncio
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from copper_kite.cli.commands import pipe_command
from copper_kite.net.authority import CertificateFiles
from copper_kite.session.standin import Caught, Rule
from copper_kite.smtp.replies import Reply
from tests.cli.test_commands import port_of, smart_host, take
from tests.support import environment, kite, running, write_site

LETTER = (
    b"To: Ana <ana@passenger.example>,\n bo@passenger.example\nCc: root\nBcc: cy@passenger.example\nSubject: s\n\nx\n"
)


def at_work(
    folder: Path, authority: CertificateFiles, test: Callable[..., None], messages: int, *rules: Rule
) -> list[Caught]:
    """Run `test` (in a thread, with the configuration) beside a server; the messages that reached its smart host."""

    async def live() -> list[Caught]:
        async with smart_host(folder, authority, *rules) as (hop, caught):
            config = write_site(folder, hop)
            with running(config):
                await asyncio.to_thread(test, config)
                return [await take(caught) for _ in range(messages)]

    return asyncio.run(live())


def octets(caught: Caught) -> bytes:
    assert caught.file is not None
    return caught.file.read_bytes()


def test_recipients_are_those_in_the_header(folder: Path, authority: CertificateFiles) -> None:
    """And the blind ones do not show."""

    def test(config: Path) -> None:
        done = kite(
            "pipe",
            "-t",
            "-i",
            "-f",
            "rota@ternferries.example",
            "-F",
            "Crew, of the night",
            stdin=LETTER,
            config=config,
        )
        assert (done.returncode, done.stdout, done.stderr) == (0, b"", b"")

    (caught,) = at_work(folder, authority, test, 1)
    assert caught.reverse_path == "rota@ternferries.example"
    assert sorted(caught.recipients) == [
        "ana@passenger.example", "bo@passenger.example", "cy@passenger.example", "duty@crew.example",
    ]  # fmt: skip
    assert b"cy@" not in octets(caught) and b'From: "Crew, of the night" <rota@ternferries.example>\r\n' in octets(
        caught
    )


def test_the_ways_programs_write_their_options(folder: Path, authority: CertificateFiles) -> None:
    letters = (
        (("-oi", "-oem", "-odb", "-frota", "a@passenger.example"), b"x\n.\ny\n", b"x\r\n.\r\ny\r\n"),
        (("--as-standard", "-FCron", "-f", "rota", "a@passenger.example"), b"x\n.\ny\n", b"x\r\n"),
        (("--as-standard", "-i", "-om", "--", "a@passenger.example"), b"x\n.\ny\n", b"x\r\n.\r\ny\r\n"),
        (("--from=<>", "--notify", "success,delay", "--return", "headers", "--envelope-id=q7", "a@passenger.example"), b"x\n", b"x\r\n"),
        (("-Nnever", "-R", "hdrs", "-odq", "-v", "-B8BITMIME", "-q10m", "-oew", "a@passenger.example"), b"x\n", b"x\r\n"),
        (("-f", "<>", "-V", "a@passenger.example"), b"From root Thu Jan  1 00:00:00 1970\nSubject: s\n\nx\n", b"x\r\n"),
    )  # fmt: skip

    def test(config: Path) -> None:
        for words, stdin, _ in letters:
            assert kite("pipe", *words, stdin=stdin, config=config).returncode == 0

    caught = {item.file.name: item for item in at_work(folder, authority, test, 6) if item.file}
    in_order = [caught[name] for name in sorted(caught)]
    assert [octets(item).partition(b"\r\n\r\n")[2] for item in in_order] == [body for _, _, body in letters]
    assert in_order[0].reverse_path == "rota@ternferries.example"
    assert b"From: Cron <rota@" in octets(in_order[1])
    assert (in_order[3].reverse_path, in_order[3].esmtp_parameters) == ("", "RET=HDRS ENVID=q7")
    assert in_order[3].rcpt_parameters == ("NOTIFY=SUCCESS,DELAY",)
    assert all(item.recipients == ("a@passenger.example",) for item in in_order), (
        "the value of an option is no recipient"
    )
    header = octets(in_order[5]).partition(b"\r\n\r\n")[0]
    assert b"\r\nSubject: s" in header and b"\nFrom root" not in header and b"@ternferries.example>" in header


def test_a_session_on_standard_input_and_output(folder: Path, authority: CertificateFiles) -> None:
    """`-bs`: lines may end with LF alone."""

    def test(config: Path) -> None:
        said = b"EHLO x\nMAIL FROM:<a@t.example>\r\nRCPT TO:<b@passenger.example>\nDATA\nSubject: s\n\nhi\n.\nQUIT\n"
        done = kite("pipe", "-bs", stdin=said, config=config)
        assert done.returncode == 0 and b" kept as " in done.stdout and done.stdout.endswith(b"closing\r\n")
        listed = kite("pipe", "-bp", config=config)
        assert listed.returncode == 0

    (caught,) = at_work(folder, authority, test, 1)
    assert octets(caught).endswith(b"Subject: s\r\n\r\nhi\r\n")


def test_what_goes_wrong_is_told_or_only_in_the_status(folder: Path, authority: CertificateFiles) -> None:
    """W-16, too: nothing gets out of its command or its field."""
    cases = (
        (("-oeq", "a@"), 65, b""),
        (("a@",), 65, b"kite pipe: 501 5.1.3"),
        (("-Axq", "a@passenger.example"), 64, b"kite pipe: no option -Axq"),
        (("a@passenger.example", "-f"), 64, b"-f needs a value"),
        (("-t",), 65, b"names nobody in To, Cc or Bcc"),
        (("--notify", "never,delay", "a@passenger.example"), 64, b"success,failure,delay"),
        (("-f", "a@x>\r\nRCPT TO:<b@x", "a@passenger.example"), 64, b"is not an address"),
        (("--envelope-id", "a b", "a@passenger.example"), 64, b"RFC 3461"),
    )

    def test(config: Path) -> None:
        for words, status, said in cases:
            done = kite("pipe", *words, stdin=b"Subject: s\n\nx\n", config=config)
            assert done.returncode == status and said in done.stderr and bool(said) == bool(done.stderr), words
        done = kite(
            "pipe",
            "-F",
            "x\r\nBcc: b@x.example",
            "-oi",
            "a@passenger.example",
            stdin=b"Subject: s\n\nx\n",
            config=config,
        )
        assert done.returncode == 0

    (caught,) = at_work(folder, authority, test, 1)
    assert b"\r\nBcc" not in octets(caught) and b"From: =?utf-8?b?" in octets(caught)


def test_the_command_at_the_path_where_programs_look(folder: Path, authority: CertificateFiles) -> None:
    """What stood there is told and kept; programs that call it submit mail."""
    there = folder / "bin" / "submit"
    there.parent.mkdir()
    there.symlink_to("/nowhere/at/all")

    def test(config: Path) -> None:
        asked = kite("service", "--path", there, stdin=b"n\n", config=config)
        assert b"a link to /nowhere/at/all, which is gone" in asked.stdout and there.is_symlink()
        done = kite("service", "--path", there, "--yes", config=config)
        assert done.returncode == 0 and b"submit.before-kite; to go back: mv" in done.stdout
        assert there.with_name("submit.before-kite").is_symlink() and there.stat().st_mode & 0o777 == 0o755
        assert b"nothing to do" in kite("service", "--path", there, "--yes", config=config).stdout
        called = subprocess.run([there, "-t", "-i"], input=LETTER, capture_output=True, check=False, env=environment())
        assert (called.returncode, called.stdout + called.stderr) == (0, b"")
        if shutil.which("php"):
            code = 'exit(mail("ana@passenger.example", "from php", str_repeat("y", 5000), "From: web@ternferries.example") ? 0 : 1);'
            find = 'foreach (ini_get_all() as $k => $v) if (str_ends_with($k, "mail_path")) echo $k;'
            key = subprocess.run(["php", "-r", find], check=True, capture_output=True, text=True).stdout
            subprocess.run(["php", "-d", f"{key}={there} -t -i", "-r", code], check=True, env=environment())

    caught = at_work(folder, authority, test, 1 + bool(shutil.which("php")))
    if shutil.which("php"):
        assert any(b"Subject: from php" in octets(message) for message in caught)


@pytest.mark.skipif(shutil.which("perl") is None, reason="no perl here")
def test_perl_hands_in_mail(folder: Path, authority: CertificateFiles) -> None:
    script = """
        use Net::SMTP;
        my $smtp = Net::SMTP->new('127.0.0.1', Port => shift, Timeout => 20) or die 'no session';
        $smtp->mail('t@ternferries.example', Bits => 8) or die $smtp->message;
        $smtp->to('a@passenger.example', 'b@passenger.example', { Notify => ['FAILURE'] }) or die $smtp->message;
        $smtp->data("Subject: from perl\\n\\n.dot\\n") or die $smtp->message;
        $smtp->quit;
    """

    def test(config: Path) -> None:
        subprocess.run(["perl", "-e", script, str(port_of(config))], check=True, timeout=60)

    (caught,) = at_work(folder, authority, test, 1)
    assert octets(caught).endswith(b"Subject: from perl\r\n\r\n.dot\r\n")
    assert caught.rcpt_parameters == ("NOTIFY=FAILURE", "NOTIFY=FAILURE")


def test_a_refused_recipient_and_everything_else_stays(folder: Path, authority: CertificateFiles) -> None:
    """A message goes to all its recipients or to none; what is refused later comes back as a notice."""

    def test(config: Path) -> None:
        assert kite("pipe", "good@passenger.example", "bad@", stdin=b"x\n", config=config).returncode == 65
        assert kite("pipe", "gone@passenger.example", stdin=b"x\n", config=config).returncode == 0

    (notice,) = at_work(folder, authority, test, 1, Rule("gone@*", Reply(550, "5.1.1", "no")))
    assert notice.reverse_path == "" and b"Action: failed" in octets(notice)


def test_as_many_recipients_as_the_listener_takes_and_no_more(folder: Path, authority: CertificateFiles) -> None:
    """All or none: too many is told as what will never succeed, and a thousand do not block on each other's replies."""

    def test(config: Path) -> None:
        most = [f"r{number}@passenger.example" for number in range(1000)]
        assert kite("pipe", *most, stdin=b"Subject: s\n\nx\n", config=config).returncode == 0
        for count in (1, 19_000):
            more = [f"s{number}@passenger.example" for number in range(count)]
            done = kite("pipe", *most, *more, stdin=b"x\n", config=config)
            assert done.returncode == 65 and b"takes 1000 for one message" in done.stderr

    (caught,) = at_work(folder, authority, test, 1)
    assert len(caught.recipients) == 1000


def test_a_cr_by_itself_begins_no_header_field(folder: Path, authority: CertificateFiles) -> None:
    def test(config: Path) -> None:
        letter = b"Subject: hello\rBcc: spy@passenger.example\nTo: ana@passenger.example\n\nbody\r.\rQUIT\n"
        assert kite("pipe", "-t", stdin=letter, config=config).returncode == 0

    (caught,) = at_work(folder, authority, test, 1)
    assert list(caught.recipients) == ["ana@passenger.example"]
    assert b"\r\nSubject: hello Bcc: spy@passenger.example\r\n" in octets(caught)
    assert octets(caught).endswith(b"\r\nbody\r\n.\r\nQUIT\r\n")


def test_the_socket_never_takes_the_place_of_another_file(folder: Path) -> None:
    config = write_site(folder, 25, tls="off")
    (folder / "submit.sock").write_text("somebody's notes")
    done = kite("serve", config=config)
    assert done.returncode == 3 and b"a file that is no socket is there" in done.stderr
    assert (folder / "submit.sock").read_text() == "somebody's notes"


@pytest.mark.data_folder
def test_a_folder_that_lets_everybody_in_keeps_the_queue_private(folder: Path) -> None:
    data = folder / "queue"
    data.mkdir(mode=0o755)
    data.chmod(0o755)
    config = write_site(folder, 25, tls="off")
    with running(config):
        kept = [*data.glob("queue.sqlite*"), *(data / "content").glob("*")]
        assert len(kept) >= 2 and not any(file.stat().st_mode & 0o077 for file in kept)
    (data / "queue.sqlite").chmod(0o644)
    with running(config):
        assert not any(file.stat().st_mode & 0o007 for file in data.glob("queue.sqlite*"))


def test_an_interrupt_while_it_reads_is_one_line(folder: Path) -> None:
    config = write_site(folder, 1)
    command = [sys.executable, "-m", "copper_kite", "--config", str(config), "pipe", "root"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stderr=subprocess.PIPE, env=environment()) as process:
        assert process.stdin is not None
        assert process.stderr is not None
        process.stdin.write(bytes(2**20))  # more than the pipe holds: it reads once this is through
        process.stdin.flush()
        while ") S " not in Path(f"/proc/{process.pid}/stat").read_text():
            pass  # it has not come back for more yet
        process.send_signal(signal.SIGINT)
        said = process.stderr.read()
        process.stdin.close()
    assert said == b"kite pipe: interrupted before the server confirmed the message\n"
    assert process.returncode == 75


def test_without_a_standard_input_there_is_nothing_to_send(folder: Path) -> None:
    command = [sys.executable, "-m", "copper_kite", "--config", str(write_site(folder, 1)), "pipe", "root"]
    closed = ["sh", "-c", 'exec "$@" <&-', "sh", *command]
    done = subprocess.run(closed, capture_output=True, timeout=60, env=environment(), check=False)
    assert (done.returncode, done.stderr) == (65, b"kite pipe: there is nothing on standard input\n")


def test_an_error_of_its_own_has_the_caller_try_again(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def fail(words: object) -> None:
        raise ZeroDivisionError("of words")

    monkeypatch.setattr(pipe_command, "_read", fail)
    assert pipe_command.hand_in(["root"], None) == 75
    said = capsys.readouterr().err
    assert said.startswith(
        "kite pipe: an error of this program's own (ZeroDivisionError: of words; cli/commands/pipe_command.py:"
    )
