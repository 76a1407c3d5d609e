"""Stand-ins by Cordal, cellular: G2 for calls and messages, N7 for narrow-band sockets.

The rule of each, from its invented datasheet:

Cordal G2. Calls are those of V.250 and 3GPP TS 27.007, messages those of `messages`; it starts with a message at 115200 baud.

Cordal N7. +CEREG, +CGDCONT, +CGATT, +CGPADDR, +CPSMS and +CEDRXS are those of 3GPP TS 27.007; the +X commands are its own. The
network grants other timers than were asked, and says so in +CEREG at level 4. A socket is opened, answered at once, and told
of by an event; so is a name that is looked up. After some time without traffic it is idle, and asleep when its active time is
over; what wakes it is lost, but it wakes by itself for its periodic update. What comes in is +XRECV: n,size, and then the
bytes. A management server's requests are +XDM: and must be answered with their message number within ten seconds.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.rigs.messages import ManagedModule, MessagingModule
from wexicon.rigs.modem import INVALID, NOT_ALLOWED, NOT_FOUND, Cme, ModemCommand
from wexicon.rigs.network import GSM, LTE, NB
from wexicon.rigs.sockets import Channel

# How long it rings, and how often (seconds).
RINGS_EVERY, RINGS_FOR = 2.0, 40.0


class CordalG2(MessagingModule):
    """`call` is the other side of a call, `dialled` whether this side dialled, `ringing` whether it rings here."""

    family = "cordal-g2"
    model = "CORDAL-G2"
    about = "cellular, calls and messages"
    technologies: ClassVar[tuple[int, ...]] = (LTE, GSM)
    factory: ClassVar[dict[str, object]] = {**MessagingModule.factory, "caller_id": 1}

    def started(self) -> None:
        self.call: CordalG2 | None = None
        self.ringing = self.dialled = False
        super().started()

    def table(self) -> dict[str, ModemCommand]:
        return {
            **super().table(),
            "CLCC": ModemCommand(run=self.show_call, test=""),
            "CLIP": self.number("caller_id", (0, 1), "(0,1)"),
        }

    def basic(self, text: str) -> str:
        if text.startswith("D"):
            self.silent = True
            self.dial(text[1:].rstrip(";"))
            return ""
        if text == "A":
            if not self.ringing:
                raise Cme(NOT_ALLOWED)
            self.ringing = False
            return ""
        if text == "H":
            self.hang_up()
            return ""
        return super().basic(text)

    # -- calls --------------------------------------------------------------------------------------------------

    def dial(self, number: str) -> None:
        other = self.air.subscriber(number)
        if not self.registered():
            self.say("\r\nNO CARRIER\r\n", 0.5)
            return
        # It takes commands while it calls (V.250, 6.3.1.5): an event or AT+CLCC reports how the call goes.
        self.answer(delay=0.3)
        if not isinstance(other, CordalG2) or other.call or other is self:
            self.say("\r\nBUSY\r\n" if other else "\r\nNO ANSWER\r\n", 2.0)
        else:
            self.call, other.call, other.ringing, self.dialled, other.dialled = other, self, True, True, False
            other.ring(self.own["number"], RINGS_FOR)

    def show_call(self) -> None:
        """The call that there is (27.007, 7.18): whether it comes in, and whether it is active, alerting or incoming."""
        other = self.call
        self.silent = True
        if other is None:
            self.answer()
            return
        rings = self.ringing or other.ringing
        state = 0 if not rings else 3 if self.dialled else 4
        self.answer(f'+CLCC: 1,{int(not self.dialled)},{state},0,0,"{other.own["number"]}",145')

    def ring(self, number: str, left: float) -> None:
        """Rings, and reports the caller's number if that is set."""
        if not self.ringing:
            return
        if left <= 0:
            # No answer: the network ends the call on both sides.
            if other := self.call:
                self.call, self.ringing, other.call = None, False, None
                other.say("\r\nNO ANSWER\r\n", 0.1)
            return
        self.say("\r\nRING\r\n" + (f'\r\n+CLIP: "{number}",145\r\n' if self.memory["caller_id"] else ""), 0.3)
        self.after(RINGS_EVERY, lambda: self.ring(number, left - RINGS_EVERY))

    def stopped(self) -> None:
        self.hang_up()

    def hang_up(self) -> None:
        other, self.call, self.ringing = self.call, None, False
        if other:
            other.call, other.ringing = None, False
            other.say("\r\nNO CARRIER\r\n", 0.1)


# Units of the timers in seconds, by the first three of eight bits (3GPP TS 24.008, 10.5.7.4 and 10.5.7.4a).
ACTIVE_UNITS = {"000": 2, "001": 60, "010": 360}
PERIODIC_UNITS = {"000": 600, "001": 3600, "010": 36_000, "011": 2, "100": 30, "101": 60, "110": 1_152_000}
# Cycles of extended discontinuous reception in seconds, by four bits (3GPP TS 24.008, table 10.5.5.32, NB-S1 mode).
DRX_CYCLES = {
    "0010": 20.48,
    "0011": 40.96,
    "0101": 81.92,
    "1001": 163.84,
    "1010": 327.68,
    "1011": 655.36,
    "1100": 1310.72,
    "1101": 2621.44,
    "1110": 5242.88,
    "1111": 10485.76,
}
# Results of +XOPEN.
OPENED, REFUSED, NO_NAME = 0, 1, 2


