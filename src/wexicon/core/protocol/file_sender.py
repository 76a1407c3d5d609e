"""Sends a file by XMODEM, XMODEM-1K or YMODEM: a machine without input or output.

The rule: a block counts as received when it was acknowledged after all of it was on the wire; one that is refused or not
answered is sent again, MOST_TRIES times at most. However it ends, `failure` is empty or says why.

As their public descriptions have them: W. Christensen, "XMODEM protocol overview" (1982), and C. Forsberg, "XMODEM/YMODEM
protocol reference" (1988). CRC-16 is that of ITU-T V.41, with the initial value 0.
"""

from __future__ import annotations

from binascii import crc_hqx
from collections.abc import Sequence
from enum import Enum

from wexicon.core.protocol.observations import Heard, Observation, Role, Transferred
from wexicon.core.text import counted, to_text

SOH, STX, EOT, ACK, NAK, CAN = 0x01, 0x02, 0x04, 0x06, 0x15, 0x18
CRC_WANTED = ord("C")
PADDING = b"\x1a"
SMALL, LARGE = 128, 1024
PROTOCOLS = ("xmodem", "xmodem-1k", "ymodem")
# How long the receiver may take to ask for the first block, and to answer one (seconds).
STARTS_WITHIN, ANSWERS_WITHIN = 60.0, 10.0
MOST_TRIES = 10
# After this many tries a large block is sent as small ones.
SMALLER_AFTER = 3
# What makes a receiver give up, whatever it waits for.
CANCEL = bytes([CAN]) * 5


class Stage(Enum):
    """What the sender waits for."""

    START = "the receiver to ask for the first block"
    HEADER = "the answer to the file's name"
    BODY = "the receiver to ask for the file"
    BLOCK = "the answer to a block"
    END = "the answer to the end of the file"
    NEXT_FILE = "the receiver to ask for another file"
    LAST = "the answer to the end of the transfer"
    DONE = "nothing"


class FileSender:
    """Sends `data`; YMODEM tells its `name` and size first. `char_time` is how many seconds a byte takes on the wire.
    `received` is how many bytes of the file were acknowledged, `repeated` how many blocks were sent again."""

    def __init__(self, data: bytes, protocol: str, name: str, char_time: float, now: float) -> None:
        self.data, self.protocol, self.name = data, protocol, name
        self.received = self.repeated = 0
        self.failure = self.hint = ""
        self.stage = Stage.START
        self._char_time = char_time
        self._crc = True
        self._number = 0 if protocol == "ymodem" else 1
        self._size = 0
        self._large = protocol != "xmodem"
        self._waiting: bytes | None = None
        self._tries = 0
        self._cancels = 0
        # Until then what comes is no answer to what is being sent.
        self._on_wire_until = now
        self._deadline = now + STARTS_WITHIN

    # -- the machine ----------------------------------------------------------------------------------------------

    @property
    def done(self) -> bool:
        return self.stage is Stage.DONE

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        seen: list[Observation] = [Heard(now, to_text(data), Role.UNMATCHED)]
        for byte in data:
            self._cancels = self._cancels + 1 if byte == CAN else 0
            if self._cancels > 1:
                self._fail(f"the receiver cancelled it after {self.received} of {counted(len(self.data), 'byte')}")
                self.hint = "It refused the file, or could not store it."
            if self.done:
                break
            if self._waiting is None and now >= self._on_wire_until:
                before = self.received
                self._answered(byte, now)
                if self.received != before:
                    seen.append(Transferred(now, self.received, len(self.data)))
        return seen

    def elapse(self, now: float) -> Sequence[Observation]:
        if self._waiting is None and not self.done and now >= self._deadline:
            if self.stage in (Stage.START, Stage.BODY, Stage.NEXT_FILE):
                self._fail(f"waited in vain for {self.stage.value}")
                self.hint = "Is the boot loader waiting for a file, by this protocol and at this rate?"
            else:
                self._again(now)
        return ()

    def next_time(self) -> float | None:
        return self._deadline

    def outgoing(self, now: float) -> bytes:
        data, self._waiting = self._waiting, None
        if not data:
            return b""
        took = len(data) * self._char_time
        # A receiver's clock may run 3 % faster than ours.
        self._on_wire_until = now + 0.97 * took
        self._deadline = now + took + ANSWERS_WITHIN
        return data

    # -- the protocol ---------------------------------------------------------------------------------------------

    def _answered(self, byte: int, now: float) -> None:
        if self.stage in (Stage.START, Stage.BODY, Stage.NEXT_FILE):
            if byte in (CRC_WANTED, NAK):
                self._asked(byte)
        elif byte == ACK:
            self._acknowledged(now)
        elif byte == NAK:
            self._again(now)

    def _asked(self, byte: int) -> None:
        """The receiver asks: for the name, the file, or what comes next."""
        self._crc = byte == CRC_WANTED
        if self.stage is Stage.NEXT_FILE:
            # There is no other file: a block with an empty name ends the transfer.
            self._number = 0
            self._send(Stage.LAST, self._block(bytes(SMALL)))
        elif self.stage is Stage.START and self.protocol == "ymodem":
            header = self.name.encode("utf-8", "replace") + b"\0" + str(len(self.data)).encode()
            self._send(Stage.HEADER, self._block(header.ljust(SMALL if len(header) <= SMALL else LARGE, b"\0")))
        else:
            self._number = 1
            self._next_block()

    def _acknowledged(self, now: float) -> None:
        if self.stage is Stage.HEADER:
            self.stage, self._deadline = Stage.BODY, now + STARTS_WITHIN
        elif self.stage is Stage.BLOCK:
            self.received = min(len(self.data), self.received + self._size)
            self._number += 1
            self._next_block()
        elif self.stage is Stage.END and self.protocol == "ymodem":
            self.stage, self._deadline = Stage.NEXT_FILE, now + STARTS_WITHIN
        else:
            self.stage = Stage.DONE

    def _next_block(self) -> None:
        if self.received >= len(self.data):
            self._send(Stage.END, bytes([EOT]))
            return
        rest = self.data[self.received :]
        # Without a CRC a receiver has no large blocks.
        self._size = LARGE if self._large and self._crc and len(rest) > SMALL else SMALL
        self._send(Stage.BLOCK, self._block(rest[: self._size].ljust(self._size, PADDING)))

    def _send(self, stage: Stage, data: bytes) -> None:
        self.stage, self._waiting, self._last, self._tries = stage, data, data, 1

    def _block(self, body: bytes) -> bytes:
        """A block: kind, number, its complement, body, sum or CRC."""
        number = self._number % 256
        head = bytes([STX if len(body) == LARGE else SOH, number, 255 - number])
        check = crc_hqx(body, 0).to_bytes(2, "big") if self._crc else bytes([sum(body) % 256])
        return head + body + check

    def _again(self, now: float) -> None:
        """What was sent last was refused, or not answered."""
        self.repeated += 1
        if self._tries >= MOST_TRIES:
            what = f"block {self._number}" if self.stage is Stage.BLOCK else "the end of the file"
            if self.stage is Stage.HEADER:
                what = "the file's name"
            self._fail(f"{what} was sent {MOST_TRIES} times and not acknowledged")
            self.hint = "The link loses too much: try a lower rate, shorter wires, or flow control off."
            return
        tries = self._tries + 1
        if self.stage is Stage.BLOCK and self._size == LARGE and tries > SMALLER_AFTER:
            self._large = False
            self._next_block()
        else:
            self._waiting = self._last
        self._tries = tries

    def _fail(self, why: str) -> None:
        self.failure, self.stage = why, Stage.DONE
