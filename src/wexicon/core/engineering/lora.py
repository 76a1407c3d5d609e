"""LoRa: symbol time, time on air, sensitivity.

The rule: the formulas are those of the modulation's public description: chirps of 2^SF chips at the rate of the bandwidth.
"""

from __future__ import annotations

from math import ceil

from wexicon.core.engineering.radio import noise_power

# The signal-to-noise ratio that each spreading factor needs to be demodulated, in dB: 2.5 dB less for each step.
REQUIRED_SNR = {spreading: -2.5 * (spreading - 4) for spreading in range(5, 13)}
# A symbol longer than this needs the optimisation for low data rates (seconds).
LONG_SYMBOL = 0.016


def symbol_time(spreading: int, bandwidth_hz: float) -> float:
    """How many seconds one symbol takes: 2^SF / BW."""
    return float(2**spreading / bandwidth_hz)


def bit_rate(spreading: int, bandwidth_hz: float, coding: int = 1) -> float:
    """Bits a second: SF times the symbol rate times the coding rate 4 / (4 + coding)."""
    return spreading / symbol_time(spreading, bandwidth_hz) * 4 / (4 + coding)


def time_on_air(
    payload_bytes: int,
    spreading: int,
    bandwidth_hz: float,
    *,
    coding: int = 1,
    preamble_symbols: float = 8.0,
    header: bool = True,
    crc: bool = True,
) -> float:
    """How many seconds a packet takes. `coding` is 1 to 4 for 4/5 to 4/8; without `header` its length is known to both sides.
    The preamble has 4.25 symbols more than stated; symbols longer than 16 ms carry two bits less."""
    symbol = symbol_time(spreading, bandwidth_hz)
    slow = 1 if symbol > LONG_SYMBOL else 0
    bits = 8 * payload_bytes - 4 * spreading + 28 + 16 * crc - 20 * (not header)
    payload_symbols = 8 + max(ceil(bits / (4 * (spreading - 2 * slow))) * (coding + 4), 0)
    return (preamble_symbols + 4.25 + payload_symbols) * symbol


def sensitivity(spreading: int, bandwidth_hz: float, noise_figure_db: float = 6.0) -> float:
    """The weakest signal that is demodulated, in dBm: the noise in the bandwidth, and what the spreading factor needs above."""
    return noise_power(bandwidth_hz, noise_figure_db) + REQUIRED_SNR[spreading]
