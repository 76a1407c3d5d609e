"""Stand-in Cordal N7: narrow-band cellular with sockets, power saving and device management.

The rule: +CEREG, +CGDCONT, +CGATT, +CGPADDR, +CPSMS and +CEDRXS are those of 3GPP TS 27.007; the +X commands are its own. The
network grants other timers than were asked, and says so in +CEREG at level 4. A socket is opened, answered at once, and told
of by an event; so is a name that is looked up. After some time without traffic it is idle, and asleep when its active time
is over; what wakes it is lost, but it wakes by itself for its periodic update. What comes in is +XRECV: n,size, and then the
bytes. A management server's requests are +XDM: and must be answered with their message number within ten seconds.
"""

from __future__ import annotations

import re
from typing import ClassVar

from wexicon.rig.cellular import INVALID, NO_NETWORK, NOT_FOUND, CellularModule, Cme, Command
from wexicon.rig.sockets import Channel

MANAGED_AFTER = 3.0
# Units of the timers in seconds, by the first three of eight bits (3GPP TS 24.008, 10.5.7.4 and 10.5.7.4a).
ACTIVE_UNITS = {"000": 2, "001": 60, "010": 360}
PERIODIC_UNITS = {"000": 600, "001": 3600, "010": 36_000, "011": 2, "100": 30, "101": 60, "110": 1_152_000}
ANSWER_WITHIN = 10.0


class CordalN7(CellularModule):
    """`channels` are its open sockets; `asked` the messages of the management server that are not answered yet."""

    family = "cordal-n7"
    model = "CORDAL-N7"
    registration = "CEREG"
    about = "narrow-band cellular, sockets, power saving, device management"
    factory: ClassVar[dict[str, object]] = {
        **CellularModule.factory,
        "rate": 9600,
        "saving": 0,
        "link_report": 0,
        "periodic": "00100001",
        "active": "00000101",
        "drx": "",
    }
    identity: ClassVar[dict[str, object]] = {
        **CellularModule.identity,
        "imei": "001017000000070",
        "imsi": "001010000000070",
        "iccid": "8900100000000000070",
        "number": "+441632960070",
    }

    def started(self) -> None:
        self.channels: dict[int, Channel] = {}
        self.asked: dict[int, str] = {}
        self.message = 0
        self.connected = self.asleep = False
        self.traffic = 0
        self.kept_back: list[bytes] = []
        super().started()

    def stopped(self) -> None:
        for channel in self.channels.values():
            channel.close()

    def table(self) -> dict[str, Command]:
        return {
            **super().table(),
            "CEREG": Command(
                read=self.registration_told, write=lambda given: self.put("report", given, (0, 1, 4)), test="(0,1,4)"
            ),
            "CPSMS": Command(
                read=lambda: f'{self.memory["saving"]},,,"{self.memory["periodic"]}","{self.memory["active"]}"',
                write=self.set_saving,
                test="(0-2),,,(8 bits),(8 bits)",
            ),
            "CEDRXS": Command(read=lambda: f'5,"{self.memory["drx"]}"', write=self.set_drx, test="(0-2),(5),(4 bits)"),
            "XOPEN": Command(write=self.open, test='(0-3),("UDP","TCP"),host,(1-65535)'),
            "XSEND": Command(write=self.send, test="(0-3),(1-1024)"),
            "XCLOSE": Command(write=self.close, test="(0-3)"),
            "CSCON": self.number("link_report", (0, 1), "(0,1)"),
            "XNAME": Command(write=self.look_up, test="host"),
            "XDMR": Command(write=self.reply, test="number,value"),
        }

    # -- registration and power saving ----------------------------------------------------------------------------

    def granted(self) -> tuple[str, str]:
        """Active time and periodic update as the network has them."""
        network = self.air.network
        return network.active_time or self.memory["active"], network.periodic_update or self.memory["periodic"]

    def registration_told(self) -> str:
        told = f"{self.memory['report']},{self.stat}"
        if self.memory["report"] == 4 and self.stat == 1:
            told += ',"00F1","01A2D001",9'
            if self.memory["saving"]:
                active, periodic = self.granted()
                told += f',,,"{active}","{periodic}"'
        return told

    def register(self) -> None:
        super().register()
        self.busy_on_air()
        self.after(MANAGED_AFTER, self.manage)

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
        if self.memory["saving"]:
            active, periodic = self.granted()
            self.after(int(active[3:], 2) * ACTIVE_UNITS.get(active[:3], 60), lambda: self.sleep(turn))
            if periodic[:3] in PERIODIC_UNITS:
                self.after(int(periodic[3:], 2) * PERIODIC_UNITS[periodic[:3]], lambda: self.update(turn))

    def sleep(self, turn: int) -> None:
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
        if self.stat != 1:
            raise Cme(NO_NETWORK)
        if not 0 <= number <= 3 or kind not in ("UDP", "TCP") or number in self.channels:
            raise Cme(INVALID)
        channel = Channel(self, lambda data: self.received(number, data), lambda: self.ended(number))
        self.silent = True
        self.answer()
        self.after(0.6, lambda: self.opened(number, channel, channel.connect(host, port, kind)))

    def opened(self, number: int, channel: Channel, there: bool) -> None:
        if there:
            self.channels[number] = channel
        self.say(f"\r\n+XOPEN: {number},{0 if there else 1}\r\n", 0)

    def look_up(self, given: list[str]) -> None:
        if self.stat != 1:
            raise Cme(NO_NETWORK)
        self.silent = True
        self.answer()
        self.busy_on_air()
        service = self.air.services.get(given[0], "")
        found = "192.0.2.1" if service == "echo" else service.partition(":")[0]
        self.say(f'\r\n+XNAME: 0,"{found}"\r\n' if found else "\r\n+XNAME: 1\r\n", 0.7)

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

    # -- device management ----------------------------------------------------------------------------------------

    def manage(self) -> None:
        """The server asks, one request after the other."""
        server = self.air.management
        requests = [f'READ,{{}},"{path}"' for path in server.reads]
        requests += [f'WRITE,{{}},"{path}","{value}"' for path, value in server.writes.items()]
        for index, request in enumerate(requests):
            self.after(index * 0.5, lambda request=request: self.ask(request))  # type: ignore[misc]

    def ask(self, request: str) -> None:
        self.message += 1
        number = self.message
        self.asked[number] = request
        self.say(f"\r\n+XDM: {request.format(number)}\r\n", 0)
        self.after(ANSWER_WITHIN, lambda: self.late(number))

    def late(self, number: int) -> None:
        if self.asked.pop(number, None):
            self.say(f"\r\n+XDM: LATE,{number}\r\n", 0)

    def reply(self, given: list[str]) -> None:
        if self.asked.pop(int(given[0]), None) is None:
            raise Cme(NOT_FOUND)
        self.air.answered[int(given[0])] = given[1] if len(given) > 1 else ""
