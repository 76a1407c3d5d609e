"""Stand-in Polmar P1: a GNSS receiver that talks all the time.

The rule, from its invented datasheet: NMEA 0183 sentences every interval, with checksums. Its own commands are $PPLM
sentences, answered by $PPLM,ACK,word or $PPLM,NAK,word,N among the others; a sentence with a wrong checksum is not answered.
PORT takes rate, data bits, parity and stop bits, and takes effect right after its answer. KEEP keeps.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rig.standin import LineEditor, StandIn

RATES = (4800, 9600, 19200, 38400, 57600, 115200)
START = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)
SENTENCES = ("GGA", "RMC", "GSA", "GSV", "VTG", "GLL", "ZDA")


def sentence(body: str) -> str:
    """A sentence with `$`, checksum and line end (NMEA 0183, 5.3)."""
    total = 0
    for byte in body.encode("utf-8", "surrogateescape"):
        total ^= byte
    return f"${body}*{total:02X}\r\n"


class PolmarP1(StandIn):
    """`flash["out"]` is which sentences it sends, `flash["every"]` ticks of 50 ms between them."""

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

    def started(self) -> None:
        self.began = self.agenda.now
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
        text = "".join(sentence(self.memory["talker"] + self.body(word)) for word in self.memory["out"])
        if text:
            self.say(text, 0)
        self.after(self.memory["every"] / 20, self.report)

    def fix(self) -> bool:
        return self.agenda.now - self.began >= self.air.sky.fix_in

    def now(self) -> datetime:
        return START + timedelta(seconds=self.agenda.now)

    def place(self) -> str:
        sky = self.air.sky
        if not self.fix():
            return ",,,"

        def angle(degrees: float, width: int) -> str:
            whole = int(abs(degrees))
            return f"{whole:0{width}d}{(abs(degrees) - whole) * 60:07.4f}"

        north, east = "N" if sky.latitude >= 0 else "S", "E" if sky.longitude >= 0 else "W"
        return f"{angle(sky.latitude, 2)},{north},{angle(sky.longitude, 3)},{east}"

    def body(self, word: str) -> str:
        time, fix, sky = self.now(), self.fix(), self.air.sky
        clock = f"{time:%H%M%S}.00"
        seen = sky.satellites if fix else 0
        state, speed = ("A", "0.02,0.0") if fix else ("V", ",")
        mode = "A" if fix else "N"
        views = "".join(f",{n:02d},{30 + n},{n * 40 % 360:03d},{38 + n}" for n in range(2, 2 + min(seen, 4)))
        bodies = {
            "GGA": f"GGA,{clock},{self.place()},{int(fix)},{seen:02d},{'0.9' if fix else '99.9'},"
            f"{sky.altitude if fix else ''},M,48.6,M,,",
            "RMC": f"RMC,{clock},{state},{self.place()},{speed},{time:%d%m%y},,,{mode}",
            "GSA": "GSA,A,3,02,05,07,13,15,18,21,26,30,,,,1.7,0.9,1.4" if fix else "GSA,A,1,,,,,,,,,,,,,99.9,99.9,99.9",
            "GSV": f"GSV,1,1,{min(seen, 4):02d}{views}",
            "VTG": "VTG,0.0,T,,M,0.02,N,0.04,K,A" if fix else "VTG,,T,,M,,N,,K,N",
            "GLL": f"GLL,{self.place()},{clock},{state},{mode}",
            "ZDA": f"ZDA,{clock},{time:%d,%m,%Y},00,00",
        }
        return bodies[word]

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
        elif word == "START":
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
