"""What each stand-in's flash must hold for a setting to be there after a power cycle: a table of its own, made from the
stand-ins' datasheets and from no lexicon, so that a wrong lexicon is found out as well."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from wexicon.rigs.standin import StandIn

Flash = dict[str, Any]
K5_RATES = {4800: "2", 9600: "3", 19200: "4", 38400: "5", 57600: "6", 115200: "7"}
K6_RATES = {9600: "P", 19200: "M", 57600: "F", 115200: "C"}
B3_RATES = {2400: "e", 9600: "g", 19200: "h", 38400: "k", 57600: "m", 115200: "t"}
Z4_RATES = {0x24: 9600, 0x23: 19200, 0x22: 38400, 0x21: 57600, 0x20: 115200}
R2_RATES = {7: 9600, 5: 19200, 4: 38400, 2: 57600, 1: 115200}


def _bare(address: str) -> str:
    return address.replace(":", "").upper()


def _turned(address: str) -> str:
    return bytes.fromhex(_bare(address))[::-1].hex().upper()


def _seconds(code: str, units: dict[int, int]) -> int:
    return units[int(code[:3], 2)] * int(code[3:], 2)


def _block(flash: Flash) -> bytes:
    return bytes.fromhex(flash["block"])


DRX = {"81.92s": "0101"}
# family -> setting -> whether flash has the value.
TRUTH: dict[str, dict[str, Callable[[Flash, Any], bool]]] = {
    "brisca-w1": {
        "name": lambda f, v: f["name"] == v,
        "mode": lambda f, v: f["mode"] == v,
        "power": lambda f, v: f["power"] == v,
        "rate": lambda f, v: f["rate"] == v,
    },
    "cordal-g2": {
        "errors": lambda f, v: f["errors"] == {"off": 0, "numbers": 1, "words": 2}[v],
        "apn": lambda f, v: f["apn"] == v,
        "messages": lambda f, v: f["text"] == {"pdu": 0, "text": 1}[v],
        "charset": lambda f, v: f["charset"] == v,
        "notify": lambda f, v: f["notify"] == {"no": 0, "yes": 1}[v],
        "rate": lambda f, v: f["rate"] == v,
    },
    "cordal-n7": {
        "apn": lambda f, v: f["apn"] == v,
        "report": lambda f, v: f["report"] == {"nothing": 0, "changes": 1, "all": 4}[v],
        "saving": lambda f, v: f["saving"] == int(v),
        "periodic": lambda f, v: _seconds(f["periodic"], {0: 600, 1: 3600, 2: 36000, 3: 2, 4: 30, 5: 60}) == 14400,
        "active": lambda f, v: _seconds(f["active"], {0: 2, 1: 60, 2: 360}) == 60,
        "edrx": lambda f, v: f["drx"] == DRX[v],
        "rate": lambda f, v: f["rate"] == v,
        "errors": lambda f, v: f["errors"] == {"off": 0, "numbers": 1, "words": 2}[v],
    },
    "fennick-z4": {
        "network": lambda f, v: f["NT"] == v,
        "channel": lambda f, v: f["KH"] == v,
        "role": lambda f, v: f["RO"] == {"joiner": 6, "coordinator": 3}[v],
        "power": lambda f, v: f["PO"] == v,
        "rate": lambda f, v: Z4_RATES[f["UB"]] == v,
    },
    "lindle-l9": {
        "name": lambda f, v: f["name"] == v,
        "address": lambda f, v: f["addr"] == v,
        "network": lambda f, v: f["net"] == v,
        "peer": lambda f, v: f["peer"] == v,
        "sync": lambda f, v: int(f["sync"], 16) == v,
        "frequency": lambda f, v: f["radio"][0] == round(v * 1_000_000),
        "spreading": lambda f, v: f["radio"][1] == v,
        "power": lambda f, v: f["radio"][3] == v,
        "rate": lambda f, v: f["uart"] == v,
    },
    "lindle-r2": {
        "address": lambda f, v: int.from_bytes(_block(f)[6:8], "big") == v,
        "network": lambda f, v: _block(f)[5] == v,
        "frequency": lambda f, v: int.from_bytes(_block(f)[1:3], "big") == round((v - 860) * 40),
        "rate": lambda f, v: R2_RATES[_block(f)[4] >> 2 & 15] == v,
        "frame": lambda f, v: {2: "N", 0: "E", 1: "O"}[_block(f)[3] >> 6] == v[1],
        "power": lambda f, v: {2: 5, 5: 8, 8: 11, 11: 13, 13: 16}[_block(f)[0] >> 4] == int(v),
        "relay": lambda f, v: bool(_block(f)[0] & 1) == v,
    },
    "orvane-b3": {
        "name": lambda f, v: f["n"] == v,
        "role": lambda f, v: f["m"] == {"follower": "F", "leader": "L"}[v],
        "pin": lambda f, v: f["p"] == v,
        "peer": lambda f, v: f["a"].upper() == _turned(v),
        "rate": lambda f, v: f["b"] == B3_RATES[v],
    },
    "osier-w2": {
        "join-eui": lambda f, v: f["JOINEUI"].upper() == v,
        "app-key": lambda f, v: f["APPKEY"].upper() == v,
        "network-key": lambda f, v: f["NWKKEY"].upper() == v,
        "data-key": lambda f, v: f["DATKEY"].upper() == v,
        "class": lambda f, v: f["CLASS"] == v,
        "data-rate": lambda f, v: f["DR"] == str(v),
        "adr": lambda f, v: f["ADR"] == str(int(v)),
        "rate": lambda f, v: f["RATE"] == str(v),
    },
    "polmar-p1": {
        "interval": lambda f, v: f["every"] == {"100ms": 2, "200ms": 4, "500ms": 10, "1s": 20, "2s": 40}[v],
        "sentences": lambda f, v: f["out"] == tuple(v.split("+")),
        "talker": lambda f, v: f["talker"] == v,
        "rate": lambda f, v: f["port"][0] == v["rate"] and f["port"][2] == v["parity"][0].upper(),
    },
    "tamsel-k5": {
        "name": lambda f, v: f["label"] == v,
        "role": lambda f, v: f["part"] == {"follower": "F", "leader": "L"}[v],
        "pin": lambda f, v: f["pass"] == v,
        "peer": lambda f, v: f["mate"].upper() == _bare(v),
        "rate": lambda f, v: f["speed"] == (K5_RATES[v], "1", "N"),
    },
    "tamsel-k6": {
        "name": lambda f, v: f["L"] == v,
        "pin": lambda f, v: f["P"] == v,
        "rate": lambda f, v: f["R"] == K6_RATES[v],
        "quiet-lamp": lambda f, v: f["Q"] == str(int(v)),
    },
    "marram-c2": {
        "name": lambda f, v: f["radios"][0]["name"] == v,
        "channel": lambda f, v: f["radios"][0]["channel"] == v,
        "power": lambda f, v: f["radios"][0]["power"] == v,
        "networks": lambda f, v: f["radios"][0]["places"] == {at + 1: name for at, name in enumerate(v)},
        "rate": lambda f, v: f["rate"] == v,
    },
    "plover-j1": {
        "name": lambda f, v: f["name"] == v,
        "peers": lambda f, v: sorted(f["peers"]) == sorted(map(_bare, v)),
        "servers": lambda f, v: f["servers"] == v,
        "beacon": lambda f, v: (f["beacon"] is not None) == v,
        "power": lambda f, v: (f["beacon"] or [None, None])[0] == v,
        "every": lambda f, v: (f["beacon"] or [None, None])[1] == v,
        "window": lambda f, v: f["window"] == v,
        "rate": lambda f, v: f["rate"] == v,
    },
    "saltern-m4": {
        "station": lambda f, v: f["station"] == v,
        "power": lambda f, v: f["power"] == v,
        "frequency": lambda f, v: f["frequency"] == round(v * 1_000_000),
        "name": lambda f, v: f["name"] == v,
        "repeater": lambda f, v: f["repeater"] == int(v),
        "rate": lambda f, v: {96: 9600, 192: 19200, 384: 38400, 1152: 115200}[f["rate"]] == v,
    },
    "samphire-f2": {
        "name": lambda f, v: f["name"] == v,
        "channel": lambda f, v: f["channel"] == v,
        "power": lambda f, v: f["power"] == v,
        "network": lambda f, v: f["network"] == v,
        "interval": lambda f, v: f["every"] == v,
        "offset": lambda f, v: f["offset"] == round(v * 1000),
        "rate": lambda f, v: f["rate"] == v,
    },
    "skerry-g5": {
        "name": lambda f, v: f["label"] == v,
        "power": lambda f, v: abs(f["power"] - float(v)) <= 1.4,
        "channel": lambda f, v: f["channel"] == v,
        "interval": lambda f, v: f["every"] == v,
        "beacon": lambda f, v: f["beacon"] == ("on" if v else "off"),
        "upstream": lambda f, v: f["upstream"] == v,
        "rate": lambda f, v: f["baud"] == v,
    },
    "teasel-d3": {
        "name": lambda f, v: f["name"] == v,
        "key": lambda f, v: f["key"] == v,
        "gain": lambda f, v: f["gain"] == v,
        "period": lambda f, v: f["period"] == v,
        "station": lambda f, v: f["number"] == v,
        "rate": lambda f, v: f["rate"] == v,
    },
    "wherry-c3": {
        "name": lambda f, v: f["label"] == v,
        "partner": lambda f, v: f["partner"].upper() == v,
        "reach": lambda f, v: f["reach"] == {"near": "1", "far": "2"}[v],
        "tick": lambda f, v: f["tick"] * 4 == v,
        "network": lambda f, v: f["net"] == v,
        "key": lambda f, v: f["key"] == v,
        "rate": lambda f, v: f["speed"] == v,
    },
}
TRUTH["wherry-c1"] = TRUTH["wherry-c3"]


def wrong_in_flash(standin: StandIn, wanted: dict[str, Any]) -> list[str]:
    """The settings that the stand-in's flash denies."""
    truth = TRUTH[standin.family]
    return [name for name, value in wanted.items() if not truth[name](standin.flash, value)]
