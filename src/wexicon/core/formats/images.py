"""The firmware image that a seat of a sheet needs.

The rule: an image is loaded only if the module says of itself something else than the sheet does; after the load it must say
that.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Action, Lexicon
from wexicon.core.formats.toml import Source
from wexicon.core.text import meant, visible


class ImageTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`image = { ... }` of a seat: the `file` of a firmware image beside the sheet, and what a module that has it says of
    itself: its `identity`, as `{ firmware = "0C10" }`."""

    file: str
    identity: dict[str, str]


class Image(msgspec.Struct, frozen=True):
    """An image, read: the whole path of its `file`, the `identity` of a module that has it, the `action` that loads it and the
    `parameter` of that."""

    file: str
    identity: dict[str, str]
    action: str
    parameter: str

    def differs(self, identity: Mapping[str, str]) -> str:
        """What a module with this identity says otherwise; empty if it has the image."""
        told = [
            f"{name} is {visible(identity.get(name, 'not told'))}, and {visible(wanted)} is wanted"
            for name, wanted in self.identity.items()
            if identity.get(name) != wanted
        ]
        return "; ".join(told)


def loading(lexicon: Lexicon) -> tuple[Action, str] | None:
    """The action of a lexicon that loads an image into a module in command mode, and its parameter for the file."""
    for action in lexicon.actions.values():
        if action.loads and action.needs_attention:
            for need in action.program.needs():
                if need.kind == "file":
                    return action, need.name
    return None


def read_image(
    source: Source, here: tuple[str, ...], table: ImageTable, lexicon: Lexicon, located: Callable[[str], str]
) -> Image | None:
    """The image of a seat; what is wrong is complained of to `source`."""
    found = loading(lexicon)
    if found is None:
        source.complain(
            here, f"{lexicon.about.family} has no action that loads an image", "its lexicon says: loads = true"
        )
        return None
    known = [name for phrase in lexicon.identify for want in phrase.expect.wants for name in want.pattern.names]
    for name in table.identity:
        if name not in known:
            source.complain((*here, "identity", name), "the module does not say this of itself", meant(name, known))
    if not table.identity:
        source.complain((*here, "identity"), "is empty: when is another image found?", 'write { firmware = "0C10" }')
    try:
        path = located(table.file)
    except Fault as fault:
        source.complain((*here, "file"), str(fault))
        return None
    return Image(path, table.identity, found[0].name, found[1])
