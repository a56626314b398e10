"""Message ids: ten characters of Crockford base32, time-ordered, never used twice."""

from __future__ import annotations

from functools import lru_cache

__all__ = ["ID_LENGTH", "SLOTS", "IdMaker", "id_at", "id_range", "id_text", "slot_of"]

ID_LENGTH = 10  # characters of five bits: 41 bits of milliseconds since EPOCH, 9 bits of sequence
EPOCH = 1_767_225_600  # 2026-01-01T00:00:00Z
_ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
_VALUES = {char: value for value, char in enumerate(_ALPHABET)} | {"O": 0, "I": 1, "L": 1}  # read as meant
_SEQUENCE_BITS = 9
SLOTS = 64  # of servers that share a queue: each has its own in the low bits of the ids that it makes
_PAIRS = [high + low for high in _ALPHABET for low in _ALPHABET]


class IdMaker:
    """Makes rising numbers from the time. `last` is the highest number in use, so a clock set back repeats none.

    With a `slot`, they are no other server's: all have it in their low bits.
    """

    def __init__(self, last: int = 0, slot: int | None = None) -> None:
        self._last = last
        self._slot, self._step = (0, 1) if slot is None else (slot, SLOTS)

    def next(self, now: float) -> int:
        """A number higher than all before it; `now` in seconds since 1970."""
        number = (int((now - EPOCH) * 1000) << _SEQUENCE_BITS) + self._slot
        if number <= self._last:
            number = self._last - (self._last - self._slot) % self._step + self._step
        self._last = number
        return number


def slot_of(number: int) -> int:
    """The slot of the server that made an id."""
    return number % SLOTS


def id_at(at: float, *, of_span: bool = False) -> int:
    """The first number of an instant in seconds since 1970, or how many numbers a span of seconds holds."""
    return max(int((at if of_span else at - EPOCH) * 1000), 0) << _SEQUENCE_BITS


def id_text(number: int) -> str:
    """The number as people see it."""
    return _first_six(number >> 20) + _PAIRS[number >> 10 & 1023] + _PAIRS[number & 1023]


@lru_cache(maxsize=64)
def _first_six(number: int) -> str:
    """The part that stays for two seconds."""
    return _PAIRS[number >> 20 & 1023] + _PAIRS[number >> 10 & 1023] + _PAIRS[number & 1023]


def id_range(prefix: str) -> tuple[int, int] | None:
    """The lowest and the highest number whose text begins with `prefix`, or None when no id can."""
    prefix = prefix.upper()
    if not 0 < len(prefix) <= ID_LENGTH or any(char not in _VALUES for char in prefix):
        return None
    number = 0
    for char in prefix:
        number = number << 5 | _VALUES[char]
    missing = 5 * (ID_LENGTH - len(prefix))
    return number << missing, ((number + 1) << missing) - 1
