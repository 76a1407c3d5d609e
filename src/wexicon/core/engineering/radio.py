"""Radio: power, loss and noise of a link; LoRa's symbol time, time on air and sensitivity; distances on the ellipsoid of WGS
84.

The rule: powers are in dBm, losses and gains in dB, distances in metres, frequencies and bandwidths in hertz, positions in
degrees, north and east positive. LoRa's formulas are those of the modulation's public description: chirps of 2^SF chips at the
rate of the bandwidth. Distances are the geodesic of geographiclib (Karney, 2013).
"""

from __future__ import annotations

from math import ceil, cos, log10, pi, radians, sin, sqrt

# Metres per second, and joules per kelvin (both exact: BIPM, SI Brochure, 9th edition).
SPEED_OF_LIGHT = 299_792_458
BOLTZMANN = 1.380_649e-23
# The temperature to which noise figures refer, in kelvin (ITU-R P.372, 2).
NOISE_TEMPERATURE = 290.0


def dbm_of_milliwatts(milliwatts: float) -> float:
    """A power in dBm. Raises ValueError for one that is not above zero."""
    if milliwatts <= 0:
        raise ValueError("a power in dBm is above 0 mW")
    return 10 * log10(milliwatts)


def milliwatts_of_dbm(dbm: float) -> float:
    """A power in milliwatts."""
    return float(10 ** (dbm / 10))


def free_space_loss(distance_m: float, frequency_hz: float) -> float:
    """The loss between isotropic antennas in free space, in dB: 20 log10(4 pi d f / c) (ITU-R P.525-4, 2.3). Raises ValueError
    unless distance and frequency are above zero."""
    if distance_m <= 0 or frequency_hz <= 0:
        raise ValueError("distance and frequency are above 0")
    return 20 * log10(4 * pi * distance_m * frequency_hz / SPEED_OF_LIGHT)


def log_distance_loss(distance_m: float, frequency_hz: float, exponent: float = 2.0, reference_m: float = 1.0) -> float:
    """The loss in dB over a distance in surroundings with a path-loss exponent: free space up to `reference_m`, from there on
    10 n log10(d / d0) more (log-distance model, as in ITU-R P.1238). An exponent of 2 is free space."""
    if distance_m <= reference_m:
        return free_space_loss(distance_m, frequency_hz)
    return free_space_loss(reference_m, frequency_hz) + 10 * exponent * log10(distance_m / reference_m)


def noise_power(bandwidth_hz: float, noise_figure_db: float = 0.0) -> float:
    """The noise in a receiver's bandwidth, in dBm: 10 log10(k T B) + 30 + F, with T of 290 K (ITU-R P.372, 2)."""
    return 10 * log10(BOLTZMANN * NOISE_TEMPERATURE * bandwidth_hz) + 30 + noise_figure_db


def link_margin(
    power_dbm: float, loss_db: float, sensitivity_dbm: float, gain_db: float = 0.0, other_losses_db: float = 0.0
) -> float:
    """The margin of a link budget, in dB: power and gains, less the losses, above what the receiver needs."""
    return power_dbm + gain_db - loss_db - other_losses_db - sensitivity_dbm


def range_at(loss_db: float, frequency_hz: float, exponent: float = 2.0, reference_m: float = 1.0) -> float:
    """The distance in metres over which a signal loses this much, by the log-distance model; the reverse of
    `log_distance_loss`. Raises ValueError unless exponent and frequency are above 0."""
    if exponent <= 0 or frequency_hz <= 0:
        raise ValueError("exponent and frequency are above 0")
    at_reference = free_space_loss(reference_m, frequency_hz)
    if loss_db <= at_reference:
        return float(reference_m * 10 ** ((loss_db - at_reference) / 20))
    return float(reference_m * 10 ** ((loss_db - at_reference) / (10 * exponent)))


def fresnel_radius(distance_m: float, frequency_hz: float, from_one_end_m: float | None = None) -> float:
    """The radius in metres of the first Fresnel zone at a place between the ends, or in the middle: sqrt(lambda d1 d2 / d)
    (ITU-R P.526). Raises ValueError for a place that is not between the ends."""
    first = distance_m / 2 if from_one_end_m is None else from_one_end_m
    if not 0 <= first <= distance_m or distance_m <= 0 or frequency_hz <= 0:
        raise ValueError("the place lies between the two ends, and distance and frequency are above 0")
    return sqrt(SPEED_OF_LIGHT / frequency_hz * first * (distance_m - first) / distance_m)


def voltage_of_dbm(dbm: float, ohms: float = 50.0) -> float:
    """The effective voltage of a power in a load, in volts: sqrt(P R)."""
    return sqrt(milliwatts_of_dbm(dbm) / 1000 * ohms)


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


# WGS 84: the semi-major axis in metres and the first eccentricity squared.
SEMI_MAJOR, ECCENTRICITY_SQUARED = 6_378_137.0, 0.00669437999014


def metres_per_degree(latitude: float) -> tuple[float, float]:
    """How many metres a degree of latitude and one of longitude are at a latitude (degrees): from the meridian's radius of
    curvature and the prime vertical's."""
    angle = radians(latitude)
    width = 1 - ECCENTRICITY_SQUARED * sin(angle) ** 2
    meridian = SEMI_MAJOR * (1 - ECCENTRICITY_SQUARED) / (width * sqrt(width))
    vertical = SEMI_MAJOR / sqrt(width) * cos(angle)
    return radians(1) * meridian, radians(1) * vertical


def distance_and_bearings(
    latitude: float, longitude: float, other_latitude: float, other_longitude: float
) -> tuple[float, float, float]:
    """The shortest distance over the ellipsoid in metres, the bearing at the first place towards the other, and that at the
    other place on from the first (degrees clockwise from north, 0 to 360)."""
    from geographiclib.geodesic import Geodesic

    found = Geodesic.WGS84.Inverse(latitude, longitude, other_latitude, other_longitude)
    return float(found["s12"]), float(found["azi1"]) % 360, float(found["azi2"]) % 360


def destination(latitude: float, longitude: float, bearing: float, distance_m: float) -> tuple[float, float]:
    """The place at a distance (metres) in the direction of a bearing (degrees)."""
    from geographiclib.geodesic import Geodesic

    found = Geodesic.WGS84.Direct(latitude, longitude, bearing, distance_m)
    return float(found["lat2"]), float(found["lon2"])


def degrees_and_minutes(degrees: float) -> tuple[int, float]:
    """Whole degrees and minutes of the size of an angle in degrees."""
    whole = int(abs(degrees))
    return whole, (abs(degrees) - whole) * 60


def nmea_angle(degrees: float, *, longitude: bool, decimals: int = 4) -> str:
    """An angle as sentences of NMEA 0183 write it: ddmm.mmmm, or dddmm.mmmm, and a letter."""
    step = 10**-decimals
    whole, rest = divmod(round(abs(degrees) * 60 / step), round(60 / step))
    side = ("W" if degrees < 0 else "E") if longitude else ("S" if degrees < 0 else "N")
    return f"{whole:0{3 if longitude else 2}d}{rest * step:0{3 + decimals}.{decimals}f} {side}"
