"""The content of one batch on its way to the process that writes: memory that both processes see."""

from __future__ import annotations

import mmap
import os
from zlib import crc32

__all__ = ["HANDED_OCTETS", "SUM_OCTETS", "BufferFull", "SharedBuffer", "summed"]

SUM_OCTETS = 4
HANDED_OCTETS = 8 * 1024 * 1024  # of which only what was ever used takes memory


def summed(octets: bytes) -> bytes:
    """The sum that follows a portion: CRC-32, as in ISO-HDLC."""
    return crc32(octets).to_bytes(SUM_OCTETS, "big")


class BufferFull(Exception):
    """Raised when something does not fit after what is there already."""


class SharedBuffer:
    """Octets one after the other, from the beginning of the memory. `descriptor` is its file's.

    One process puts, and says to the other how many octets there are; it does not put again before the answer.
    """

    def __init__(self, descriptor: int | None = None) -> None:
        if descriptor is None:
            descriptor = os.memfd_create("handed")
            os.ftruncate(descriptor, HANDED_OCTETS)
        self.descriptor = descriptor
        self.memory = memoryview(mmap.mmap(descriptor, HANDED_OCTETS))
        self.octets = 0

    def close(self) -> None:
        """Close the file; the memory is freed when the last process closes it."""
        os.close(self.descriptor)

    def put(self, octets: bytes) -> int:
        """Append `octets` and their sum; their place. Raises BufferFull."""
        start = self.octets
        end = start + len(octets)
        after = end + SUM_OCTETS
        if after > HANDED_OCTETS:
            raise BufferFull
        self.memory[start:end] = octets
        self.memory[end:after] = summed(octets)
        self.octets = after
        return start
