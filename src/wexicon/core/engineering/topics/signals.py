"""Topics of signal and power: what the numbers of reports mean, powers in dBm and watts, what a LoRa packet's figures say.

The rule: a number that means "not known" is said to, and never shown as a value.
"""

from __future__ import annotations

from math import log10
from typing import Annotated

from wexicon.core.engineering import radio
from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, digits
from wexicon.core.standards import cellular


def signal(
    csq: Annotated[int, Arg("rssi of +CSQ", "", 0, 99)] = -1,
    rxlev: Annotated[int, Arg("rxlev of +CESQ", "", 0, 99)] = -1,
    rscp: Annotated[int, Arg("rscp of +CESQ", "", 0, 255)] = -1,
    ecno: Annotated[int, Arg("ecno of +CESQ", "", 0, 255)] = -1,
    rsrq: Annotated[int, Arg("rsrq of +CESQ", "", 0, 255)] = -1,
    rsrp: Annotated[int, Arg("rsrp of +CESQ", "", 0, 255)] = -1,
    sinr: Annotated[int, Arg("ss_sinr of +CESQ", "", 0, 255)] = -1,
) -> Answer:
    """Numbers of signal reports in dBm, dB and words (3GPP TS 27.007, +CSQ and +CESQ).

    A number stands for a range; its lower edge is given.
    """
    answer = Answer()
    given = {"csq": csq, "rxlev": rxlev, "rscp": rscp, "ecno": ecno, "rsrq": rsrq, "rsrp": rsrp, "sinr": sinr}
    given = {name: number for name, number in given.items() if number >= 0}
    if not given:
        raise CalcFault("signal needs a number of a report", "For example: csq=18")
    for name, number in given.items():
        scale = cellular.SCALES[name]
        if number == scale.unknown:
            answer.give(f"{name} is", None, text="not known")
            continue
        value = cellular.value_of(name, number)
        edge = "or less" if number == scale.low else "or more" if number == scale.high else ""
        word = cellular.in_words(name, value)
        answer.give(f"{name} is", value, scale.unit, f"{digits(value)} {scale.unit} {edge}".rstrip() + f", {word}")
        answer.step(f"{name}: {scale.first:g} + {scale.step:g} x {number} = {digits(value)} {scale.unit}")
    return answer


def power(
    dbm: Annotated[float, Arg("power", "dBm", -200, 100)] = -1000.0,
    watts: Annotated[float, Arg("power", "W", 0, 1e10)] = -1.0,
    load: Annotated[float, Arg("the load for the voltage", "Ω", 0.001, 1e9)] = 50.0,
) -> Answer:
    """A power in dBm, milliwatts, watts, and as the voltage in a load."""
    answer = Answer()
    if dbm > -1000:
        milliwatts = radio.milliwatts_of_dbm(dbm)
        answer.step(f"P = 1 mW x 10^({digits(dbm)} / 10)")
    elif watts > 0:
        milliwatts = watts * 1000
        answer.step(f"10 x log10({digits(milliwatts)}) = {digits(10 * log10(milliwatts))}")
    else:
        raise CalcFault("power needs dbm, or watts above 0", "For example: dbm=14, or watts=25mW")
    found = radio.dbm_of_milliwatts(milliwatts)
    answer.give("level", found, "dBm")
    answer.give("power", milliwatts / 1000, "W")
    answer.give("voltage", radio.voltage_of_dbm(found, load), "V")
    return answer


def packet(
    rssi: Annotated[float, Arg("RSSI of the packet", "dBm", -200, 30)],
    snr: Annotated[float, Arg("SNR of the packet", "dB", -40, 40)],
    spreading: Annotated[int, Arg("spreading factor", "", 5, 12)] = 9,
    bandwidth: Annotated[float, Arg("bandwidth", "Hz", 1000, 2e6)] = 125e3,
    noise_figure: Annotated[float, Arg("noise figure of the receiver", "dB", 0, 30)] = 6.0,
) -> Answer:
    """What RSSI and SNR of a LoRa packet say: its power, the margin, and how far it is from the limit."""
    answer = Answer()
    own = radio.packet_power(snr, rssi)
    answer.give("packet power", own, "dBm")
    if snr < 0:
        answer.step(f"below the noise: {digits(rssi)} dBm + {digits(snr)} dB = {digits(own)} dBm")
    left = radio.margin(spreading, snr)
    answer.give(
        "margin", left, "dB", f"{digits(left)} dB" + ("" if left > 3 else ", too little" if left > 0 else ": lost")
    )
    answer.step(f"SF{spreading} needs {radio.REQUIRED_SNR[spreading]:g} dB of SNR")
    answer.give("sensitivity", radio.sensitivity(spreading, bandwidth, noise_figure), "dBm")
    fits = [one for one, needed in radio.REQUIRED_SNR.items() if 7 <= one <= 12 and snr - needed >= 5]
    if fits and min(fits) < spreading:
        answer.note(f"SF{min(fits)} would do with 5 dB to spare, in less time on air")
    return answer


TOPICS = (
    Topic("signal", "signal and power", signal, ("csq=18", "rsrp=41 rsrq=20", "csq=0..31"), ("csq is",)),
    Topic("power", "signal and power", power, ("dbm=14", "watts=25mW", "dbm=0,10,20"), ("power",)),
    Topic("packet", "LoRa", packet, ("rssi=-112 snr=-7 spreading=9",), ("margin",)),
)
