"""LoRa: symbol time, time on air, sensitivity, duty cycle, channels.

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


def packet_power(snr_db: float, rssi_dbm: float) -> float:
    """The power of a packet below the noise, in dBm: what a receiver reports as RSSI is signal and noise together, so a packet
    with a negative SNR is weaker than its RSSI by that."""
    return rssi_dbm + min(snr_db, 0.0)


def margin(spreading: int, snr_db: float) -> float:
    """By how many dB a packet's signal-to-noise ratio was above what its spreading factor needs."""
    return snr_db - REQUIRED_SNR[spreading]


def off_time(time_on_air_s: float, duty_cycle_percent: float) -> float:
    """How many seconds a transmitter is silent after a packet so that it is on for this share of the time. Raises ValueError
    unless that is above 0 and at most 100."""
    if not 0 < duty_cycle_percent <= 100:
        raise ValueError("a duty cycle is above 0 and at most 100 %")
    return time_on_air_s * (100 / duty_cycle_percent - 1)


def packets_an_hour(time_on_air_s: float, duty_cycle_percent: float) -> int:
    """How many packets the duty cycle allows in an hour. Raises ValueError unless it is above 0 and at most 100."""
    if not 0 < duty_cycle_percent <= 100:
        raise ValueError("a duty cycle is above 0 and at most 100 %")
    return int(3600 * duty_cycle_percent / 100 / time_on_air_s + 1e-9)


def channel_frequency(channel: int, first_hz: float, step_hz: float) -> float:
    """The frequency of a channel of a linear plan, in hertz; channel 0 is the first."""
    return first_hz + channel * step_hz


def channel_of(frequency_hz: float, first_hz: float, step_hz: float) -> tuple[int, float]:
    """The nearest channel of a linear plan, and by how many hertz the frequency is off it. Raises ValueError unless the step is
    above 0."""
    if step_hz <= 0:
        raise ValueError("the step between two channels is above 0 Hz")
    channel = round((frequency_hz - first_hz) / step_hz)
    return channel, frequency_hz - channel_frequency(channel, first_hz, step_hz)
