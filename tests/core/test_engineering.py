"""Sums of radio work, against values that were worked out by other ways."""

from __future__ import annotations

from math import log10

import pytest

from wexicon.core.agenda import Agenda
from wexicon.core.engineering import radio
from wexicon.core.engineering import radio as lora
from wexicon.rigs.air import ON_A_DESK, Air, AirTable, Place, Transmission
from wexicon.rigs.standins.lindle import LindleL9


@pytest.mark.parametrize(
    ("payload", "spreading", "bandwidth", "milliseconds"),
    # By hand from the symbols: 40.25, 30.25, 100.25 and 25.25 (the header and the sum alone) of them.
    [(10, 7, 125e3, 41.216), (10, 12, 125e3, 991.232), (51, 7, 125e3, 102.656), (0, 9, 250e3, 51.712)],
)
def test_time_on_air(payload: int, spreading: int, bandwidth: float, milliseconds: float) -> None:
    assert lora.time_on_air(payload, spreading, bandwidth) * 1000 == pytest.approx(milliseconds, abs=0.001)


def test_what_a_receiver_needs() -> None:
    assert radio.noise_power(125e3, 6.0) == pytest.approx(-117.0, abs=0.05)  # -174 + 51 + 6
    assert lora.sensitivity(12, 125e3) == pytest.approx(-137.0, abs=0.05)
    assert lora.sensitivity(7, 125e3) - lora.sensitivity(12, 125e3) == pytest.approx(12.5)
    assert lora.bit_rate(7, 125e3) == pytest.approx(5468.75) and lora.symbol_time(7, 125e3) == pytest.approx(1.024e-3)


def test_powers_and_losses() -> None:
    assert radio.dbm_of_milliwatts(100) == pytest.approx(20) and radio.milliwatts_of_dbm(-30) == pytest.approx(0.001)
    # The engineer's form: 32.45 dB + 20 log(MHz) + 20 log(km).
    for kilometres, megahertz in ((0.1, 433.0), (1, 868.3), (5, 2450)):
        expected = 32.45 + 20 * log10(megahertz) + 20 * log10(kilometres)
        assert radio.free_space_loss(kilometres * 1000, megahertz * 1e6) == pytest.approx(expected, abs=0.01)
        assert radio.log_distance_loss(kilometres * 1000, megahertz * 1e6) == pytest.approx(expected, abs=0.01)
    for wrong in (0, -1):
        with pytest.raises(ValueError, match="above 0"):
            radio.dbm_of_milliwatts(wrong)
        with pytest.raises(ValueError, match="above 0"):
            radio.free_space_loss(wrong, 1e9)


@pytest.mark.parametrize("exponent", [2.0, 3.3])
@pytest.mark.parametrize("kilometres", [0.1, 1.0, 5.0])
@pytest.mark.parametrize("power", [2, 8, 14])
def test_in_the_air_a_signal_loses_what_the_distance_takes(exponent: float, kilometres: float, power: int) -> None:
    table = AirTable(
        place={"mast": Place(), "relay": Place(kilometres * 0.6, kilometres * 0.8)},
        exponent=exponent,
        walls={"relay, mast": 7.0},
    )
    air = Air(table)
    mast, relay = (LindleL9(Agenda(), name, air=air) for name in ("mast", "relay"))
    sent = Transmission(mast, 0.0, 0.1, 868.3e6, (9, 4), power)
    signal = air.signal(sent, relay, 125e3)
    # Each decade of metres from 1 m on takes 10 n dB; at 1 m the wave has lost 31.22 dB.
    expected = power - (31.22 + 10 * exponent * log10(kilometres * 1000)) - 7.0
    assert signal.dbm == pytest.approx(expected, abs=0.01)
    assert signal.snr == pytest.approx(expected + 117.0, abs=0.05)
    assert Air().signal(sent, relay, 125e3) == ON_A_DESK


@pytest.mark.parametrize(("apart", "heard"), [(0.0, 0), (0.05, 0), (0.5, 2)])
def test_two_that_send_at_once_collide(apart: float, heard: int) -> None:
    agenda = Agenda()
    place = {"one": Place(1, 0), "two": Place(-1, 0), "relay": Place()}
    air = Air(AirTable(place=place, exponent=2.0))
    one, two, relay = (LindleL9(agenda, name, {"addr": n}, air=air) for n, name in enumerate(place))
    came: list[bytes] = []
    relay.uart.to_host = came.append
    for standin in (one, two, relay):
        standin.power(True)
    agenda.run_until(1)
    one.send(2, "a")
    agenda.run_until(1 + apart)
    two.send(2, "b")
    agenda.run_until(9)
    assert b"".join(came).count(b"@air") == heard
    # One that is far stronger is heard all the same.
    air.places["one"] = Place(0.01, 0)
    one.send(2, "a")
    two.send(2, "b")
    agenda.run_until(19)
    assert b"".join(came)[-9:].strip().endswith(b": a")
