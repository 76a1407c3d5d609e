"""`[wiring]`: what a lexicon says of pins and lamps, and what follows for an adapter."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Bench, wexicon
from wexicon.core.engineering.serial_lines import supplied
from wexicon.core.faults import FileFault, Unreachable
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.formats.lexicon.wiring import ModulePin, Wiring, connections
from wexicon.work.contact.catalog import find_lexicon

LEXICON = """format = 1
[about]
family = "x"
[wiring]
supply = ["3.0V", "3.6V"]
level = "3.3V"
peak = "60mA"
pins = { VCC = "supply", GND = "ground", TX = "data-out", RX = "data-in", ANT = "open: the antenna" }
[wiring.lamps.status]
dark = "no power"
"""
PINS = tuple(ModulePin(role, role) for role in ("supply", "ground", "data-out", "data-in", "in", "open"))


@pytest.mark.parametrize(
    ("volts", "level", "stands", "how"),
    [
        # supply, data-out and data-in, by the limits of cmos_level: 0.3, 0.7 and 0.3 V above the supply.
        (3.3, 3.3, None, ("directly", "directly", "directly")),
        (5.0, 3.3, None, ("damaged", "TTL", "divider")),
        (5.0, 3.3, 5.5, ("damaged", "TTL", "directly")),
        (1.8, 3.3, None, ("too little", "divider", "level shifter")),
        (3.3, 1.8, None, ("directly", "level shifter", "divider")),
    ],
)
def test_what_goes_to_what(volts: float, level: float, stands: float | None, how: tuple[str, str, str]) -> None:
    lines = connections(Wiring((3.0, 3.6), level, stands, 0.06, PINS), volts, 0.5)
    found = {line.pin: line for line in lines}
    for pin, word in zip(("supply", "data-out", "data-in"), how, strict=True):
        assert word in found[pin].how, found[pin]
        assert found[pin].careful is (not found[pin].how.startswith("directly") or "TTL" in word)
    assert found["in"].how == found["data-in"].how and found["ground"].to == "GND" and found["open"].to == "nothing"


def test_a_peak_above_what_the_adapter_gives_needs_a_supply_of_its_own() -> None:
    assert (
        supplied(3.3, (3.0, 3.6), 0.6)[0] == "a supply of its own" and supplied(3.3, (3.0, 3.6), 0.5)[1] == "directly"
    )
    assert "gives 600 mA" in supplied(5, (3.0, 3.6), 0.6)[1]


def test_what_is_not_known_is_never_called_direct() -> None:
    lines = connections(Wiring(pins=PINS), 3.3, 0.5)
    assert [line.pin for line in lines if line.how.startswith("directly")] == ["ground"]


def test_each_fault_is_told_with_its_place() -> None:
    wrong = LEXICON.replace('"3.3V"', '"3.3A"').replace('"60mA"', '"0mA"').replace('"data-in"', '"input"')
    with pytest.raises(FileFault) as told:
        read_lexicon(wrong.replace('"3.0V"', '"4V"').encode(), "x.toml")
    assert {(one.place, one.line) for one in told.value.complaints} == {
        ("wiring.supply", 5), ("wiring.pins.RX", 8), ("wiring.level", 6), ("wiring.peak", 7)
    }  # fmt: skip


def test_lamps_are_told_to_who_works_the_key_and_where_nothing_answers() -> None:
    k5 = find_lexicon("tamsel-k5")
    assert (
        k5.wiring
        and k5.attention.operator.endswith(k5.wiring.lamps_told())
        and "blinks slowly" in k5.attention.operator
    )
    one = Bench("lindle-l9")
    lexicon = read_lexicon(LEXICON.replace('"x"', '"lindle-l9"').encode(), "x.toml")
    one.lexicon = lexicon
    one.standin.power(False)
    with pytest.raises(Unreachable, match="status lamp: dark = no power"):
        one.module().attention.gain()


def test_the_command_prints_it_and_a_lexicon_without_it_is_told_so() -> None:
    told = wexicon("calc", "wiring", "tamsel-k5", "--adapter", "5V").stdout
    assert "it would be damaged" in told and "KEY" in told and "blinks slowly = it listens to commands" in told
    made = json.loads(wexicon("calc", "wiring", "lindle-l9", "--json").stdout)
    assert made[0] == {"pin": "3V3", "to": "its supply", "how": "directly", "careful": False}
    assert "has no [wiring]" in wexicon("calc", "wiring", "brisca-w1", status=2).stderr
    for wrong in ("5A", "0V", "x"):
        assert wexicon("calc", "wiring", "tamsel-k5", "--adapter", wrong, status=2).stderr
    shown = wexicon("lexicon", "show", "tamsel-k5").stdout
    assert "pin TXD         data-out" in shown and "peak            45 mA" in shown
