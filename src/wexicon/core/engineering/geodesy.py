"""Degrees to metres near a place.

The rule: the ellipsoid is WGS 84; good to a millimetre a kilometre over the few kilometres in which positions scatter.
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