class CordalN7(ManagedModule):
    """`channels` are its open sockets. `keeps_awake`: it does not sleep while one is open; `restless`: it wakes by itself so
    often (seconds), regardless of the granted timer."""

    family = "cordal-n7"
    model = "CORDAL-N7"
    registration = "CEREG"
    levels: ClassVar[tuple[int, ...]] = (0, 1, 2, 4)
    technologies: ClassVar[tuple[int, ...]] = (NB, LTE)
    about = "narrow-band cellular, sockets, power saving, device management"
    factory: ClassVar[dict[str, object]] = {
        **ManagedModule.factory,
        "rate": 9600,
        "saving": 0,
        "link_report": 0,
        "periodic": "00100001",
        "active": "00000101",
        "drx": "",
        "keeps_awake": 0,
        "restless": 0,
    }
    identity: ClassVar[dict[str, object]] = {
        **ManagedModule.identity,
        "imei": "001017000000070",
        "imsi": "001010000000070",
        "iccid": "8900100000000000070",
        "number": "+441632960070",
    }

    def started(self) -> None:
        self.channels: dict[int, Channel] = {}
        self.connected = self.asleep = False
        self.traffic = 0
        self.idle_since = self.agenda.now
        self.kept_back: list[bytes] = []
        super().started()

    def stopped(self) -> None:
        for channel in self.channels.values():
            channel.close()

    def table(self) -> dict[str, ModemCommand]:
        return {
            **super().table(),
            "CPSMS": ModemCommand(
                read=lambda: f'{self.memory["saving"]},,,"{self.memory["periodic"]}","{self.memory["active"]}"',
                write=self.set_saving,
                test="(0-2),,,(8 bits),(8 bits)",
            ),
            "CEDRXS": ModemCommand(
                read=lambda: f'5,"{self.memory["drx"]}"', write=self.set_drx, test="(0-2),(5),(4 bits)"
            ),
            "XOPEN": ModemCommand(write=self.open, test='(0-3),("UDP","TCP"),host,(1-65535)'),
            "XSEND": ModemCommand(write=self.send, test="(0-3),(1-1024)"),
            "XCLOSE": ModemCommand(write=self.close, test="(0-3)"),
            "CSCON": self.number("link_report", (0, 1), "(0,1)"),
            "XNAME": ModemCommand(write=self.look_up, test="host"),
            "CEDRXRDP": ModemCommand(run=self.show_drx, test=""),
        }

    # -- registration and power saving ----------------------------------------------------------------------------

    def granted(self) -> tuple[str, str]:
        """Active time and periodic update as the network has them."""
        network = self.air.network
        return network.active_time or self.memory["active"], network.periodic_update or self.memory["periodic"]

    def registration_told(self) -> str:
        told = super().registration_told()
        if self.memory["report"] == 4 and self.registered() and self.memory["saving"]:
            active, periodic = self.granted()
            told += f',,,"{active}","{periodic}"'
        return told

    def register(self) -> None:
        super().register()
        if self.registered():
            self.busy_on_air()

    def set_saving(self, given: list[str]) -> None:
        if given[0] not in ("0", "1"):
            raise Cme(INVALID)
        for key, text in zip(("periodic", "active"), given[3:5], strict=False):
            if not re.fullmatch(r"[01]{8}", text):
                raise Cme(INVALID)
            self.memory[key] = text
        self.memory["saving"] = int(given[0])

    def set_drx(self, given: list[str]) -> None:
        if given[0] not in ("0", "1") or (given[0] == "1" and not re.fullmatch(r"[01]{4}", given[2])):
            raise Cme(INVALID)
        self.memory["drx"] = given[2] if given[0] == "1" else ""

    def granted_drx(self) -> str:
        """The cycle that the network grants, as four bits; empty if none was asked for."""
        return (self.air.network.edrx or str(self.memory["drx"])) if self.memory["drx"] else ""

    def show_drx(self) -> None:
        """+CEDRXRDP: what was asked, what the network grants, and the paging window."""
        asked, granted = self.memory["drx"], self.granted_drx()
        self.tell(f'+CEDRXRDP: 5,"{asked}","{granted}","0011"' if asked and self.registered() else "+CEDRXRDP: 0")

    def listens_at(self) -> float:
        """When it can next be reached from outside (seconds from now): at once, or in its next paging window."""
        cycle = DRX_CYCLES.get(self.granted_drx(), 0.0)
        if self.connected or not cycle:
            return 0.0
        return cycle - (self.agenda.now - self.idle_since) % cycle

    # -- idle and asleep ------------------------------------------------------------------------------------------

    def busy_on_air(self) -> None:
        """Something goes over the air: the link to the network is there for a while, then idle, then the module sleeps."""
        self.traffic += 1
        turn = self.traffic
        self.linked(True)
        self.after(self.air.network.idle_after, lambda: self.idle(turn))

    def linked(self, connected: bool) -> None:
        if connected != self.connected:
            self.connected = connected
            if self.memory["link_report"]:
                self.say(f"\r\n+CSCON: {int(connected)}\r\n", 0)

    def idle(self, turn: int) -> None:
        if turn != self.traffic:
            return
        self.linked(False)
        self.idle_since = self.agenda.now
        if restless := self.memory["restless"]:
            self.after(restless, lambda: self.update(turn))
        if self.memory["saving"]:
            active, periodic = self.granted()
            self.after(int(active[3:], 2) * ACTIVE_UNITS.get(active[:3], 60), lambda: self.sleep(turn))
            if periodic[:3] in PERIODIC_UNITS:
                self.after(int(periodic[3:], 2) * PERIODIC_UNITS[periodic[:3]], lambda: self.update(turn))

    def sleep(self, turn: int) -> None:
        if self.memory["keeps_awake"] and self.channels:
            return
        if turn == self.traffic:
            self.say("\r\n+XSLEEP: 1\r\n", 0)
            self.then(lambda: setattr(self, "asleep", True), 0)

    def update(self, turn: int) -> None:
        """The periodic update is due: it wakes for it by itself."""
        if turn == self.traffic and self.asleep:
            self.asleep = False
            self.wake()
        elif turn == self.traffic:
            self.busy_on_air()

    def heard(self, data: bytes, began: float) -> None:
        if not self.asleep:
            super().heard(data, began)
            return
        # What wakes it is lost; it listens again a moment later.
        self.asleep = False
        self.deaf = True
        self.after(0.2, self.wake)

    def wake(self) -> None:
        self.deaf = False
        self.say("\r\n+XSLEEP: 0\r\n", 0)
        self.busy_on_air()
        kept, self.kept_back = self.kept_back, []
        for text in kept:
            self.say(text, 0.1)

    # -- sockets --------------------------------------------------------------------------------------------------

    def open(self, given: list[str]) -> None:
        number, kind, host, port = int(given[0]), given[1], given[2], int(given[3])
        self.need_network(context=True)
        if not 0 <= number <= 3 or kind not in ("UDP", "TCP") or number in self.channels:
            raise Cme(INVALID)
        channel = Channel(self, lambda data: self.arrived(number, data), lambda: self.ended(number))
        self.silent = True
        self.answer()
        self.busy_on_air()
        self.after(0.6, lambda: self.opened(number, channel, channel.connect(host, port, kind), channel.known))

    def opened(self, number: int, channel: Channel, there: bool, known: bool) -> None:
        if there:
            self.channels[number] = channel
        self.say(f"\r\n+XOPEN: {number},{OPENED if there else REFUSED if known else NO_NAME}\r\n", 0)

    def look_up(self, given: list[str]) -> None:
        self.need_network(context=True)
        self.silent = True
        self.answer()
        self.busy_on_air()
        service = self.air.services.get(given[0], "")
        found = service.partition(":")[0] if service[:1].isdigit() else "192.0.2.1" if service else ""
        self.say(f'\r\n+XNAME: 0,"{found}"\r\n' if found else "\r\n+XNAME: 1\r\n", 0.7)

    def arrived(self, number: int, data: bytes) -> None:
        """Something comes from outside: it reaches the module when that listens."""
        if wait := self.listens_at():
            self.after(wait, lambda: self.received(number, data))
        else:
            self.received(number, data)

    def received(self, number: int, data: bytes) -> None:
        text = b"\r\n+XRECV: %d,%d," % (number, len(data)) + data
        if self.asleep:
            self.kept_back.append(text)
            return
        self.busy_on_air()
        self.say(text, 0)

    def ended(self, number: int) -> None:
        self.channels.pop(number, None)
        self.say(f"\r\n+XCLOSED: {number}\r\n", 0)

    def send(self, given: list[str]) -> None:
        number, size = int(given[0]), int(given[1])
        if number not in self.channels:
            raise Cme(NOT_FOUND)
        if not 1 <= size <= 1024:
            raise Cme(INVALID)
        taken = bytearray()

        def take(data: bytes) -> int:
            part = data[: size - len(taken)]
            taken.extend(part)
            if len(taken) == size:
                self.payload = None
                self.answer()
                self.after(0.4, lambda: self.sent(number, bytes(taken)))
            return len(part)

        self.prompt(take)

    def sent(self, number: int, data: bytes) -> None:
        self.busy_on_air()
        channel = self.channels.get(number)
        right = bool(channel and channel.send(data))
        self.say(f"\r\n+XSENT: {number},{0 if right else 1}\r\n", 0)

    def close(self, given: list[str]) -> None:
        channel = self.channels.pop(int(given[0]), None)
        if channel is None:
            raise Cme(NOT_FOUND)
        channel.close()
