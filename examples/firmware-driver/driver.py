"""A small driver for a Brisca W1: finds it, gives it a name and a rate, keeps both. `driver.c` does the same.

    python driver.py PORT NAME RATE

Status 0: done; 1: the module refused something; 2: it does not answer.
"""

from __future__ import annotations

import contextlib
import sys
import time

import serial

RATE = 115_200
TRIES = 10
SETTLES = 0.2


class Refused(Exception):
    """The module answered with an error."""


class Silent(Exception):
    """The module does not answer."""


class Driver:
    """One module on a serial port."""

    def __init__(self, port: str) -> None:
        self.port = serial.Serial(port, RATE, timeout=0.8)

    def ask(self, command: str, tries: int = TRIES) -> str:
        """Says a command until it is answered, and gives the answer's text. Raises Refused, Silent."""
        for _ in range(tries):
            self.port.reset_input_buffer()
            self.port.write(command.encode() + b"\r\n")
            text = ""
            while raw := self.port.readline():
                line = raw.decode(errors="replace").strip()
                if line == "OK":
                    return text
                if line.startswith("FAULT"):
                    raise Refused(f"{command}: {line}")
                text = line if line not in ("", command) else text
        raise Silent(command)

    def find(self, rate: int) -> None:
        """Finds the module at the rate as delivered, or at the one that it is to have. Raises Silent."""
        for self.port.baudrate in (RATE, rate):
            # What it heard at the other rate is garbage to it: this ends that line, and its answer is waited for.
            self.port.write(b"\r\n")
            self.port.read_until(b"FAULT 2\r\n")
            with contextlib.suppress(Silent):
                self.ask("AT+WHO?", tries=TRIES // 2)
                return
        raise Silent("AT+WHO?")

    def set_up(self, name: str, rate: int) -> None:
        """Finds the module; its name and rate are kept over a power cut."""
        self.find(rate)
        self.ask(f'AT+NAME="{name}"')
        self.ask(f"AT+RATE={rate}")
        self.port.baudrate = rate
        # What is between us and the module, such as a tap, needs a moment too.
        time.sleep(SETTLES)
        self.ask("AT+STORE")
        # What the line changed on its way was written, too.
        if (kept := self.ask("AT+NAME?")) != f'+NAME "{name}"':
            raise Refused(f"the name is {kept}")


def main(port: str, name: str, rate: str) -> int:
    """Sets up the module on a port; gives the exit status."""
    try:
        Driver(port).set_up(name, int(rate))
    except Refused as fault:
        print(f"refused: {fault}", file=sys.stderr)
        return 1
    except Silent as fault:
        print(f"no answer: {fault}", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    raise SystemExit(main(*sys.argv[1:4]))
