"""What the cellular stand-ins share: the SIM, registration, contexts and the clock, by the commands of 3GPP TS 27.007.

The rule: command words and the form of their answers are those of the open standards; nothing here is any maker's own but what
no standard has, and that begins with +X.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import timedelta
from functools import partial
from typing import ClassVar

from wexicon.rigs import modem as sim
from wexicon.rigs.modem import INVALID, NO_NETWORK, NOT_SUPPORTED, RATES, WRONG_APN, Cme, Modem, ModemCommand, Sim
from wexicon.rigs.network import EPOCH, UNKNOWN_SIGNAL, Cell

# Registration as +CREG and +CEREG count it.
NOT_REGISTERED, HOME, SEARCHING, DENIED, ROAMING = 0, 1, 2, 3, 5
# How long it searches until it hears a cell, as a share of the time until it is registered.
HEARS_AT = 0.3
ADDRESS = "192.0.2.70"
AREA, CELL_NUMBER = "00F1", "01A2D001"
# A clock that was never set (27.007, +CCLK).
NO_CLOCK = "80/01/06,00:00:00+00"


_OWN = ("GMI", "GMM", "GMR", "GSN", "CGMI", "CGMM", "CGMR", "CGSN")


class CellularModule(Modem):
    """A module with a SIM. `stat` is its registration, `cell` the cell that it hears. `technologies` are those that it can use,
    the best first."""

    maker = "Cordal"
    registration: ClassVar[str] = "CREG"
    levels: ClassVar[tuple[int, ...]] = (0, 1, 2)
    technologies: ClassVar[tuple[int, ...]] = ()
    own_bands: ClassVar[tuple[int, ...]] = (3, 8, 20, 28)
    factory: ClassVar[dict[str, object]] = {
        "rate": 115200,
        "errors": 1,
        "report": 0,
        "echo": 1,
        "apn": "",
        "technology": 0,
        "bands": "",
        "network_clock": 1,
        **sim.FACTORY,
    }
    identity: ClassVar[dict[str, object]] = {
        "firmware": "1.00",
        "imei": "001017000000013",
        "imsi": "001010000000013",
        "iccid": "8900100000000000013",
        "number": "+441632960013",
    }

    def started(self) -> None:
        self.stat = NOT_REGISTERED
        self.cell: Cell | None = None
        self.active = False
        self.operator_choice = 0
        self.clock_offset: float | None = None
        self.searches = 0
        self.sim = Sim(self)
        self.power_up()

    def ready(self) -> None:
        super().ready()
        if self.sim.open:
            self.search()

    # -- registration -------------------------------------------------------------------------------------------

    def search(self) -> None:
        """Looks for a network; the cell found before is dropped."""
        self.searches += 1
        turn, network = self.searches, self.air.network
        self.cell, self.active = None, False
        self.turn_to(SEARCHING)
        chosen = self.memory["technology"]
        usable = tuple(one for one in self.technologies if not chosen or one == chosen - 1)
        bands = tuple(int(one) for one in str(self.memory["bands"]).split(",") if one) or self.own_bands
        found = network.cell(usable, bands)
        if found is None:
            return

        def still(action: Callable[[], None]) -> Callable[[], None]:
            return lambda: action() if turn == self.searches else None

        self.after(HEARS_AT * network.registers_in, still(lambda: setattr(self, "cell", found)))
        self.after(network.registers_in, still(self.register))

    def register(self) -> None:
        """The network answers."""
        network = self.air.network
        if network.denies:
            self.turn_to(DENIED)
            return
        self.active = network.knows(str(self.memory["apn"]))
        if self.memory["network_clock"]:
            self.clock_offset = 0.0
        self.turn_to(ROAMING if network.roaming else HOME)

    def turn_to(self, stat: int) -> None:
        """Another registration, which is reported if it is asked for."""
        if stat != self.stat:
            self.stat = stat
            if self.memory["report"]:
                self.say(f"\r\n+{self.registration}: {self.registration_told()}\r\n", 0)

    def registration_told(self) -> str:
        """The registration as it is reported at the level that was asked for."""
        told = str(self.stat)
        if self.memory["report"] > 1 and self.registered() and self.cell:
            told += f',"{AREA}","{CELL_NUMBER}",{self.cell.technology}'
        return told

    def registered(self) -> bool:
        return self.stat in (HOME, ROAMING)

    def need_network(self, *, context: bool = False) -> None:
        """Raises Cme unless it is registered, and its context is active."""
        self.sim.require()
        if not self.registered():
            raise Cme(NO_NETWORK)
        if context and not self.active:
            raise Cme(WRONG_APN)

    def clock(self) -> str:
        """Its clock, as +CCLK has it."""
        if self.clock_offset is None:
            return NO_CLOCK
        return f"{EPOCH + timedelta(seconds=self.agenda.now + self.clock_offset):%y/%m/%d,%H:%M:%S}+00"

    # -- commands -----------------------------------------------------------------------------------------------

    def tell_own(self, word: str) -> None:
        """What it is: its maker, model, firmware and number, by the words of ITU-T V.250 and of 3GPP TS 27.007."""
        own = {"MI": self.maker, "MM": self.model, "MR": self.own["firmware"], "SN": self.own["imei"]}
        self.tell(own[word[-2:]])

    def table(self) -> dict[str, ModemCommand]:
        """All extended commands."""
        network = self.air.network
        return {
            **super().table(),
            **{word: ModemCommand(run=partial(self.tell_own, word), test="") for word in _OWN},
            "CIMI": ModemCommand(run=lambda: self.tell(self.need_sim(self.own["imsi"])), test=""),
            "CCID": ModemCommand(run=lambda: self.tell(self.need_card(f"+CCID: {self.own['iccid']}")), test=""),
            "CNUM": ModemCommand(run=lambda: self.tell(self.need_sim(f'+CNUM: ,"{self.own["number"]}",145')), test=""),
            "CPIN": ModemCommand(read=lambda: self.sim.state, write=self.enter_pin, test=""),
            "CPINR": ModemCommand(run=lambda: self.tell(*self.sim.left()), test=""),
            "CLCK": ModemCommand(write=self.lock, test='("SC")'),
            "CPWD": ModemCommand(write=self.change_pin, test='("SC",8)'),
            "CMEE": self.number("errors", (0, 1), "(0,1)"),
            "IPR": ModemCommand(
                read=lambda: str(self.memory["rate"]), write=self.set_rate, test=f"(),({','.join(map(str, RATES))})"
            ),
            **{
                word: ModemCommand(read=lambda: f"0,{self.stat}", test="(0)")
                for word in ("CREG", "CGREG", "CEREG")
                if word != self.registration
            },
            self.registration: ModemCommand(
                read=lambda: f"{self.memory['report']},{self.registration_told()}",
                write=lambda given: self.put("report", given, self.levels),
                test=f"({','.join(map(str, self.levels))})",
            ),
            "CSQ": ModemCommand(run=lambda: self.tell(f"+CSQ: {self.signal()},99"), test="(0-31,99),(0-7,99)"),
            "COPS": ModemCommand(
                read=self.operator_told,
                write=self.choose_operator,
                test=f'(1,"{network.operator}","{network.operator[:8]}","{network.code}",7),,(0,1,2),(0,1,2)'
                if network.present
                else ",,(0,1,2),(0,1,2)",
            ),
            "CGATT": ModemCommand(read=lambda: str(int(self.registered())), write=self.attach, test="(0,1)"),
            "CGACT": ModemCommand(read=lambda: f"1,{int(self.active)}", write=self.activate, test="(0,1)"),
            "CGDCONT": ModemCommand(
                read=lambda: f'1,"IP","{self.memory["apn"]}"', write=self.set_context, test='(1),"IP",,,(0),(0)'
            ),
            "CGPADDR": ModemCommand(
                run=self.show_address,
                write=lambda given: self.show_address() if given == ["1"] else self.refuse(),
                test="(1)",
            ),
            "CCLK": ModemCommand(read=lambda: f'"{self.clock()}"', test=""),
            "CTZU": self.number("network_clock", (0, 1), "(0,1)"),
            "CFUN": ModemCommand(read=lambda: "1", write=self.function, test="(0,1,4),(0,1)"),
            "XBAND": ModemCommand(
                read=lambda: str(self.memory["bands"] or ",".join(map(str, self.own_bands))),
                write=self.set_bands,
                test=f"({','.join(map(str, self.own_bands))})",
            ),
            "XTECH": ModemCommand(
                read=lambda: str(self.memory["technology"]), write=self.set_technology, test="number"
            ),
            "XCELL": ModemCommand(run=self.show_cell, test=""),
        }

    def need_sim(self, text: str) -> str:
        self.sim.require()
        return text

    def need_card(self, text: str) -> str:
        """Text that can be read without the PIN."""
        _ = self.sim.state
        return text

    def signal(self) -> int:
        """As +CSQ counts; a cell that it has only just found is weaker than one it is registered with."""
        if self.cell is None:
            return UNKNOWN_SIGNAL
        return self.air.network.signal if self.registered() else max(0, self.air.network.signal - 3)

    def show_cell(self) -> None:
        self.tell(f"+XCELL: {','.join(map(str, self.cell))}" if self.cell else "+XCELL: 0")

    def show_address(self) -> None:
        self.tell("+CGPADDR: 1" + (f',"{ADDRESS}"' if self.registered() and self.active else ""))

    def operator_told(self) -> str:
        if not self.registered() or self.cell is None:
            return str(self.operator_choice)
        return f'{self.operator_choice},0,"{self.air.network.operator}",{self.cell.technology}'

    def choose_operator(self, given: list[str]) -> None:
        """+COPS: automatic, by hand (mode, format, operator), or none."""
        mode = int(given[0])
        if mode == 1:
            network = self.air.network
            if given[2] not in (network.operator, network.operator[:8], network.code):
                raise Cme(NO_NETWORK)
        elif mode not in (0, 2):
            raise Cme(INVALID)
        self.sim.require()
        self.operator_choice = mode
        if mode == 2:
            self.searches += 1
            self.turn_to(NOT_REGISTERED)
        elif not self.registered():
            self.search()

    def set_technology(self, given: list[str]) -> None:
        """The only technology that it may use, counted from 1 (0: any); it looks for a network anew."""
        self.put("technology", given, (0, *(one + 1 for one in self.technologies)))
        if self.sim.open:
            self.after(0.1, self.search)

    def set_bands(self, given: list[str]) -> None:
        """The bands that it may use; it looks for a network anew."""
        if not given or not {int(one) for one in given} <= set(self.own_bands):
            raise Cme(INVALID)
        self.memory["bands"] = ",".join(given)
        if self.sim.open:
            self.after(0.1, self.search)

    def enter_pin(self, given: list[str]) -> None:
        self.sim.unlock(given)
        self.search()

    def lock(self, given: list[str]) -> None:
        """+CLCK: asks whether a PIN is wanted, or has it wanted or not."""
        if given[0] != "SC":
            raise Cme(NOT_SUPPORTED)
        if given[1] == "2":
            self.tell(f"+CLCK: {int(bool(self.sim.pin))}")
        else:
            self.sim.lock(bool(int(given[1])), given[2])

    def change_pin(self, given: list[str]) -> None:
        if given[0] != "SC":
            raise Cme(NOT_SUPPORTED)
        self.sim.change(given[1], given[2])

    def attach(self, given: list[str]) -> None:
        if given[0] not in ("0", "1"):
            raise Cme(INVALID)
        self.sim.require()
        if given[0] == "1" and self.registered() and not self.active:
            raise Cme(WRONG_APN)
        if given[0] == "1" and not self.registered():
            if self.cell is None:
                raise Cme(NO_NETWORK)
            self.search()

    def activate(self, given: list[str]) -> None:
        """+CGACT: the context on or off."""
        self.need_network()
        if given[0] == "1" and not self.air.network.knows(str(self.memory["apn"])):
            raise Cme(WRONG_APN)
        self.active = given[0] == "1"

    def set_context(self, given: list[str]) -> None:
        if given[:2] != ["1", "IP"] or not re.fullmatch(r"[A-Za-z0-9.-]{0,63}", given[2]):
            raise Cme(INVALID)
        self.memory["apn"] = given[2]
        # The context in use goes; the next one is as the network has it.
        self.active = self.registered() and self.air.network.knows(given[2])

    def function(self, given: list[str]) -> None:
        if given[0] not in ("0", "1", "4"):
            raise Cme(INVALID)
        if given[1:] == ["1"]:
            self.silent = True
            self.answer()
            self.then(self.restart)
        elif given[0] == "1":
            if self.sim.open and not self.registered():
                self.search()
        else:
            self.searches += 1
            self.cell, self.active = None, False
            self.turn_to(NOT_REGISTERED)
