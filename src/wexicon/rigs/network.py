"""The cellular network over a rig (who may register, on which band, what it grants, which messages wait) and its
device-management server.

The rule: a module learns only what it asks for or has registered for. Access technologies have the numbers of 3GPP TS 27.007
(<AcT> of +COPS), written from memory, not checked against its text; objects and resources have their public numbers, as in
/3/0/0.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

import msgspec

GSM, LTE, NB = 0, 7, 9
TECHNOLOGIES = {GSM: "GSM", LTE: "LTE", NB: "narrow-band"}
# When the rig's time begins, for the network's clock and for satellites.
EPOCH = datetime(2026, 3, 2, 8, 0, tzinfo=UTC)
# Received power in dBm of a step of +CSQ: -113 and two for each.
LOWEST_DBM, DBM_A_STEP, UNKNOWN_SIGNAL = -113, 2, 99


class Network(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.network]`: a cellular network. `present`: whether it is there; `denies`: it denies registration; `roaming`: it is
    not the SIM's own. `registers_in` seconds; `technologies` (0 GSM, 7 LTE, 9 narrow-band) and `bands` that it has; `apns`
    that it knows (none: any). `active_time` and `periodic_update` are what it grants, as eight bits, instead of those asked for
    (empty: as asked), `edrx` as four bits; `idle_after` seconds without traffic; `signal` as +CSQ counts."""

    operator: str = "Estuary Mobile"
    code: str = "00101"
    present: bool = True
    denies: bool = False
    roaming: bool = False
    technologies: tuple[int, ...] = (GSM, LTE, NB)
    bands: tuple[int, ...] = (3, 8, 20)
    apns: tuple[str, ...] = ()
    registers_in: float = 8.0
    active_time: str = ""
    periodic_update: str = ""
    edrx: str = ""
    idle_after: float = 10.0
    signal: int = 21

    def knows(self, apn: str) -> bool:
        """Whether it has a context for this access point name."""
        return not self.apns or apn in self.apns

    def cell(self, technologies: tuple[int, ...], bands: tuple[int, ...]) -> Cell | None:
        """The cell that a module finds which can use these; None if there is none."""
        technology = next((one for one in technologies if one in self.technologies), None)
        band = next((one for one in bands if one in self.bands), None)
        if not self.present or technology is None or band is None:
            return None
        # Any channel will do that differs with the band.
        return Cell(technology, band, 100 + 300 * band, LOWEST_DBM + DBM_A_STEP * self.signal - 20, -11)


class Cell(NamedTuple):
    """The cell that a module listens to: technology, band, channel, reference signal's power (dBm) and quality (dB)."""

    technology: int
    band: int
    channel: int
    power: int
    quality: int


class Management(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.management]`: a device-management server. `reads`, `writes`, `executes` and `observes` are the requests it makes of
    each module that registers, by the path of the object; `refuses`: it lets no module register."""

    reads: tuple[str, ...] = ()
    writes: dict[str, str] = msgspec.field(default_factory=dict)
    executes: tuple[str, ...] = ()
    observes: tuple[str, ...] = ()
    refuses: bool = False

    def requests(self) -> list[str]:
        """What it asks, one after the other, with {} for the message number."""
        return [
            *(f'READ,{{}},"{path}"' for path in self.reads),
            *(f'WRITE,{{}},"{path}","{value}"' for path, value in self.writes.items()),
            *(f'EXEC,{{}},"{path}"' for path in self.executes),
            *(f'OBSERVE,{{}},"{path}"' for path in self.observes),
        ]
