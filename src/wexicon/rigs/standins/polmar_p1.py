"""Stand-in Polmar P1: a GNSS receiver that talks all the time.

The rule, from its invented datasheet: NMEA 0183 sentences every interval, with checksums. Its own commands are $PPLM
sentences, answered by $PPLM,ACK,word or $PPLM,NAK,word,N among the others; a sentence with a wrong checksum is not answered.
PORT takes rate, data bits, parity and stop bits, and takes effect right after its answer. KEEP keeps. Talker GP has it use GPS
alone, GN all four systems. START,COLD forgets all that it knows of the satellites, START,WARM where they are now; after a
START,HOT, and after a power cycle, it remembers them for two hours.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.sky import NEEDED_3D, SYSTEMS, Receiver, Satellite
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (4800, 9600, 19200, 38400, 57600, 115200)
START = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)
SENTENCES = ("GGA", "RMC", "GSA", "GSV", "VTG", "GLL", "ZDA")
# How long what a satellite sends about its orbit can be used (seconds).
REMEMBERS = 7200.0
STARTS = ("COLD", "WARM", "HOT")
# Most satellites in one GSA and one GSV sentence (NMEA 0183).
IN_GSA, IN_GSV = 12, 4


def sentence(body: str) -> str:
    """A sentence with `$`, checksum and line end (NMEA 0183, 5.3)."""
    total = 0
    for byte in body.encode("utf-8", "surrogateescape"):
        total ^= byte
    return f"${body}*{total:02X}\r\n"


class PolmarP1(StandIn):
    """`flash["out"]` is which sentences it sends, `flash["every"]` ticks of 50 ms between them. `fixed` is when it last had a
    fix (seconds; None: never), `knows` what the next start may use: COLD, WARM or HOT."""

    family = "polmar-p1"
    maker = "Polmar"
    about = "GNSS receiver"
    factory: ClassVar[dict[str, object]] = {
        "port": (9600, 8, "N", 1),
        "every": 20,
        "out": ("GGA", "RMC", "GSA"),
        "talker": "GP",
    }
    identity: ClassVar[dict[str, object]] = {"serial": "P1004471", "firmware": "5.01"}

    fixed: float | None = None
    knows = "HOT"

    def started(self) -> None:
        sky, now = self.air.sky, self.agenda.now
        known = "COLD" if self.fixed is None else "HOT" if now - self.fixed < REMEMBERS else "WARM"
        self.began_as = min(known, self.knows, key=STARTS.index)
        self.knows = "HOT"
        takes = {"COLD": sky.fix_in, "WARM": sky.warm_fix_in, "HOT": sky.hot_fix_in}[self.began_as]
        systems = SYSTEMS[:1] if self.memory["talker"] == "GP" else SYSTEMS
        self.receiver = Receiver(sky, systems, f"{self.name} {now}", now, takes)
        self.editor = LineEditor(self, "\r\n", self.line, lambda: None)
        self.retune()
        self.say(sentence("PPLM,START,POLMAR-P1,5.01"), 0.05)
        self.after(0.3, self.report)

    def retune(self) -> None:
        rate, bits, parity, stop = self.memory["port"]
        self.uart.tuning = Tuning(rate, bits, parity, stop)

    def heard(self, data: bytes, began: float) -> None:
        self.editor.feed(data)

    # -- sentences ------------------------------------------------------------------------------------------------

    def report(self) -> None:
        if words := [word for word in self.memory["out"] if word in SENTENCES]:
            seen = _Report(self)
            self.say("".join(sentence(body) for word in words for body in seen.bodies(word)), 0)
        self.after(self.memory["every"] / 20, self.report)

    # -- commands -------------------------------------------------------------------------------------------------

    def line(self, line: str) -> None:
        # Whatever came before the dollar sign is no part of the sentence.
        found = re.search(r"\$PPLM,([^$]*)\*([0-9A-F]{2})$", line)
        if not found or sentence(f"PPLM,{found[1]}")[-4:-2] != found[2]:
            return
        word, _, rest = found[1].partition(",")
        if word == "WHO":
            self.tell(f"WHO,POLMAR-P1,{self.own['firmware']},{self.own['serial']}")
        elif word == "ASK" and rest in ("PORT", "EVERY", "OUT", "TALKER"):
            kept = self.memory[rest.lower()]
            self.tell(
                f"{rest},{','.join(map(str, kept)) if rest == 'PORT' else '+'.join(kept) if rest == 'OUT' else kept}"
            )
        elif word == "KEEP":
            self.keep()
            self.tell("ACK,KEEP")
        elif word == "START" and rest in ("", *STARTS):
            self.knows = rest or "HOT"
            self.tell("ACK,START")
            self.then(self.restart)
        elif word in ("PORT", "EVERY", "OUT", "TALKER"):
            self.take(word, rest)
        else:
            self.tell(f"NAK,{word},2")

    def tell(self, body: str) -> None:
        self.say(sentence(f"PPLM,{body}"))

    def take(self, word: str, text: str) -> None:
        value: object = None
        if word == "PORT" and (found := re.fullmatch(r"(\d+),([78]),([NEO]),([12])", text)) and int(found[1]) in RATES:
            value = (int(found[1]), int(found[2]), found[3], int(found[4]))
        elif word == "EVERY" and text in ("2", "4", "10", "20", "40", "100"):
            value = int(text)
        elif word == "TALKER" and text in ("GP", "GN"):
            value = text
        elif word == "OUT" and all(part in SENTENCES for part in text.split("+") if text):
            value = tuple(text.split("+")) if text else ()
        if value is None:
            self.tell(f"NAK,{word},3")
            return
        self.memory[word.lower()] = value
        self.tell(f"ACK,{word}")
        if word == "PORT":
            self.then(self.retune)
        elif word == "TALKER":
            self.receiver.systems = SYSTEMS[:1] if value == "GP" else SYSTEMS

    def another(self, by: int = 1, *, flash: bool = True) -> None:
        super().another(by, flash=flash)
        self.fixed = None


class _Report:
    """What a receiver reports at one moment."""

    def __init__(self, module: PolmarP1) -> None:
        self.talker = module.memory["talker"]
        self.receiver, self.sky = module.receiver, module.air.sky
        now = module.agenda.now
        self.time = START + timedelta(seconds=now)
        self.seen = self.receiver.satellites(now)
        self.used = self.receiver.used(now)
        self.precision = self.receiver.precision(self.used)
        self.latitude, self.longitude, self.altitude = 0.0, 0.0, 0.0
        if self.used:
            module.fixed = now
            self.latitude, self.longitude, self.altitude = self.receiver.position(now, self.precision)
        # After a cold start it has the time only once it hears satellites.
        self.clock = f"{self.time:%H%M%S}.{self.time.microsecond // 10_000:02d}" if self.knows_time(module) else ""

    def bodies(self, word: str) -> list[str]:
        """The sentences of one kind, without `$` and checksum."""
        return self.views() if word == "GSV" else self.active() if word == "GSA" else [self.body(word)]

    def knows_time(self, module: PolmarP1) -> bool:
        return module.began_as != "COLD" or bool(self.seen)

    def place(self) -> str:
        if not self.used:
            return ",,,"

        def angle(value: float, width: int) -> str:
            minutes = round(abs(value) * 60 * 10_000)
            return f"{minutes // 600_000:0{width}d}{minutes % 600_000 // 10_000:02d}.{minutes % 10_000:04d}"

        north, east = "N" if self.latitude >= 0 else "S", "E" if self.longitude >= 0 else "W"
        return f"{angle(self.latitude, 2)},{north},{angle(self.longitude, 3)},{east}"

    def body(self, word: str) -> str:
        fix, date = bool(self.used), f"{self.time:%d%m%y}" if self.clock else ""
        state, mode = ("A", "A") if fix else ("V", "N")
        knots, course = self.sky.knots, self.sky.course
        moved = (f"{knots:.2f}", f"{course:.1f}", f"{knots * 1.852:.2f}") if fix else ("", "", "")
        height = f"{self.altitude:.1f}" if len(self.used) >= NEEDED_3D else ""
        bodies = {
            "GGA": f"GGA,{self.clock},{self.place()},{int(fix)},{len(self.used):02d},{self.precision.horizontal:.1f},"
            f"{height},M,48.6,M,,",
            "RMC": f"RMC,{self.clock},{state},{self.place()},{moved[0]},{moved[1]},{date},,,{mode}",
            "VTG": f"VTG,{moved[1]},T,,M,{moved[0]},N,{moved[2]},K,{mode}",
            "GLL": f"GLL,{self.place()},{self.clock},{state},{mode}",
            "ZDA": f"ZDA,{self.clock},{f'{self.time:%d,%m,%Y}' if self.clock else ',,'},00,00",
        }
        return f"{self.talker}{bodies[word]}"

    def active(self) -> list[str]:
        """GSA: which satellites the position is made of; of several systems one sentence each."""
        fix = 1 if not self.used else 3 if len(self.used) >= NEEDED_3D else 2
        one = self.precision
        told = f"{one.position:.1f},{one.horizontal:.1f},{one.vertical:.1f}"
        made = []
        for system in self.receiver.systems:
            own = [one.number for one in self.used if one.system is system][:IN_GSA]
            numbers = ",".join([*(f"{number:02d}" for number in own), *[""] * (IN_GSA - len(own))])
            made.append(
                f"{self.talker}GSA,A,{fix},{numbers},{told}" + (f",{system.number}" if self.talker == "GN" else "")
            )
        return made

    def views(self) -> list[str]:
        """GSV: each system's satellites in view, four in a sentence."""
        made = []
        for system in self.receiver.systems:
            own = [one for one in self.seen if one.system is system]
            count = max(1, -(-len(own) // IN_GSV))
            for at in range(count):
                views = "".join(map(_view, own[at * IN_GSV : (at + 1) * IN_GSV]))
                made.append(f"{system.talker}GSV,{count},{at + 1},{len(own):02d}{views}")
        return made


def _view(one: Satellite) -> str:
    return f",{one.number:02d},{one.elevation:02.0f},{one.azimuth:03.0f},{one.signal:02d}"
