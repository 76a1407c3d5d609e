"""What the benchmarks and the campaign want of each family: every kind of setting that it has."""

from __future__ import annotations

from typing import Any

WANTED: dict[str, dict[str, Any]] = {
    "brisca-w1": {"name": 'the "screen"', "mode": "station", "power": 17, "rate": 57600},
    "cordal-g2": {"errors": "numbers", "apn": "estuary.example", "messages": "text", "charset": "UCS2", "rate": 57600},
    "cordal-n7": {
        "apn": "t.example",
        "report": "all",
        "saving": True,
        "periodic": "4h",
        "active": "1m",
        "edrx": "81.92s",
        "rate": 57600,
    },
    "fennick-z4": {"network": 0x1234, "channel": 12, "role": "coordinator", "rate": 38400},
    "lindle-l9": {
        "name": "mast 2",
        "address": 2,
        "network": 6,
        "frequency": 868.3,
        "spreading": 10,
        "sync": 0x34,
        "rate": 115200,
    },
    "lindle-r2": {
        "address": 300,
        "network": 6,
        "frequency": 868.3,
        "rate": 57600,
        "frame": "8E1",
        "power": "11",
        "relay": True,
    },
    "osier-w2": {
        "join-eui": "02A15CFFFE000001",
        "app-key": "00112233445566778899AABBCCDDEEFF",
        "network-key": "1122334455667788990011223344556F",
        "data-key": "2122334455667788990011223344556E",
        "class": "C",
        "data-rate": 3,
        "adr": False,
        "rate": 115200,
    },
    "orvane-b3": {"name": "mast", "role": "leader", "pin": "4711", "peer": "02:A1:5C:00:21:8E", "rate": 9600},
    "polmar-p1": {
        "interval": "500ms",
        "sentences": "GGA+RMC",
        "talker": "GN",
        "rate": {"rate": 57600, "parity": "even"},
    },
    "saltern-m4": {
        "station": 17,
        "power": -3,
        "frequency": 868.3,
        "name": "Old Ferry",
        "repeater": True,
        "rate": 38400,
    },
    "samphire-f2": {
        "name": "Outer buoy",
        "channel": 9,
        "power": -3,
        "network": 515,
        "interval": 3600,
        "offset": -1.5,
        "rate": 230400,
    },
    "skerry-g5": {
        "name": "quay 3",
        "power": 10,
        "channel": 5,
        "interval": 600,
        "beacon": True,
        "upstream": "198.51.100.7",
        "rate": 38400,
    },
    "tamsel-k5": {"name": "Withy Point", "role": "leader", "pin": "48213", "peer": "02:A1:5C:00:21:8E", "rate": 115200},
    "teasel-d3": {
        "name": "4",
        "key": "00112233445566AB",
        "gain": -3,
        "period": 60,
        "station": 12,
        "rate": 57600,
    },
    "wherry-c3": {
        "name": 'the "quay"',
        "partner": "5E0417C2",
        "reach": "far",
        "tick": 120,
        "network": 7,
        "key": "estuary",
        "rate": 38400,
    },
    "tamsel-k6": {"name": "Quay 3", "pin": "4711", "rate": 57600, "quiet-lamp": True},
}
WANTED["wherry-c1"] = WANTED["wherry-c3"]
# Settings that cannot be read, for which the campaign takes the module's word.
TRUST = {
    "teasel-d3": ("key",),
    "osier-w2": ("app-key", "network-key", "data-key"),
    "tamsel-k6": ("pin",),
    "wherry-c1": ("key",),
    "wherry-c3": ("key",),
}
