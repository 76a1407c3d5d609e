"""Power, loss and noise of a radio link.

The rule: powers are in dBm, losses and gains in dB, distances in metres, frequencies and bandwidths in hertz.
"""

from __future__ import annotations

from math import log10, pi, sqrt

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
