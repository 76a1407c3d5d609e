"""Stand-in Fennick Z4: a mesh radio with an escape, guard time and two-letter registers.

The rule, from its invented datasheet: 0.8 s of silence, ~~~, 0.8 s of silence gives `listening`; lines and answers
end with CR. XX? gives the register in hexadecimal, XX=H sets it, and gives `done`; `fault` for anything else. Twelve seconds
without a line end command mode. SV keeps all registers, QT leaves command mode; a new rate takes effect on leaving. A
coordinator opens its network on its channel; joiners of the same network and channel hear each other while it is there. Text
goes to the address in TA, or to all; SG is how strong the last text was that it received. BL, the pin BOOT held high at
power-up, or the lack of a whole image start the boot loader, at 115200 baud: L takes an image by XMODEM (CRC), V names the
image that it has, G starts it. An image begins with FZ4I, its kind, version, length and CRC-32; it fixes the role, and brings
the factory defaults.
"""

from __future__ import annotations

import re
import struct
from typing import ClassVar
from zlib import crc32

from wexicon.core.tuning import Tuning
from wexicon.rigs.air import TRAVEL
from wexicon.rigs.boot_loader import ImageReceiver
from wexicon.rigs.standin import LineEditor, StandIn

GUARD = 0.8
LASTS = 12.0
# Register UB: the fastest first, from 20 on.
RATES = dict(enumerate((115200, 57600, 38400, 19200, 9600, 4800, 2400, 1200), 0x20))
# Register RO: 3 for a coordinator, 6 for a joiner; nothing between.
COORDINATOR, JOINER = 3, 6
ALL = 0xFFFF
LIMITS = {
    "NT": (0, 0xFFFF),
    "KH": (1, 16),
    "RO": (3, 6),
    "OA": (0, ALL - 1),
    "TA": (0, ALL),
    "PO": (1, 6),
    "JV": (0, 1),
    "UB": (0x20, 0x27),
}
# Register PO as a power in dBm; sensitivity in dBm, and the middle of the band in hertz.
POWERS = {1: -12, 2: -6, 3: -2, 4: 2, 5: 6, 6: 10}
SENSITIVITY, BAND = -97, 2.44e9
FIND_TIME = 2.0
# Register AS: the association state.
IN_NETWORK, SEEKS, ALONE, UNVERIFIED = 0, 1, 2, 3


LOADER_RATE = 115200
# An image: mark, kind (1 joiner, 2 coordinator), version, length of what follows, its CRC-32. As delivered the module has one
# for either role.
HEAD = struct.Struct(">4sBHII")
MARK = b"FZ4I"
EITHER, FOR_JOINERS, FOR_COORDINATORS = 0, 1, 2
ROLES = {FOR_JOINERS: JOINER, FOR_COORDINATORS: COORDINATOR}


def image_of(kind: int, version: int, code: bytes) -> bytes:
    """A firmware image for this module."""
    return HEAD.pack(MARK, kind, version, len(code), crc32(code)) + code


