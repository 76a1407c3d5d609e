"""Stand-in Plover J1: a beacon gateway that speaks in JSON objects, one on each line.

The rule, from its invented datasheet: lines end with LF. An object with `do` is answered with one that has `ok`; if that is
false, `error` tells why: 1 no object, 2 nothing known to do, 3 a value that is not allowed, 4 no room. Keys come in any order.
Who may join is a list of addresses, changed one at a time; servers are a list in its order, changed as a whole. The beacon has
power and interval only while it is on. Its clock begins in 2000 with each start, and runs on from what it is set to. What the
network agrees to comes in an event, a moment after a change or a join.
"""

from __future__ import annotations

import json
import re
from datetime import datetime, timedelta
from typing import Any, ClassVar

from wexicon.core.text import to_bytes, to_text
from wexicon.core.tuning import Tuning
from wexicon.rigs.standin import LineEditor, StandIn

RATES = (9600, 115200, 460800)
FIRST_DAY = datetime(2000, 1, 1)
MOST_PEERS = 6
FORM = "%Y-%m-%d %H:%M:%S"


class PloverJ1(StandIn):
    """`beacon` is its power in dBm and its interval in seconds, or nothing while it is off."""

    family = "plover-j1"
    maker = "Plover"
    about = "beacon gateway that speaks in JSON"
    factory: ClassVar[dict[str, Any]] = {
        "name": "j1",
        "peers": [],
        "servers": ["192.0.2.1"],
        "beacon": None,
        "period": 60,
        "window": 8,
        "rate": 115200,
    }
    identity: ClassVar[dict[str, object]] = {"serial": "PJ1-00871", "firmware": "1.2"}

    def started(self) -> None:
        self.uart.tuning = Tuning(self.memory["rate"])
        self.editor = LineEditor(self, "\n", self.line, lambda: None)
        self.clock, self.set_at = FIRST_DAY, self.agenda.now
        self.turn = 0
        self.tell(0.08, event="up")

    def heard(self, data: bytes, began: float) -> None:
        self.editor.feed(data)

    def tell(self, delay: float | None = None, **told: Any) -> None:
        # The order of its keys is another one each time.
        keys = list(told)
        self.turn += 1
        keys = keys[self.turn % len(keys) :] + keys[: self.turn % len(keys)]
        text = json.dumps({key: told[key] for key in keys}, separators=(",", ":"))
        self.say(to_bytes(text) + b"\n", delay)

    def refuse(self, why: int) -> None:
        self.tell(ok=False, error=why)

    def line(self, line: str) -> None:
        try:
            asked = json.loads(to_text(line.encode("utf-8", "surrogateescape")))
        except ValueError:
            asked = None
        if not isinstance(asked, dict):
            self.refuse(1)
            return
        todo = asked.pop("do", None)
        memory = self.memory
        if todo == "who":
            self.tell(ok=True, model="plover-j1", serial=self.own["serial"], firmware=self.own["firmware"])
        elif todo == "get":
            now = self.clock + timedelta(seconds=self.agenda.now - self.set_at)
            radio = {"period": memory["period"], "window": memory["window"]}
            told = {"name": memory["name"], "servers": memory["servers"], "rate": memory["rate"]}
            self.tell(ok=True, clock=now.strftime(FORM), radio=radio, **told)
        elif todo == "set" and asked:
            self.refuse(3) if self.put(asked) else self.tell(ok=True)
        elif todo == "peers":
            self.tell(ok=True, peers=memory["peers"])
        elif todo in ("admit", "forget") and re.fullmatch("[0-9A-F]{12}", str(asked.get("peer"))):
            self.peer(todo, asked["peer"])
        elif todo == "beacon" and not asked:
            on = memory["beacon"]
            self.tell(ok=True, on=True, power=on[0], every=on[1]) if on else self.tell(ok=True, on=False)
        elif todo == "beacon":
            self.beacon(asked)
        elif todo == "join":
            self.tell(ok=True)
            self.agree()
        elif todo == "keep":
            self.keep()
            self.tell(ok=True)
        elif todo == "reboot":
            self.tell(ok=True)
            self.then(self.restart)
        else:
            self.refuse(2)

    def agree(self) -> None:
        memory = self.memory
        agreed = {"period": max(30, memory["period"] // 30 * 30), "window": min(6, memory["window"])}
        self.tell(0.3, event="agreed", **agreed)

    def put(self, asked: dict[str, Any]) -> bool:
        """Sets what is asked for; whether something of it is wrong."""
        memory = self.memory
        right = {
            "name": lambda v: isinstance(v, str) and 1 <= len(v.encode()) <= 20,
            "servers": lambda v: isinstance(v, list) and len(v) <= 3 and all(isinstance(one, str) for one in v),
            "period": lambda v: isinstance(v, int) and 10 <= v <= 86_400,
            "window": lambda v: isinstance(v, int) and 1 <= v <= 60,
            "rate": lambda v: v in RATES,
            "clock": lambda v: isinstance(v, str) and re.fullmatch(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d", v) is not None,
        }
        flat = {**asked, **asked.pop("radio", {})}
        flat.pop("radio", None)
        if not all(key in right and right[key](value) for key, value in flat.items()):
            return True
        if "clock" in flat:
            self.clock, self.set_at = datetime.strptime(flat.pop("clock"), FORM), self.agenda.now
        memory.update(flat)
        if {"period", "window"} & set(flat):
            self.agree()
        return False

    def peer(self, todo: str, peer: str) -> None:
        peers = self.memory["peers"]
        if todo == "forget" and peer in peers:
            peers.remove(peer)
        elif todo == "admit" and peer not in peers and len(peers) < MOST_PEERS:
            peers.append(peer)
        else:
            self.refuse(4)
            return
        self.tell(ok=True)

    def beacon(self, asked: dict[str, Any]) -> None:
        power, every = asked.get("power"), asked.get("every")
        if asked == {"on": False}:
            self.memory["beacon"] = None
        elif asked.get("on") is True and power in range(-20, 11) and every in range(1, 601):
            self.memory["beacon"] = [power, every]
        else:
            self.refuse(3)
            return
        self.tell(ok=True)
