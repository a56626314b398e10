"""Session scripts: from text to steps. The language is specified in docs/session-scripts.md."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from copper_kite.errors import Finding, InputError, SettingsError
from copper_kite.session.expecting import parse_expectation

__all__ = ["BLOCKS", "Script", "Step", "expand", "parse_script", "read_script"]

BLOCKS = ("together", "if", "repeat", "at once")
# word → what may stand after it: "-" nothing, "?" something or nothing, "+" something
WORDS = {
    "title": "+", "needs": "+", "let": "+", "known fault": "?", "connect": "?", "hello": "?", "secure": "-",
    "login": "?", "say": "+", "answer": "+", "octets": "+", "hear": "-", "content": "?", "wait": "+", "expect": "+",
    "otherwise": "+", "close": "-", "cut": "-", "end": "-", "together": "-", "if": "+", "repeat": "+", "at once": "+",
}  # fmt: skip
_WORD = re.compile(r"(known fault|at once|[a-z]+)\b[ \t]*(.*)")
_VARIABLE = re.compile(r"\$\{([A-Za-z][A-Za-z0-9_.]*)\}")
_LET = re.compile(r"([A-Za-z][A-Za-z0-9_]*)[ \t]*=[ \t]*(.*)")
_NAME = re.compile(r"([A-Za-z][A-Za-z0-9_]*)(?:[ \t]+(.*))?")


@dataclass(frozen=True, slots=True)
class Step:
    """A statement: its line, its word, the rest of the line, and the enclosed statements.

    `lines` are those of `content`; `otherwise` is what it means when an expectation fails.
    """

    line: int
    word: str
    rest: str = ""
    body: tuple[Step, ...] = ()
    lines: tuple[str, ...] | None = None
    otherwise: str = ""

    def __str__(self) -> str:
        return f"{self.word} {self.rest}".rstrip()


@dataclass(frozen=True, slots=True)
class Script:
    """A whole script. `needs` maps a variable that must be given to what it is; `known_fault` says why it may fail."""

    path: Path
    title: str
    steps: tuple[Step, ...]
    variables: Mapping[str, str] = field(default_factory=dict)
    needs: Mapping[str, str] = field(default_factory=dict)
    known_fault: str | None = None

    @property
    def names(self) -> set[str]:
        """The variables that it uses, and that can be given a value."""
        used = {name for text in (*self.variables.values(), *_texts(self.steps)) for name in _VARIABLE.findall(text)}
        given = {name for name in used if not name.startswith("offer.")} - {"turn"}
        return given | self.variables.keys() | self.needs.keys()


def _texts(steps: Iterable[Step]) -> Iterator[str]:
    """The texts of all steps, including nested ones."""
    for step in steps:
        yield step.rest
        yield from step.lines or ()
        yield from _texts(step.body)


def read_script(path: Path) -> Script:
    """The script in a file. Raises InputError, or SettingsError with every finding."""
    try:
        return parse_script(path, path.read_text("utf-8"))
    except OSError as error:
        raise InputError(f"{path}: cannot be read ({error.strerror})", usage=True) from error
    except UnicodeDecodeError as error:
        raise InputError(f"{path}: not UTF-8", usage=True) from error


def parse_script(path: Path, text: str) -> Script:
    """The script in `text`. Raises SettingsError with every finding."""
    parser = _Parser(path, text)
    steps = parser.steps()
    if parser.findings:
        raise SettingsError(parser.findings)
    head = {step.word: step.rest for step in steps if step.word in ("title", "known fault")}
    variables, needs = {}, {}
    for step in steps:
        if step.word == "let" and (match := _LET.fullmatch(step.rest)):
            variables[match[1]] = match[2]
        elif step.word == "needs" and (match := _NAME.fullmatch(step.rest)):
            needs[match[1]] = match[2] or ""
    acts = tuple(step for step in steps if step.word not in ("title", "known fault", "let", "needs"))
    return Script(path, head.get("title", path.stem), acts, variables, needs, head.get("known fault"))


def expand(text: str, variables: Mapping[str, str]) -> str:
    """`text` with `${name}` replaced. Raises InputError for a name that nobody gave a value."""

    def value(match: re.Match[str]) -> str:
        try:
            return variables[match[1]]
        except KeyError:
            raise InputError(f"${{{match[1]}}} has no value; give it with --set {match[1]}=…", usage=True) from None

    return _VARIABLE.sub(value, text)


class _Parser:
    """Reads lines into steps, and notes everything wrong on the way."""

    def __init__(self, path: Path, text: str) -> None:
        self._path = path
        self._lines: Sequence[str] = text.splitlines()
        self._number = 0
        self.findings: list[Finding] = []

    def steps(self) -> list[Step]:
        """All of them."""
        return list(self._block(None))

    def _wrong(self, line: int, problem: str, remedy: str = "") -> None:
        self.findings.append(Finding(file=str(self._path), line=line, key="", problem=problem, remedy=remedy))

    def _block(self, opened: Step | None) -> Iterator[Step]:
        """Steps until `end`, or until the text ends."""
        results: list[Step] = []
        while self._number < len(self._lines):
            step = self._next()
            if step is None:
                continue
            if step.word == "end":
                if opened is None:
                    self._wrong(step.line, "an end with nothing to end")
                    continue
                return iter(results)
            if step.word == "otherwise":
                if not results or results[-1].word != "expect":
                    self._wrong(step.line, "otherwise comes after an expect")
                else:
                    results[-1] = _with(results[-1], otherwise=step.rest)
                continue
            results.append(step)
        if opened is not None:
            self._wrong(opened.line, f"{opened.word} has no end")
        return iter(results)

    def _next(self) -> Step | None:
        """The step on the next line, None for a line without one."""
        text = self._lines[self._number].strip()
        self._number += 1
        number = self._number
        if not text or text.startswith("#"):
            return None
        match = _WORD.fullmatch(text)
        word, rest = (match[1], match[2]) if match else ("", "")
        if word not in WORDS:
            self._wrong(number, *_unknown(text))
            return None
        if WORDS[word] == "+" and not rest:
            self._wrong(number, f"{word} needs something after it")
        elif WORDS[word] == "-" and rest:
            self._wrong(number, f"nothing may follow {word}", f"found {rest!r}")
        else:
            return self._whole(Step(number, word, rest))
        return None

    def _whole(self, step: Step) -> Step:
        if step.word in BLOCKS:
            if (
                step.word in ("repeat", "at once")
                and not (step.rest.isdigit() and int(step.rest))
                and "${" not in step.rest
            ):
                self._wrong(step.line, f"{step.word} takes a number", f"found {step.rest!r}")
            body = tuple(self._block(step))
            if step.word == "together" and any(item.word != "say" for item in body):
                self._wrong(step.line, "only say stands in together", "expect follows its end, after hear")
            self._check_expectation(step)
            return _with(step, body=body)
        if step.word == "content" and not step.rest:
            return _with(step, lines=tuple(self._content_lines(step)))
        if step.word == "let" and not _LET.fullmatch(step.rest):
            self._wrong(step.line, "let is written NAME = VALUE")
        if step.word == "needs" and not _NAME.fullmatch(step.rest):
            self._wrong(step.line, "needs is written NAME, and what it is")
        self._check_expectation(step)
        return step

    def _check_expectation(self, step: Step) -> None:
        if step.word not in ("expect", "if") or "${" in step.rest or str(step) == "if login":
            return
        try:
            parsed = parse_expectation(step.rest)
        except ValueError as error:
            self._wrong(step.line, str(error))
            return
        if step.word == "if" and parsed.kind != "seen":
            self._wrong(step.line, "if asks for what is known: a code, text, offer, TLS, within, or login")

    def _content_lines(self, step: Step) -> Iterator[str]:
        """The lines after `content`: each begins with `|`, and one blank may follow that."""
        results = []
        while self._number < len(self._lines) and self._lines[self._number].lstrip().startswith("|"):
            line = self._lines[self._number].lstrip()[1:]
            results.append(line[1:] if line.startswith(" ") else line)
            self._number += 1
        if not results:
            self._wrong(step.line, "content has no lines", "write them below, each after |")
        return iter(results)


def _with(step: Step, **changes: object) -> Step:
    return replace(step, **changes)  # type: ignore[arg-type]


def _unknown(text: str) -> tuple[str, str]:
    word = text.split()[0]
    near = difflib.get_close_matches(word.lower(), WORDS, 1)
    remedy = f"did you mean {near[0]!r}?" if near else "the words are " + ", ".join(WORDS)
    if text.startswith("|"):
        remedy = "lines after | belong below content"
    return f"{word!r} is no word of session scripts", remedy
