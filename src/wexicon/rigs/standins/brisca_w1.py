"""Stand-in Brisca W1: a Wi-Fi module that scans, joins, sends and serves.

The rule, from its invented datasheet: it starts with a message at 38400 baud, is deaf for 0.6 s, and says READY at the
rate it keeps. Lines end with CR LF; it echoes until ATE0. Answers end with OK or FAULT n. AT+SEEK lists networks for two
seconds, and until it is done all else is BUSY. AT+ACCESS joins, in mode station only. AT+POST c n takes n bytes after the
prompt; what comes in is announced as +IN c n and a space, then n bytes with no line end; a payload that stops for five seconds
is FAULT 12. AT+SERVE lets up to four clients in, each on the lowest channel that is free. AT+RATE takes effect after its OK.
AT+STORE keeps the settings; the network that was joined last is kept by itself, joined again after each start in mode station,
and forgotten by AT+PART. In mode beacon AT+OPEN opens a network for others. AT+FILE keeps files by their names, at once, and
tells their size and SHA-256.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from hashlib import sha256
from typing import Any, ClassVar

from wexicon.core.tuning import Tuning
from wexicon.rigs.air import AccessPoint
from wexicon.rigs.sockets import Channel, Served
from wexicon.rigs.standin import LineEditor, StandIn

START_RATE = 38400
RATES = (9600, 38400, 57600, 115200, 230400, 460800)
MODES = ("idle", "station", "beacon")
START_TIME = 0.6
JOIN_TIME = 1.8
SEEK_TIME = 2.0
LARGEST_POST = 1500
PAYLOAD_TIME = 5.0
ADDRESS = r"(?:(?:25[0-5]|2[0-4]\d|1?\d?\d)\.){3}(?:25[0-5]|2[0-4]\d|1?\d?\d)"
CHANNELS = range(4)
FILES = ("ca", "certificate", "key", "script")
LARGEST_FILE = 8192


class BriscaW1(StandIn):
    """`joined` is 0 apart, 1 joining, 2 joined; `payload` what AT+POST still waits for; `served` where it lets clients in."""

    family = "brisca-w1"
    maker = "Brisca"
    about = "Wi-Fi module: scans, joins, sends, serves"
    factory: ClassVar[dict[str, object]] = {
        "name": "brisca-w1",
        "mode": "idle",
        "rate": 115200,
        "power": 20,
        "dhcp": 1,
        "fixed": "0.0.0.0",
        "many": 1,
        "joined": ("", ""),
        "files": {},
    }
    identity: ClassVar[dict[str, object]] = {"address": "02B1C0447A10", "firmware": "2.0.3"}

    served: Served | None = None
    own_network: AccessPoint | None = None

    def stopped(self) -> None:
        self.stop_serving()
        self.shut()
        for channel in self.links.values():
            channel.close()

    def stop_serving(self) -> None:
        """Lets no more clients in."""
        if self.served:
            self.served.close()
        self.served = None

    def started(self) -> None:
        self.links: dict[int, Channel] = {}
        self.deaf = True
        self.echo = True
        self.busy = False
        self.joined = 0
        self.payload: tuple[int | str, int] | None = None
        self.taken = bytearray()
        self.editor = LineEditor(self, "\r\n", self.line, lambda: self.fault(1))
        self.uart.tuning = Tuning(START_RATE)
        self.say(f"\r\nBrisca W1 {self.own['firmware']} starts\r\n", 0.02)
        self.after(START_TIME - 0.1, self.ready)

    def ready(self) -> None:
        self.uart.tuning = Tuning(int(self.flash["rate"]))
        self.say("READY\r\n", 0.1)
        self.after(0.1, self.listen)

    def listen(self) -> None:
        self.deaf = False
        if self.memory["mode"] == "station" and self.flash["joined"][0]:
            self.after(JOIN_TIME, self.rejoin)

    def rejoin(self) -> None:
        """Joins the network again that it was in last."""
        name, passphrase = self.flash["joined"]
        point = self.air.access_point(name)
        if not self.joined and point is not None and point.passphrase == passphrase:
            self.joined, self.point = 1, point
            self.after(1.5, self.addressed)

    def heard(self, data: bytes, began: float) -> None:
        if self.deaf:
            return
        if self.echo:
            self.uart.send(data)
        while data and self.payload:
            channel, size = self.payload
            part, data = data[: size - len(self.taken)], data[size - len(self.taken) :]
            self.taken += part
            count = len(self.taken)
            self.after(PAYLOAD_TIME, lambda count=count: self.payload_stopped(count))  # type: ignore[misc]
            if len(self.taken) == size:
                self.payload = None
                if isinstance(channel, str):
                    self.store(channel, bytes(self.taken))
                else:
                    self.posted(channel, bytes(self.taken))
        self.editor.feed(data)

    def payload_stopped(self, count: int) -> None:
        """Nothing more of a payload came: it takes commands again."""
        if self.payload and len(self.taken) == count:
            self.payload = None
            self.fault(12)

    # -- commands -----------------------------------------------------------------------------------------------

    def answer(self, *lines: str, delay: float | None = None) -> None:
        self.say("".join(f"\r\n{line}\r\n" for line in lines) + "\r\nOK\r\n", delay)

    def fault(self, code: int) -> None:
        self.say(f"\r\nFAULT {code}\r\n")

    def line(self, line: str) -> None:
        if self.busy:
            self.say("\r\nBUSY\r\n")
            return
        for form, act in LINES:
            if found := re.fullmatch(form, line):
                act(self, *found.groups())
                return
        self.fault(2)

    def tell(self, word: str) -> None:
        kept = self.memory[word.lower()]
        self.answer(f'+{word} "{kept}"' if word in ("NAME", "FIXED") else f"+{word} {kept}")

    def switch_echo(self, on: str) -> None:
        self.echo = on == "1"
        self.answer()

    def store_settings(self) -> None:
        self.keep()
        self.answer(delay=0.05)

    def start_again(self) -> None:
        self.answer()
        self.then(self.restart)

    def take(self, word: str, text: str) -> None:
        value: Any = None
        if word == "name" and (found := re.fullmatch(r'"((?:[^"\\]|\\.){1,32})"', text)):
            value = re.sub(r"\\(.)", r"\1", found[1])
        elif word == "mode" and text in MODES:
            value = text
        elif (word == "rate" and re.fullmatch(r"[0-9]{1,7}", text) and int(text) in RATES) or (
            word == "power" and re.fullmatch(r"\d{1,2}", text) and int(text) <= 20
        ):
            value = int(text)
        if value is None:
            return self.fault(3)
        self.memory[word] = value
        self.answer()
        if word == "rate":
            self.then(lambda: setattr(self.uart, "tuning", Tuning(int(value))))
        return None

    def connect_by(self, word: str, text: str) -> None:
        """How it gets its address, and how many connections it has."""
        fixed = re.fullmatch(f'"({ADDRESS})"', text)
        if not (fixed if word == "fixed" else text in ("0", "1")):
            return self.fault(3)
        self.memory[word] = fixed[1] if fixed and word == "fixed" else int(text)
        return self.answer()

    # -- files ------------------------------------------------------------------------------------------------------

    def file_told(self, name: str) -> str:
        """A file as it is listed."""
        digits = self.flash["files"].get(name)
        if digits is None:
            return f'+FILE "{name}",0,none'
        data = bytes.fromhex(digits)
        return f'+FILE "{name}",{len(data)},{sha256(data).hexdigest()}'

    def take_file(self, name: str, size: int) -> None:
        """Waits for the bytes of a file."""
        if name not in FILES or not 1 <= size <= LARGEST_FILE:
            return self.fault(3)
        self.payload, self.taken = (name, size), bytearray()
        self.after(PAYLOAD_TIME, lambda: self.payload_stopped(0))
        return self.say("\r\n> ")

    def erase(self, name: str) -> None:
        """Deletes a file, at once."""
        if name not in self.flash["files"]:
            return self.fault(14)
        self.flash["files"] = {other: data for other, data in self.flash["files"].items() if other != name}
        self.memory["files"] = self.flash["files"]
        return self.answer()

    def store(self, name: str, data: bytes) -> None:
        """Keeps a file, at once."""
        self.flash["files"] = {**self.flash["files"], name: data.hex()}
        self.memory["files"] = self.flash["files"]
        self.say("\r\nSTORED\r\n\r\nOK\r\n", 0.05)

    # -- the network ----------------------------------------------------------------------------------------------

    def seek(self) -> None:
        self.busy = True
        points = sorted(self.air.access_points, key=lambda point: -point.signal)
        for index, point in enumerate(points):
            text = f'\r\n+SEEK "{point.name}",{point.signal},{point.channel},{point.protection}\r\n'
            self.say(text, SEEK_TIME * (index + 1) / (len(points) + 1))
        self.after(SEEK_TIME, lambda: setattr(self, "busy", False))
        self.answer(delay=SEEK_TIME)

    def join(self, name: str, passphrase: str) -> None:
        if self.memory["mode"] != "station":
            return self.fault(7)
        point = self.air.access_point(name)
        self.joined = 0
        self.busy = True
        right = point is not None and point.passphrase == passphrase
        self.after(JOIN_TIME, lambda: setattr(self, "busy", False))
        if point is None:
            self.say("\r\nNO SUCH POINT\r\n", JOIN_TIME)
        elif not right:
            self.say("\r\nBAD KEY\r\n", JOIN_TIME)
        else:
            self.joined, self.point = 1, point
            self.flash["joined"] = self.memory["joined"] = (name, passphrase)
            self.answer(delay=JOIN_TIME)
            self.after(JOIN_TIME + 1.5, self.addressed)
        return None

    def addressed(self) -> None:
        if self.joined:
            self.joined = 2
            self.say("\r\n+ACCESS 2\r\n", 0)

    def address(self) -> str:
        """Its address: this machine's, as it really serves there, unless it is fixed."""
        if self.joined != 2:
            return "0.0.0.0"
        return "127.0.0.1" if self.memory["dhcp"] else str(self.memory["fixed"])

    def leave(self) -> None:
        """Leaves the network, and forgets it."""
        self.flash["joined"] = self.memory["joined"] = ("", "")
        was, self.joined = self.joined, 0
        self.stop_serving()
        for number in [*self.links]:
            self.links.pop(number).close()
        self.answer()
        if was:
            self.say("\r\n+ACCESS 0\r\n", 0.1)

    def open(self, name: str, passphrase: str) -> None:
        """Opens a network for others."""
        if self.memory["mode"] != "beacon":
            return self.fault(13)
        if not 1 <= len(name) <= 32 or not (passphrase == "" or 8 <= len(passphrase) <= 63):
            return self.fault(3)
        self.shut()
        self.own_network = AccessPoint(name, passphrase, -40, 1)
        self.air.access_points.append(self.own_network)
        return self.answer()

    def shut(self) -> None:
        """Its own network is gone."""
        if self.own_network in self.air.access_points:
            self.air.access_points.remove(self.own_network)
        self.own_network = None

    def link(self, channel: int, host: str, port: int) -> None:
        if self.joined != 2:
            return self.fault(8)
        if channel not in CHANNELS or channel in self.links:
            return self.fault(3)
        if not self.memory["many"] and (channel or self.links):
            return self.fault(11)
        self.answer()
        made = self.channel(channel)
        self.after(0.25, lambda: self.linked(channel, made, made.connect(host, port)))
        return None

    def channel(self, number: int) -> Channel:
        """A channel that is not connected yet."""
        return Channel(self, lambda data: self.came_in(number, data), lambda: self.ended(number))

    def serve(self, port: int, limit: int) -> None:
        """Lets up to `limit` clients in at a port, or at none any more (0)."""
        if self.joined != 2 and not self.own_network:
            return self.fault(8)
        if port and not self.memory["many"] and limit > 1:
            return self.fault(11)
        if port > 65535 or (port and self.served):
            return self.fault(3 if port > 65535 else 10)
        if port:
            try:
                self.served, self.limit = Served(self, port, self.meet), limit
            except OSError:
                return self.fault(10)
        else:
            self.stop_serving()
        return self.answer()

    def meet(self) -> Channel | None:
        """A client asks to be let in."""
        number = next((one for one in CHANNELS if one not in self.links), None)
        if number is None or len(self.links) >= self.limit:
            return None
        made = self.channel(number)
        self.linked(number, made, True)
        return made

    def drop(self, number: int) -> None:
        """Closes a channel."""
        channel = self.links.pop(number, None)
        if channel is None:
            return self.fault(9)
        # What was posted is on its way; it gets there first.
        self.after(0.1, channel.close)
        return self.answer()

    def linked(self, channel: int, made: Channel, there: bool) -> None:
        if there:
            self.links[channel] = made
        self.say(f"\r\n+LINK {channel} {'UP' if there else 'NOBODY'}\r\n", 0)

    def came_in(self, channel: int, data: bytes) -> None:
        self.say(b"\r\n+IN %d %d " % (channel, len(data)) + data, 0)

    def ended(self, channel: int) -> None:
        self.links.pop(channel, None)
        self.say(f"\r\n+LINK {channel} DOWN\r\n", 0)

    def post(self, channel: int, size: int) -> None:
        if channel not in self.links or not 1 <= size <= LARGEST_POST:
            return self.fault(9 if channel not in self.links else 3)
        self.payload, self.taken = (channel, size), bytearray()
        self.after(PAYLOAD_TIME, lambda: self.payload_stopped(0))
        self.say("\r\n> ")
        return None

    def posted(self, channel: int, data: bytes) -> None:
        self.say("\r\nPOSTED\r\n", 0.02)
        if channel in self.links:
            self.links[channel].send(data)


