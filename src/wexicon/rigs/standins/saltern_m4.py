"""Stand-in Saltern M4: a radio modem on a shared line, set by registers over MODBUS RTU.

The rule, from its invented datasheet: frames as MODBUS over Serial Line V1.02 has them, delivered at 19200 8N1 as station 1; it
answers nothing to other stations, and does what is said to station 0 without an answer. Registers: 0100 station, 0101 rate,
0102 frame, 0110 power, 0111 and 0112 frequency in Hz, 0120 to 0127 name; coil 0 repeater. What is written counts at once, but
station, rate and frame after a restart; A5A5 in register 01FF keeps all, 5A5A restarts.
"""

from __future__ import annotations

from typing import ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import StandIn

RATES = {96: 9600, 192: 19200, 384: 38400, 1152: 115200}
FRAMES = {1: ("E", 1), 2: ("O", 1), 3: ("N", 2), 4: ("N", 1)}
CHARACTERS = 3.5
ORDERS = 0x01FF
KEEP, RESTART = 0xA5A5, 0x5A5A


def crc(data: bytes) -> bytes:
    """The check of a frame, its low byte first (MODBUS over Serial Line V1.02, 6.2.2)."""
    register = 0xFFFF
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = register >> 1 ^ (0xA001 if register & 1 else 0)
    return register.to_bytes(2, "little")


class SalternM4(StandIn):
    """`flash` has each register by its name; frequency in Hz."""

    family = "saltern-m4"
    maker = "Saltern"
    about = "radio modem on a shared line, set by registers"
    factory: ClassVar[dict[str, object]] = {
        "station": 1,
        "rate": 192,
        "frame": 4,
        "power": 14,
        "frequency": 869_400_000,
        "name": "m4",
        "repeater": 0,
    }
    identity: ClassVar[dict[str, object]] = {"serial": 40177, "firmware": "3.1"}

    def started(self) -> None:
        memory = self.memory
        parity, stop = FRAMES[memory["frame"]]
        self.station = memory["station"]
        self.uart.tuning = Tuning(RATES[memory["rate"]], 8, parity, stop)
        self.buffer = b""
        self.listens_from = self.agenda.now + 0.2

    def heard(self, data: bytes, began: float) -> None:
        self.buffer += data
        size = len(self.buffer)
        self.after(
            self.uart.tuning.wire_time(1) * CHARACTERS, lambda: self.frame() if len(self.buffer) == size else None
        )

    def frame(self) -> None:
        """A frame ends where the line is silent."""
        said, self.buffer = self.buffer, b""
        if len(said) < 4 or crc(said[:-2]) != said[-2:] or self.agenda.now < self.listens_from:
            return
        station, function, body = said[0], said[1], said[2:-2]
        if station not in (0, self.station):
            return
        answer = self.answered(function, body)
        if isinstance(answer, int):
            answer, function = bytes([answer]), function | 0x80
        if station:
            whole = bytes([station, function]) + answer
            self.say(whole + crc(whole), 0.04 if function == 6 and body[:2] == b"\x01\xff" else None)
        if function == 6 and body == ORDERS.to_bytes(2, "big") + RESTART.to_bytes(2, "big"):
            self.then(self.restart, 0.04)

    def answered(self, function: int, body: bytes) -> bytes | int:
        """The data of the answer, or the code of an exception."""
        first, second = (int.from_bytes(body[at : at + 2], "big") for at in (0, 2))
        if function == 0x08:
            return body if first == 0 else 1
        if function == 0x2B:
            return self.who() if body == b"\x0e\x01\x00" else 3
        if function in (0x03, 0x04):
            registers = self.registers() if function == 3 else self.inputs()
            asked = range(first, first + second)
            if not 1 <= second <= 125:
                return 3
            if any(at not in registers for at in asked):
                return 2
            return bytes([2 * second]) + b"".join(registers[at].to_bytes(2, "big") for at in asked)
        if function == 0x01:
            return b"\x01" + bytes([self.memory["repeater"]]) if (first, second) == (0, 1) else 2
        if function == 0x05:
            if first or second not in (0, 0xFF00):
                return 2 if first else 3
            self.memory["repeater"] = int(second != 0)
            return body
        if function == 0x06:
            return self.write(first, [second]) or body
        if function == 0x10:
            count, given = second, body[5:]
            if body[4:5] != bytes([2 * count]) or len(given) != 2 * count:
                return 3
            words = [int.from_bytes(given[at : at + 2], "big") for at in range(0, len(given), 2)]
            return self.write(first, words) or body[:4]
        return 1

    def who(self) -> bytes:
        """Vendor, product code and version (MODBUS Application Protocol V1.1b3, 6.21)."""
        told = (b"Saltern", b"M4", str(self.own["firmware"]).encode())
        objects = b"".join(bytes([number, len(text)]) + text for number, text in enumerate(told))
        return b"\x0e\x01\x01\x00\x00\x03" + objects

    def inputs(self) -> dict[int, int]:
        serial = int(self.own["serial"])
        return {0: serial >> 16, 1: serial & 0xFFFF}

    def registers(self) -> dict[int, int]:
        memory = self.memory
        found = {
            0x100: memory["station"],
            0x101: memory["rate"],
            0x102: memory["frame"],
            0x110: memory["power"] & 0xFFFF,
        }
        found |= {0x111: memory["frequency"] >> 16, 0x112: memory["frequency"] & 0xFFFF}
        name = memory["name"].encode().ljust(16, b"\0")
        return found | {0x120 + at: int.from_bytes(name[2 * at : 2 * at + 2], "big") for at in range(8)}

    def write(self, first: int, words: list[int]) -> int:
        """Writes registers; the code of an exception, or 0."""
        memory, word = self.memory, words[0]
        signed = word - 0x10000 if word & 0x8000 else word
        data = b"".join(one.to_bytes(2, "big") for one in words)
        if first == ORDERS and len(words) == 1:
            if word == KEEP:
                self.after(0.03, self.keep)
            return 0 if word in (KEEP, RESTART) else 3
        single = {
            0x100: ("station", word, 1 <= word <= 247),
            0x101: ("rate", word, word in RATES),
            0x102: ("frame", word, word in FRAMES),
            0x110: ("power", signed, -5 <= signed <= 27),
        }
        if first in single and len(words) == 1:
            name, value, right = single[first]
            if right:
                memory[name] = value
            return 0 if right else 3
        if first == 0x111 and len(words) == 2:
            hertz = int.from_bytes(data, "big")
            if not 863_000_000 <= hertz <= 870_000_000 or hertz % 12_500:
                return 3
            memory["frequency"] = hertz
            return 0
        if first == 0x120 and len(words) == 8:
            text = data.rstrip(b"\0")
            if not all(0x20 <= byte < 0x7F for byte in text):
                return 3
            memory["name"] = text.decode()
            return 0
        return 2
