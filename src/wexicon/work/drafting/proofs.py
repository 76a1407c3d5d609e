"""The proof of a lexicon: what came of trying its settings on a module, kept beside it.

The rule: a proof holds for the very file that was tried, and for the firmware that it names; secrets are not in it.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.text import encodable
from wexicon.files import write_whole
from wexicon.folders import shipped_folder
from wexicon.work.results.write_trial import WriteTrial, told_counts


def proof_path(lexicon: Lexicon) -> Path:
    """Where the proof of a lexicon is."""
    return Path(lexicon.path).with_suffix(".proof.json")


def store_proof(lexicon: Lexicon, result: WriteTrial) -> str:
    """Stores a trial as the proof of its lexicon; gives the file, empty for a shipped lexicon. Raises CallFault."""
    path = proof_path(lexicon)
    if path.absolute().parent == shipped_folder():
        return ""
    data = msgspec.json.format(msgspec.json.encode(encodable(msgspec.to_builtins(result))), indent=2)
    write_whole(path, data, own=False)
    return str(path)


def proof_of(lexicon: Lexicon) -> str:
    """What the proof of a lexicon says, as a sentence; empty if there is none."""
    path = proof_path(lexicon)
    try:
        found = msgspec.json.decode(path.read_bytes(), type=WriteTrial)
    except (OSError, msgspec.MsgspecError):
        return ""
    if found.digest != lexicon.digest:
        return f"{path.name} is of an earlier version of this file: try it again with --write"
    when = f" on {found.tried:%Y-%m-%d}" if found.tried else ""
    firmware = f", firmware {found.firmware}" if found.firmware else ""
    return f"tried on a module{firmware}{when}: {', '.join(told_counts(found))}"
