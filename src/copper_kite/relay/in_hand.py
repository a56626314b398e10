"""The messages that are on their way now, and the memory that they take."""

from __future__ import annotations

from collections.abc import Iterator

from copper_kite.relay.job import Job

__all__ = ["InHand"]


class InHand:
    """The jobs that have begun and are not recorded yet, by message; `octets` of their content are in memory."""

    def __init__(self) -> None:
        self._jobs: dict[int, list[Job]] = {}
        self.octets = 0

    def __len__(self) -> int:
        return len(self._jobs)

    def __contains__(self, id: int) -> bool:
        return id in self._jobs

    def __iter__(self) -> Iterator[Job]:
        for jobs in self._jobs.values():
            yield from jobs

    def has(self, id: int, number: int) -> bool:
        """Whether this recipient of a message is on its way."""
        jobs = self._jobs.get(id)
        return jobs is not None and any(recipient.number == number for job in jobs for recipient in job.recipients)

    def begin(self, job: Job) -> None:
        """A job of its lane begins."""
        jobs = self._jobs.get(job.message.id)
        if jobs is None:
            self._jobs[job.message.id] = [job]
        else:
            jobs.append(job)
        job.load.jobs += 1
        if job.octets is not None:
            self.octets += len(job.octets)

    def end(self, job: Job) -> bool:
        """A job is over; whether nothing of its message is on its way any more."""
        id = job.message.id
        jobs = self._jobs[id]
        job.load.jobs -= 1
        if job.octets is not None:
            self.octets -= len(job.octets)
        if len(jobs) > 1:
            jobs.remove(job)
            return False
        del self._jobs[id]
        return True

    def divide(self, job: Job, *parts: Job) -> None:
        """A job went on as several."""
        for part in parts:
            self.begin(part)
        self.end(job)
