"""Topics of GNSS: angles as sentences write them, distance and bearing, what a report interval needs at a rate.

The rule: angles are degrees, north and east positive; distances are on the ellipsoid of WGS 84.
"""

from __future__ import annotations

from typing import Annotated

from wexicon.core.engineering import radio, serial_lines
from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, digits, shown
from wexicon.core.standards import gnss as nmea
from wexicon.core.tuning import HIGHEST_RATE, USUAL_RATES, Tuning

Latitude = Annotated[float, Arg("latitude", "°", -90, 90)]
Longitude = Annotated[float, Arg("longitude", "°", -180, 180)]
# The most bytes of one sentence, with its line end (NMEA 0183).
LONGEST_SENTENCE = 82


def angle(
    degrees: Annotated[float, Arg("an angle", "°", -180, 180)] = 1000.0,
    nmea_text: Annotated[str, Arg("degrees and minutes of a sentence with its letter, such as '5128.9260 N'")] = "",
    longitude: Annotated[bool, Arg("whether it is a longitude")] = False,
) -> Answer:
    """Degrees with decimals, degrees and minutes, and the writing of sentences (NMEA 0183), both ways."""
    answer = Answer()
    if nmea_text:
        parts = nmea_text.replace(",", " ").split()
        if len(parts) != 2:
            raise CalcFault("nmea-text: write the number and its letter", "For example: nmea-text='5128.9260 N'")
        try:
            degrees = float(nmea.degrees(parts[0], parts[1].upper()))
        except ValueError as fault:
            raise CalcFault(f"nmea-text: {fault}") from None
        longitude = parts[1].upper() in "EW"
    elif degrees == 1000.0:
        raise CalcFault("angle needs degrees or nmea-text", "For example: degrees=51.4821")
    if not longitude and abs(degrees) > 90:
        raise CalcFault(f"degrees: {digits(degrees)} is no latitude", "Say longitude=yes.")
    whole, minutes = radio.degrees_and_minutes(degrees)
    side = ("W" if degrees < 0 else "E") if longitude else ("S" if degrees < 0 else "N")
    answer.give("degrees", degrees, "°", f"{degrees:.7f}°")
    answer.give("degrees and minutes", f"{whole}° {minutes:.4f}′ {side}")
    seconds = minutes % 1 * 60
    answer.give("with seconds", f"{whole}° {int(minutes)}′ {seconds:.2f}″ {side}")
    answer.give("in sentences", radio.nmea_angle(degrees, longitude=longitude))
    fine = radio.metres_per_degree(0.0)[1] / 60 * 1e-4
    answer.note(f"four decimals of a minute are {shown(fine, 'm')} at the equator")
    return answer


def distance(
    latitude: Latitude,
    longitude: Longitude,
    to_latitude: Annotated[float, Arg("latitude of the other place", "°", -90, 90)] = 1000.0,
    to_longitude: Annotated[float, Arg("longitude of the other place", "°", -180, 180)] = 1000.0,
    bearing: Annotated[float, Arg("direction, clockwise from north", "°", 0, 360)] = -1.0,
    away: Annotated[float, Arg("how far the other place is", "m", 0, 2.1e7)] = -1.0,
) -> Answer:
    """Distance and bearing between two places, or the place at a bearing and distance (WGS 84; Karney's geodesics)."""
    answer = Answer()
    if to_latitude < 1000 and to_longitude < 1000:
        found, there, back = radio.distance_and_bearings(latitude, longitude, to_latitude, to_longitude)
        answer.give("distance", found, "m", f"{found:.3f} m")
        answer.give("bearing", there, "°", f"{there:.4f}°")
        answer.give("bearing at the other place", back, "°", f"{back:.4f}°")
        return answer
    if bearing < 0 or away < 0:
        raise CalcFault("distance needs to-latitude and to-longitude, or bearing and away")
    north, east = radio.destination(latitude, longitude, bearing, away)
    answer.give("latitude", north, "°", f"{north:.7f}°")
    answer.give("longitude", east, "°", f"{east:.7f}°")
    return answer


def reports(
    rate: Annotated[int, Arg("rate in baud", "baud", 1, HIGHEST_RATE)],
    sentences: Annotated[int, Arg("sentences in each report", "", 1, 100)] = 8,
    interval: Annotated[float, Arg("time between two reports", "s", 0.01, 3600)] = 1.0,
    size: Annotated[
        int, Arg("bytes of a sentence with its line end, at most 82", "B", 7, LONGEST_SENTENCE)
    ] = LONGEST_SENTENCE,
) -> Answer:
    """What a receiver's reports take of the line: whether they fit a rate (NMEA 0183: at most 82 bytes a sentence)."""
    answer = Answer()
    bytes_each = sentences * size
    share = serial_lines.report_rate(bytes_each, interval, Tuning(rate))
    answer.give("bytes each time", bytes_each)
    answer.give("of the line", share * 100, "%")
    answer.give("fits", share <= 1)
    answer.step(
        f"{sentences} x {size} bytes x 10 bits / {rate} baud = {shown(share * interval, 's')} of {shown(interval, 's')}"
    )
    answer.give("shortest interval", share * interval, "s")
    lowest = min(
        (one for one in USUAL_RATES if serial_lines.report_rate(bytes_each, interval, Tuning(one)) <= 1), default=None
    )
    answer.give("lowest usual rate", lowest, "baud", "" if lowest else "none: send fewer, or less often")
    return answer


TOPICS = (
    Topic("angle", "GNSS", angle, ("degrees=51.4821", "nmea-text='00259.2440 W'", "degrees=-2.9874 longitude=yes")),
    Topic(
        "distance",
        "GNSS",
        distance,
        (
            "latitude=51.4821 longitude=-2.9874 to-latitude=51.49 to-longitude=-2.95",
            "latitude=51.4821 longitude=-2.9874 bearing=45 away=2km",
        ),
    ),
    Topic(
        "reports",
        "GNSS",
        reports,
        ("rate=9600 sentences=8 interval=1s", "rate=4800,9600,38400 interval=200ms"),
        ("of the line",),
    ),
)