class FennickZ4(StandIn):
    """`mode` is data, command or loader; `flash["image"]` the kind of its image, -1 where it has none that is whole."""

    family = "fennick-z4"
    maker = "Fennick"
    about = "mesh radio, escape with guard time, registers"
    answers_in = 0.01
    factory: ClassVar[dict[str, object]] = {
        "NT": 0x7A31,
        "KH": 5,
        "RO": 6,
        "OA": 0,
        "TA": ALL,
        "PO": 5,
        "UB": 0x24,
        "JV": 1,
        "name": "Z4",
        "image": EITHER,
        "version": 0,
    }
    mode_pins = ("boot",)
    identity: ClassVar[dict[str, object]] = {"serial": 0x5E0417C2, "firmware": 0x0B31}

    def started(self) -> None:
        self.level = 0
        self.receiver: ImageReceiver | None = None
        if self.pins.get("boot") or self.flash["image"] < 0:
            self.load()
            return
        self.mode = "data"
        self.last_heard = self.agenda.now - GUARD
        self.spoken = 0
        self.uart.tuning = Tuning(RATES[self.memory["UB"]])
        self.editor = LineEditor(self, "\r", self.line, lambda: self.say("fault\r"))

    def heard(self, data: bytes, began: float) -> None:
        if self.mode == "loader":
            if self.receiver and not self.receiver.over:
                self.receiver.feed(data)
            else:
                self.editor.feed(data)
            return
        quiet = began - self.last_heard >= GUARD * 0.99
        self.last_heard = self.agenda.now
        if self.mode == "command":
            self.editor.feed(data)
        elif quiet and data == b"~~~":
            at = self.last_heard
            self.after(GUARD, lambda: self.guarded(at))
        else:
            self.pass_on(data)

    def guarded(self, at: float) -> None:
        """The guard time after the escape is over: was it silent?"""
        if self.last_heard == at:
            self.listen()
        else:
            self.pass_on(b"~~~")

    def listen(self) -> None:
        self.mode = "command"
        self.say("listening\r")
        self.wait()

    def wait(self) -> None:
        """Command mode ends by itself."""
        self.spoken += 1
        turn = self.spoken
        self.after(LASTS, lambda: self.leave() if turn == self.spoken and self.mode == "command" else None)

    def leave(self) -> None:
        self.mode = "data"
        self.uart.tuning = Tuning(RATES[self.memory["UB"]])

    def line(self, line: str) -> None:
        self.wait()
        if line == "SV":
            self.keep()
            self.say("done\r", 0.05)
        elif line == "QT":
            self.say("done\r")
            self.then(self.leave)
        elif line == "OK?":
            self.say("done\r")
        elif line == "NA?":
            self.say(f"{self.memory['name']}\r")
        elif found := re.fullmatch(r"NA=([ -~]{1,16})", line):
            self.memory["name"] = found[1]
            self.say("done\r")
        elif line == "AS?":
            self.say(f"{self.association():X}\r")
        elif line == "FN":
            self.find()
        elif line == "BL":
            self.say("done\r")
            self.then(self.load)
        elif line == "IM?":
            self.say(f"{self.flash['image']:X}\r")
        elif line == "SG?":
            self.say(f"{-self.level:X}\r")
        elif line == "SN?":
            self.say(f"{self.own['serial']:08X}\r")
        elif line == "VR?":
            self.say(f"{self.flash['version'] or self.own['firmware']:04X}\r")
        elif (found := re.fullmatch(r"([A-Z]{2})\?", line)) and found[1] in LIMITS:
            self.say(f"{self.memory[found[1]]:X}\r")
        elif (found := re.fullmatch(r"([A-Z]{2})=([0-9A-F]{1,4})", line)) and found[1] in LIMITS:
            low, high = LIMITS[found[1]]
            value = int(found[2], 16)
            roles = (ROLES[self.flash["image"]],) if self.flash["image"] in ROLES else (COORDINATOR, JOINER)
            if low <= value <= high and (found[1] != "RO" or value in roles):
                self.memory[found[1]] = value
                self.say("done\r")
            else:
                self.say("fault\r")
        else:
            self.say("fault\r")

    # -- the boot loader --------------------------------------------------------------------------------------------

    def load(self) -> None:
        """Starts the boot loader."""
        self.mode = "loader"
        self.uart.tuning = Tuning(LOADER_RATE)
        self.editor = LineEditor(self, "\r", self.loader_line, lambda: self.say("fault\r"))
        self.say("z4 loader 1.0\r", 0.05)

    def loader_line(self, line: str) -> None:
        if line == "V":
            has = self.flash["image"] >= 0
            self.say(f"image {self.flash['image']:X} {self.flash['version']:04X}\r" if has else "no image\r")
        elif line == "L":
            self.say("send\r")
            self.taken = bytearray()
            self.then(self.take_image)
        elif line == "G" and self.flash["image"] >= 0:
            self.say("done\r")
            self.then(self.restart)
        else:
            self.say("fault\r")

    def take_image(self) -> None:
        """Receives an image."""
        self.receiver = ImageReceiver(self, self.store, self.received)

    def store(self, data: bytes) -> None:
        """With the first block the image that was there is gone."""
        if not self.taken:
            self.flash["image"] = -1
        self.taken += data

    def received(self, size: int | None, why: str) -> None:
        """The transfer has ended."""
        code = bytes(self.taken[HEAD.size :])
        right = not why and len(self.taken) >= HEAD.size
        if right:
            mark, kind, version, length, check = HEAD.unpack_from(self.taken)
            right = mark == MARK and kind in ROLES and length <= len(code) and crc32(code[:length]) == check
        if not right:
            self.say("refused\r", 0.02)
            return
        self.forget()
        self.flash |= {"image": kind, "version": version, "RO": ROLES[kind]}
        self.say("stored\r", 0.3)

    # -- the air --------------------------------------------------------------------------------------------------

    def pass_on(self, data: bytes) -> None:
        """Sends text to the module whose address is in TA, or to all."""
        to, power = self.memory["TA"], POWERS[self.memory["PO"]]
        for other in self.air.reached(self):
            level = self.air.level(self, other, power, BAND)
            if isinstance(other, FennickZ4) and to in (ALL, other.memory["OA"]) and level >= SENSITIVITY:
                other.after(TRAVEL, lambda other=other, level=level: other.receive(data, level))  # type: ignore[misc]

    def receive(self, data: bytes, level: float) -> None:
        """Text has come, as strong as this (dBm)."""
        self.level = round(level)
        self.from_air(data, self)

    def association(self) -> int:
        """The association state: a joiner that verifies looks for its coordinator."""
        if self.memory["RO"] == COORDINATOR:
            return IN_NETWORK if any(self.neighbours()) else ALONE
        if self.network() is None:
            return UNVERIFIED if self.memory["JV"] else SEEKS
        return IN_NETWORK

    def neighbours(self) -> list[FennickZ4]:
        """The others in its network that it can hear, the strongest first."""
        own = self.network()
        found = [
            one
            for one in self.air.members
            if isinstance(one, FennickZ4) and one is not self and one.powered and one.mode != "loader"
        ]
        near = [(self.strength(one), one) for one in found if own is not None and one.network() == own]
        return [one for level, one in sorted(near, key=lambda pair: -pair[0]) if level >= SENSITIVITY]

    def strength(self, other: FennickZ4) -> float:
        """How strong another one is here, in dBm."""
        return self.air.level(other, self, POWERS[other.memory["PO"]], BAND)

    def find(self) -> None:
        """Tells of each module in its network: address, role, signal, serial number and name."""
        found = self.neighbours()
        for index, other in enumerate(found):
            told = f"{other.memory['OA']:X},{other.memory['RO']:X},{round(self.strength(other))},"
            told += f"{other.own['serial']:08X},{other.memory['name']}\r"
            self.say(told, FIND_TIME * (index + 1) / (len(found) + 1))
        self.say("done\r", FIND_TIME)

    def network(self) -> tuple[int, int] | None:
        """The network that it is in: a joiner needs its coordinator."""
        own = (self.memory["NT"], self.memory["KH"])
        if self.memory["RO"] == COORDINATOR:
            return own
        for other in self.air.members:
            if not isinstance(other, FennickZ4) or not other.powered or other.memory["RO"] != COORDINATOR:
                continue
            if (other.memory["NT"], other.memory["KH"]) == own:
                return own
        return None

    def reaches(self, other: StandIn) -> bool:
        if not isinstance(other, FennickZ4) or self.mode != "data":
            return False
        return self.network() is not None and self.network() == other.network()
