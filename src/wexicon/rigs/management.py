"""The device-management server over a rig: what it asks of each module that registers.

The rule: objects and resources have their public numbers, as in /3/0/0.
"""

from __future__ import annotations

import msgspec


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
