"""Stand-in Osier W2: a LoRaWAN end device.

The rule, from its invented datasheet: lines and answers end with CR LF; each answer ends with =OK, =NO n or =BUSY. JOIN is
answered at once, and JOINED or REFUSED comes later; SEND likewise, and SENT, ACKED or NOT ACKED. Keys cannot be read. In EU868
one percent of the time may be sent. KEEP keeps the settings.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.core.engineering.radio import time_on_air
from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

START_TIME = 0.3
JOIN_TIME = 5.0
RECEIVES_AFTER = 1.0
FORMS = {
    "JOINEUI": r"[0-9A-F]{16}",
    "APPKEY": r"[0-9A-F]{32}",
    "DEVADDR": r"[0-9A-F]{8}",
    "NWKKEY": r"[0-9A-F]{32}",
    "DATKEY": r"[0-9A-F]{32}",
    "REGION": r"EU868|US915",
    "SUBBAND": r"[1-8]",
    "CLASS": r"[AC]",
    "DR": r"[0-5]",
    "ADR": r"[01]",
    "BY": r"JOIN|ADDRESS",
    "RATE": r"9600|57600|115200",
}
HIDDEN = ("APPKEY", "NWKKEY", "DATKEY")
LONGEST = {0: 51, 1: 51, 2: 51, 3: 115, 4: 222, 5: 222}
# Bytes of a frame besides its payload: header, counter, port, integrity code.
OVERHEAD = 13


class OsierW2(StandIn):
    """`state` is IDLE, JOINING or JOINED; `up` and `down` count frames."""

    family = "osier-w2"
    maker = "Osier"
    about = "LoRaWAN end device"
    factory: ClassVar[dict[str, object]] = {
        "JOINEUI": "0" * 16,
        "APPKEY": "",
        "DEVADDR": "0" * 8,
        "NWKKEY": "",
        "DATKEY": "",
        "REGION": "EU868",
        "SUBBAND": "1",
        "CLASS": "A",
        "DR": "0",
        "ADR": "1",
        "BY": "JOIN",
        "RATE": "57600",
    }
    identity: ClassVar[dict[str, object]] = {"address": "02A15CFFFE0017C4", "firmware": "1.1"}

    def started(self) -> None:
        self.uart.tuning = Tuning(int(self.memory["RATE"]))
        self.deaf, self.state = True, "IDLE"
        self.up = self.down = 0
        self.free_at = 0.0
        self.editor = LineEditor(self, "\r\n", self.line, lambda: self.no(1))
        self.after(START_TIME, self.ready)

    def ready(self) -> None:
        self.deaf = False
        self.say("W2 READY\r\n", 0)

    def heard(self, data: bytes, began: float) -> None:
        if not self.deaf:
            self.editor.feed(data)

    # -- commands -----------------------------------------------------------------------------------------------

    def answer(self, line: str = "", delay: float | None = None) -> None:
        self.say(f"{line}\r\n=OK\r\n" if line else "=OK\r\n", delay)

    def no(self, code: int, more: str = "") -> None:
        self.say(f"=NO {code}{more}\r\n")

    def line(self, line: str) -> None:
        if line == "W?":
            self.answer(f"W OSIER-W2 {self.own['firmware']} {self.own['address']}")
        elif line == "STATE?":
            self.answer(f"STATE {self.state}")
        elif self.state == "JOINING":
            self.say("=BUSY\r\n")
        elif line == "KEEP":
            self.keep()
            self.answer(delay=0.06)
        elif line == "BOOT":
            self.answer()
            self.then(self.restart)
        elif line == "JOIN":
            self.join()
        elif line == "COUNT?":
            self.answer(f"COUNT {self.up},{self.down}")
        elif (found := re.fullmatch(r"([A-Z]+)\?", line)) and found[1] in FORMS and found[1] not in HIDDEN:
            self.answer(f"{found[1]} {self.memory[found[1]]}")
        elif (found := re.fullmatch(r"([A-Z]+)=(.*)", line)) and found[1] in FORMS:
            if re.fullmatch(FORMS[found[1]], found[2]):
                self.memory[found[1]] = found[2]
                self.answer()
                if found[1] == "RATE":
                    self.then(lambda: setattr(self.uart, "tuning", Tuning(int(self.memory["RATE"]))))
            else:
                self.no(3)
        elif found := re.fullmatch(r"SEND (\d{1,3}),([UC]),((?:[0-9A-F]{2})+)", line):
            self.send(int(found[1]), bytes.fromhex(found[3]), confirmed=found[2] == "C")
        else:
            self.no(2)

    # -- the network ----------------------------------------------------------------------------------------------

    def join(self) -> None:
        """Activates it."""
        server, by_join = self.air.lorawan, self.memory["BY"] == "JOIN"
        if not (self.memory["APPKEY"] if by_join else self.memory["NWKKEY"] and self.memory["DATKEY"]):
            self.no(5)
            return
        self.answer()
        self.up = self.down = 0
        if not by_join:
            self.state = "JOINED"
            self.say(f"JOINED {self.memory['DEVADDR']}\r\n", 0.1)
            return
        self.state = "JOINING"
        self.after(JOIN_TIME, lambda: self.joined(server.joins(self.own["address"], self.memory)))

    def joined(self, address: str) -> None:
        """The network has answered, or not."""
        self.state = "JOINED" if address else "IDLE"
        self.say(f"JOINED {address}\r\n" if address else "REFUSED\r\n", 0)
        if address:
            self.memory["DEVADDR"] = address

    def send(self, port: int, data: bytes, *, confirmed: bool) -> None:
        rate = int(self.memory["DR"])
        if self.state != "JOINED":
            self.no(4)
        elif not 1 <= port <= 223:
            self.no(3)
        elif len(data) > LONGEST[rate]:
            self.no(7)
        elif self.memory["REGION"] == "EU868" and self.agenda.now < self.free_at:
            self.no(6, f" {int(self.free_at - self.agenda.now) + 1}")
        else:
            takes = time_on_air(OVERHEAD + len(data), 12 - rate, 125_000)
            self.free_at = self.agenda.now + 100 * takes
            self.answer()
            self.up += 1
            self.after(takes + RECEIVES_AFTER, lambda: self.answered(port, data, confirmed, self.up))

    def answered(self, port: int, data: bytes, confirmed: bool, count: int) -> None:
        """The frame has been sent, and the time in which the network answers has come."""
        server = self.air.lorawan
        known = server.takes(self.own["address"], self.memory, count, port, data)
        self.say("SENT\r\n" if not confirmed else "ACKED\r\n" if known else "NOT ACKED\r\n", 0)
        downlink = server.downlink(self.own["address"]) if known else None
        if downlink:
            self.down += 1
            self.say(f"DOWN {downlink[0]},{downlink[1].hex().upper()},-71,8\r\n", 0.05)
