"""Which stand-in a rehearsal is done against. The rule: it only says which; finding it imports the stand-ins."""

from __future__ import annotations

from pathlib import Path

import msgspec

# How long the stand-ins have had power when several are worked with (seconds).
SETTLED = 5.0


class Choice(msgspec.Struct):
    """A unit of a rig, a family's stand-in with factory defaults, or a recording."""

    rig: Path | None = None
    unit: str | None = None
    standin: str | None = None
    recording: Path | None = None
