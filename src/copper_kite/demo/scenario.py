"""The messages of a day at Tern Island Ferries. All of it is made up; times are seconds from the day's start."""

from __future__ import annotations

from dataclasses import dataclass

from copper_kite.demo.day import DAY
from copper_kite.mail import format_date
from copper_kite.session import Rule
from copper_kite.smtp import Reply

__all__ = ["BEACON_RULES", "GATE_RULES", "Letter", "day_of_letters", "render"]

DOMAIN = "ternferries.example"
HOUR = 3600.0

PASSENGERS = (
    "ana.silva", "bo.lind", "carla.moro", "dev.patel", "eva.novak", "finn.berg", "gita.rao", "hugo.blanc",
    "ines.costa", "jon.eide", "kofi.mensah", "lea.weiss", "mika.aho", "nora.kelly", "omar.haddad", "pia.lund",
)  # fmt: skip
CREW = ("skipper", "mate", "engine", "deck1", "deck2", "cafe", "pier", "duty")
CROSSINGS = ("North Quay", "Gull Point", "Seal Bay", "Old Harbour")

BEACON_RULES = (
    Rule("no.such.person@passenger.example", Reply(550, "5.1.1", "no mailbox of this name here")),
    Rule("olga.full@passenger.example", Reply(452, "4.2.2", "the mailbox is full; try again later")),
    Rule("pier@crew.example", Reply(450, "4.2.1", "the mailbox is being moved; try again later"), times=3),
)
GATE_RULES = (Rule("lists@*", Reply(451, "4.7.1", "not seen before; come back in a few minutes"), times=1),)


@dataclass(frozen=True, slots=True)
class Letter:
    """A message to submit. `note` names it for its part of the scenario."""

    at: float
    program: str
    recipients: tuple[str, ...]
    subject: str
    text: str
    note: str = ""

    @property
    def sender(self) -> str:
        """The program's own address."""
        return f"{self.program}@{DOMAIN}"


def day_of_letters() -> list[Letter]:
    """The whole day in order of time."""
    letters = [*_bookings(), *_tides(), *_manifests(), _rota(), *_troubles()]
    return sorted(letters, key=lambda letter: letter.at)


def _bookings() -> list[Letter]:
    letters = []
    for number in range(96):
        who = PASSENGERS[number * 5 % len(PASSENGERS)]
        where = CROSSINGS[number % len(CROSSINGS)]
        letters.append(
            Letter(
                5 * HOUR + number * 640,
                "ticketing",
                (f"{who}@passenger.example",),
                f"Your crossing to {where}",
                f"Dear passenger,\n\nyour seat to {where} is kept. Booking number T{4000 + number}.\n",
            )
        )
    return letters


def _tides() -> list[Letter]:
    return [
        Letter(
            number * 2 * HOUR + 600,
            "tidewatch",
            ("duty@crew.example",),
            f"Tide at Gull Point: {0.4 + number % 5 * 0.7:.1f} m",
            f"Gauge 3, Gull Point: {0.4 + number % 5 * 0.7:.1f} m and {'rising' if number % 2 else 'falling'}.\n",
        )
        for number in range(12)
    ]


def _manifests() -> list[Letter]:
    return [
        Letter(
            6 * HOUR + number * 3 * HOUR,
            "manifest",
            ("lists@harbouroffice.example",),
            f"Passenger list, departure {number + 1}",
            "".join(f"{name.replace('.', ' ').title()}\n" for name in PASSENGERS[number : number + 8]),
            note="delayed" if number == 0 else "",
        )
        for number in range(5)
    ]


def _rota() -> Letter:
    text = "".join(f"{who:<8} {'early' if place % 2 else 'late'} watch\n" for place, who in enumerate(CREW))
    recipients = tuple(f"{who}@crew.example" for who in CREW)
    return Letter(17 * HOUR, "rota", recipients, "Watches for tomorrow", text, note="mixed")


def _troubles() -> list[Letter]:
    text = "Dear passenger,\n\nyour seat is kept. Booking number T{}.\n"
    return [
        Letter(
            9.2 * HOUR, "ticketing", ("no.such.person@passenger.example",), "Your crossing to Seal Bay",
            text.format(4100), note="failed",
        ),
        Letter(
            12.1 * HOUR, "ticketing", ("eva.novak@passenger.example",), "Your invoice", text.format(4101), "relayed"
        ),
        Letter(
            DAY - 4.5 * HOUR, "ticketing", ("olga.full@passenger.example",), "Your crossing to Old Harbour",
            text.format(4102), "waiting",
        ),
    ]  # fmt: skip


def render(letter: Letter, number: int, at: float) -> bytes:
    """The letter as a message with CR LFs, submitted at `at` (seconds since 1970)."""
    to = ", ".join(letter.recipients)
    lines = [
        f"From: {letter.program.title()} <{letter.sender}>",
        f"To: {to}",
        f"Subject: {letter.subject}",
        f"Date: {format_date(at)}",
        f"Message-ID: <{letter.program}.{number}@{DOMAIN}>",
        "",
        *letter.text.splitlines(),
    ]
    return "".join(f"{line}\r\n" for line in lines).encode()
