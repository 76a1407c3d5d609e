"""Degrees, metres and bearings on the ellipsoid of WGS 84.

The rule: positions are degrees, north and east positive. Near a place a degree is a number of metres, good to a millimetre a
kilometre; over any distance the geodesic of geographiclib counts (Karney, 2013).
"""

from __future__ import annotations

from math import cos, radians, sin, sqrt

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
