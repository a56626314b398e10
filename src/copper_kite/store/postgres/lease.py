"""The lease of a server on its mail, as its two processes see it: by the clock that both have."""

from __future__ import annotations

import mmap
import os
import struct
import time

__all__ = ["LeaseCell"]

_FLOAT = struct.Struct("=d")
SURE = 0.8  # of a lease: after that, what is sent may be another server's already when it arrives


class LeaseCell:
    """Two instants (of `time.monotonic`, in seconds) in memory that both processes see: when the lease ends, written by
    the one that renews it; and when the server's loop last turned. `descriptor` is the memory's."""

    def __init__(self, descriptor: int | None = None) -> None:
        if descriptor is None:
            descriptor = os.memfd_create("lease")
            os.ftruncate(descriptor, mmap.PAGESIZE)
        self.descriptor = descriptor
        self._memory = mmap.mmap(descriptor, mmap.PAGESIZE)

    def renew(self, began: float, seconds: float) -> None:
        """The database has extended the lease by so many seconds, at `began` or later."""
        _FLOAT.pack_into(self._memory, 0, began + seconds * SURE)

    def holds(self) -> bool:
        """Whether the lease surely holds for a while."""
        return float(_FLOAT.unpack_from(self._memory, 0)[0]) > time.monotonic()

    def beat(self, ahead: float = 0.0) -> None:
        """The loop turns; or will, in so many seconds."""
        _FLOAT.pack_into(self._memory, 8, time.monotonic() + ahead)

    def quiet_for(self) -> float:
        """The seconds since the loop last turned."""
        return time.monotonic() - float(_FLOAT.unpack_from(self._memory, 8)[0])

    def close(self) -> None:
        """Close the memory."""
        self._memory.close()
        os.close(self.descriptor)
