"""How a stand-in receives a file by XMODEM or YMODEM, as a boot loader does.

The rule: written from the protocols' public description by itself, so that a wrong sender is found out. A block that is not
whole after a second is refused; one that came before is acknowledged and not stored.
"""

from __future__ import annotations

from collections.abc import Callable

from wexicon.rigs.standin import StandIn

SOH, STX, EOT, ACK, NAK, CAN = b"\x01", b"\x02", b"\x04", b"\x06", b"\x15", b"\x18"
ASKS_EVERY, ASKS = 3.0, 20
PATIENCE = 1.0
SILENT_FOR, MOST_SILENT = 10.0, 3
MOST_REFUSED = 12


def crc16(data: bytes) -> int:
    """CRC-16 with the polynomial x^16 + x^12 + x^5 + 1 and initial value 0, bit by bit."""
    crc = 0
    for byte in data:
        crc ^= byte << 8
        for _ in range(8):
            crc = (crc << 1 ^ 0x1021) & 0xFFFF if crc & 0x8000 else crc << 1
    return crc


class ImageReceiver:
    """Receives one file for `module`. `stored` is given each block's bytes as they are accepted, `ended` the size that YMODEM
    told (or None) when all is there, or a reason. `with_crc`: it asks for a CRC; `named`: a name comes first."""

    def __init__(
        self,
        module: StandIn,
        stored: Callable[[bytes], None],
        ended: Callable[[int | None, str], None],
        *,
        with_crc: bool = True,
        named: bool = False,
    ) -> None:
        self.module, self.stored, self.ended = module, stored, ended
        self.with_crc, self.named = with_crc, named
        self.over = False
        self._buffer = b""
        self._wanted = 0 if named else 1
        self._size: int | None = None
        self._turn = self._asked = self._refused = self._cancels = self._silences = 0
        self._last_file = False
        self._ask()

    def _say(self, data: bytes) -> None:
        self.module.say(data, 0.002)

    def _ask(self) -> None:
        """Asks for the first block, again and again."""
        self._asked += 1
        if self._asked > ASKS:
            self._end("nothing came")
            return
        self._say(b"C" if self.with_crc else NAK)
        turn = self._turn
        self.module.after(ASKS_EVERY, lambda: self._ask() if turn == self._turn and not self.over else None)

    def _end(self, why: str) -> None:
        if not self.over:
            self.over = True
            self.ended(self._size, why)

    def feed(self, data: bytes) -> None:
        """Bytes have come."""
        self._buffer += data
        self._turn += 1
        self._silences = 0
        self._watch()
        while self._buffer and not self.over and self._one():
            pass
        if self._buffer and not self.over:
            turn = self._turn
            self.module.after(PATIENCE, lambda: self._refuse() if turn == self._turn and not self.over else None)

    def _watch(self) -> None:
        """A sender that falls silent is asked again, and then given up."""
        turn = self._turn
        self.module.after(SILENT_FOR, lambda: self._silent() if turn == self._turn and not self.over else None)

    def _silent(self) -> None:
        self._silences += 1
        if self._silences >= MOST_SILENT:
            self._say(CAN * 2)
            self._end("nothing more came")
        else:
            self._say(NAK)
            self._watch()

    def _one(self) -> bool:
        """Takes one block, or one byte that is none; whether there was enough."""
        first = self._buffer[:1]
        self._cancels = self._cancels + 1 if first == CAN else 0
        if self._cancels > 1:
            self._end("cancelled")
            return False
        if first == EOT:
            self._buffer = b""
            self._say(ACK)
            if self.named:
                self._wanted, self._last_file, self._asked = 0, True, 0
                self._ask()
            else:
                self._end("")
            return False
        if first not in (SOH, STX):
            self._buffer = self._buffer[1:]
            return True
        body = 1024 if first == STX else 128
        whole = 3 + body + (2 if self.with_crc else 1)
        if len(self._buffer) < whole:
            return False
        block, self._buffer = self._buffer[:whole], b""
        self._block(block, body)
        return False

    def _block(self, block: bytes, size: int) -> None:
        body, check = block[3 : 3 + size], block[3 + size :]
        right = crc16(body).to_bytes(2, "big") if self.with_crc else bytes([sum(body) & 0xFF])
        if block[1] ^ block[2] != 0xFF or check != right:
            self._refuse()
            return
        self._refused = 0
        if block[1] == self._wanted % 256:
            self._accept(body)
        elif block[1] == (self._wanted - 1) % 256:
            # Its acknowledgement was lost.
            self._say(ACK)
        else:
            self._say(CAN * 2)
            self._end("a block is missing")

    def _accept(self, body: bytes) -> None:
        self._say(ACK)
        if self.named and self._wanted == 0:
            name, _, rest = body.partition(b"\0")
            if self._last_file or not name:
                self._end("")
                return
            size = rest.split(b"\0")[0].split(b" ")[0]
            self._size = int(size) if size.isdigit() else None
            self._say(b"C")
        else:
            self.stored(body)
        self._wanted += 1

    def _refuse(self) -> None:
        """What came is no block."""
        self._buffer = b""
        self._refused += 1
        if self._refused > MOST_REFUSED:
            self._say(CAN * 2)
            self._end("too many blocks were refused")
        else:
            self._say(NAK)