def _plain(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)


_TEXT = r'"((?:[^"\\]|\\.)*)"'
# Each line that it takes, and what it does then.
LINES: tuple[tuple[str, Callable[..., object]], ...] = (
    (r"AT", BriscaW1.answer),
    (r"ATE([01])", BriscaW1.switch_echo),
    (r"AT\+WHO\?", lambda it: it.answer(f"+WHO BRISCA-W1 {it.own['firmware']} {it.own['address']}")),
    (r"AT\+STORE", BriscaW1.store_settings),
    (r"AT\+START", BriscaW1.start_again),
    (r"AT\+SEEK", BriscaW1.seek),
    (r"AT\+ACCESS\?", lambda it: it.answer(f"+ACCESS {it.joined}")),
    (r"AT\+(NAME|MODE|RATE|POWER|DHCP|FIXED|MANY)\?", BriscaW1.tell),
    (r"AT\+(NAME|MODE|RATE|POWER)=(.*)", lambda it, word, text: it.take(word.lower(), text)),
    (rf"AT\+ACCESS={_TEXT},{_TEXT}", lambda it, *texts: it.join(*map(_plain, texts))),
    (r'AT\+LINK (\d),"([^"]+)",(\d+)', lambda it, at, host, port: it.link(int(at), host, int(port))),
    (r"AT\+POST (\d) (\d{1,4})", lambda it, at, size: it.post(int(at), int(size))),
    (r"AT\+(DHCP|FIXED|MANY)=(.*)", lambda it, word, text: it.connect_by(word.lower(), text)),
    (r"AT\+ADDRESS\?", lambda it: it.answer(f"+ADDRESS {it.address()}")),
    (r"AT\+SIGNAL\?", lambda it: it.answer(f"+SIGNAL {it.point.signal}") if it.joined else it.fault(8)),
    (r"AT\+PART", BriscaW1.leave),
    (rf"AT\+OPEN={_TEXT},{_TEXT}", lambda it, *texts: it.open(*map(_plain, texts))),
    (r"AT\+SHUT", lambda it: (it.shut(), it.answer())),
    (r"AT\+SERVE\?", lambda it: it.answer(f"+SERVE {it.served.port if it.served else 0}")),
    (r"AT\+SERVE (\d{1,5})(?:,([1-4]))?", lambda it, port, limit: it.serve(int(port), int(limit or 4))),
    (r"AT\+FILES\?", lambda it: it.answer(*map(it.file_told, sorted(it.flash["files"])))),
    (rf'AT\+FILE\?="({"|".join(FILES)})"', lambda it, name: it.answer(it.file_told(name))),
    (r'AT\+FILE="(\w+)",(\d{1,5})', lambda it, name, size: it.take_file(name, int(size))),
    (r'AT\+ERASE="(\w+)"', BriscaW1.erase),
    (r"AT\+DROP (\d)", lambda it, at: it.drop(int(at))),
)
