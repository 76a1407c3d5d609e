"""Topics of LoRa: time on air and what it costs, link budgets and range, channels.

The rule: limits of duty cycle and power are the caller's: they differ by country and band, and are not in here.
"""

from __future__ import annotations

from typing import Annotated

from wexicon.core.engineering import radio
from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, digits, shown

Spreading = Annotated[int, Arg("spreading factor", "", 5, 12)]
Bandwidth = Annotated[float, Arg("bandwidth", "Hz", 1000, 2e6)]
Frequency = Annotated[float, Arg("frequency", "Hz", 1e6, 1e11)]


def airtime(
    payload: Annotated[int, Arg("bytes of the payload", "", 0, 255)] = 20,
    spreading: Spreading = 9,
    bandwidth: Bandwidth = 125e3,
    coding: Annotated[int, Arg("coding rate 4/(4 + this)", "", 1, 4)] = 1,
    preamble: Annotated[float, Arg("symbols of the preamble", "", 2, 65_535)] = 8.0,
    header: Annotated[bool, Arg("explicit header")] = True,
    crc: Annotated[bool, Arg("checksum of the payload")] = True,
    duty: Annotated[float, Arg("duty cycle that is allowed, in percent", "%", 0.001, 100)] = -1.0,
) -> Answer:
    """Time on air of a LoRa packet, bit rate, occupied bandwidth, and what a duty cycle allows (published modulation
    description).

    With `duty` also the pause after each packet and the packets an hour.
    """
    answer = Answer()
    symbol = radio.symbol_time(spreading, bandwidth)
    took = radio.time_on_air(
        payload, spreading, bandwidth, coding=coding, preamble_symbols=preamble, header=header, crc=crc
    )
    answer.give("time on air", took, "s")
    answer.give("bit rate", radio.bit_rate(spreading, bandwidth, coding), "bit/s")
    answer.give("sensitivity", radio.sensitivity(spreading, bandwidth), "dBm")
    answer.give("occupied bandwidth", bandwidth, "Hz")
    answer.step(f"symbol: 2^{spreading} / {shown(bandwidth, 'Hz')} = {shown(symbol, 's')}")
    slow = symbol > radio.LONG_SYMBOL
    answer.step(f"low-data-rate optimisation: {'on' if slow else 'off'}, symbols longer than 16 ms need it")
    symbols = round(took / symbol - preamble - 4.25)
    answer.step(f"({digits(preamble)} + 4.25) symbols of preamble + {symbols} of payload = {shown(took, 's')}")
    if duty > 0:
        answer.give("pause after it", radio.off_time(took, duty), "s")
        answer.give("packets an hour", radio.packets_an_hour(took, duty))
        answer.step(f"{digits(duty)} % of an hour is {shown(36 * duty, 's')}")
    return answer


def range_(
    power: Annotated[float, Arg("power of the transmitter", "dBm", -50, 60)] = 14.0,
    frequency: Frequency = 868.3e6,
    spreading: Spreading = 9,
    bandwidth: Bandwidth = 125e3,
    gain: Annotated[float, Arg("gains of both antennas together", "dB", -60, 100)] = 0.0,
    losses: Annotated[float, Arg("losses of cables, walls and fading", "dB", 0, 200)] = 0.0,
    exponent: Annotated[float, Arg("path-loss exponent: 2 in free space, 2.7 to 3.5 in towns", "", 1, 8)] = 2.7,
    distance: Annotated[float, Arg("distance, for the margin there", "m", 0.1, 1e8)] = -1.0,
    sensitivity: Annotated[float, Arg("what the receiver needs, if not LoRa", "dBm", -200, 0)] = 1.0,
    payload: Annotated[int, Arg("bytes of the payload, for the time on air", "", 0, 255)] = 20,
) -> Answer:
    """Link budget and range: free space, log-distance, and the Fresnel zone (ITU-R P.525, P.526; log-distance model)."""
    answer = Answer()
    needs = radio.sensitivity(spreading, bandwidth) if sensitivity > 0 else sensitivity
    budget = radio.link_margin(power, 0.0, needs, gain, losses)
    answer.give("budget", budget, "dB")
    answer.step(
        f"{digits(power)} dBm + {digits(gain)} dB - {digits(losses)} dB - ({digits(needs)} dBm) = {digits(budget)} dB"
    )
    reach = radio.range_at(budget, frequency, exponent)
    answer.give("range", reach, "m")
    answer.give("range in free space", radio.range_at(budget, frequency), "m")
    answer.step(
        f"{digits(radio.free_space_loss(1.0, frequency))} dB in the first metre, then 10 x {exponent:g} x log10(d)"
    )
    if sensitivity > 0:
        answer.give("time on air", radio.time_on_air(payload, spreading, bandwidth), "s")
    if distance > 0:
        loss = radio.log_distance_loss(distance, frequency, exponent)
        answer.give("loss there", loss, "dB")
        answer.give("margin there", budget - loss, "dB")
    place = distance if distance > 0 else reach
    answer.give("Fresnel radius", radio.fresnel_radius(place, frequency), "m")
    answer.step(f"Fresnel radius in the middle of {shown(place, 'm')}: sqrt(wavelength x distance / 4)")
    answer.note("60 % of the Fresnel radius should be free of obstacles")
    return answer


def channel(
    first: Annotated[float, Arg("frequency of channel 0", "Hz", 1e3, 1e11)],
    step: Annotated[float, Arg("between two channels", "Hz", 1, 1e9)],
    number: Annotated[int, Arg("channel number", "", 0, 100_000)] = -1,
    frequency: Annotated[float, Arg("frequency", "Hz", 1e3, 1e11)] = -1.0,
) -> Answer:
    """Channel numbers and frequencies of a linear plan, both ways: frequency = first + number x step."""
    answer = Answer()
    if number >= 0:
        answer.give("frequency", radio.channel_frequency(number, first, step), "Hz")
        answer.step(f"{shown(first, 'Hz')} + {number} x {shown(step, 'Hz')}")
    elif frequency > 0:
        found, off = radio.channel_of(frequency, first, step)
        answer.give("channel", found)
        answer.give("off by", off, "Hz", "0 Hz" if abs(off) < 1 else "")
        answer.step(f"({shown(frequency, 'Hz')} - {shown(first, 'Hz')}) / {shown(step, 'Hz')}")
        if abs(off) >= 1:
            answer.note(f"no channel is there; the nearest is {shown(frequency - off, 'Hz')}")
    else:
        raise CalcFault("channel needs number or frequency", "For example: first=863.1MHz step=200kHz number=26")
    return answer


TOPICS = (
    Topic(
        "airtime",
        "LoRa",
        airtime,
        ("payload=20 spreading=9 duty=1", "payload=20 spreading=7..12", "payload=0..255/12 spreading=7,9,12"),
        ("time on air", "sensitivity"),
    ),
    Topic(
        "range",
        "LoRa",
        range_,
        ("power=14 spreading=9 exponent=3", "spreading=7..12 exponent=2,2.7,3.5", "distance=100m..10km/20"),
        ("range", "time on air", "margin there"),
    ),
    Topic(
        "channel",
        "LoRa",
        channel,
        ("first=863.1MHz step=200kHz number=26", "first=863.1MHz step=200kHz frequency=868.3MHz"),
    ),
)
