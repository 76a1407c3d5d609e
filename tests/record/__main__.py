"""Writes the record of behaviour anew, or compares with it: `python -m tests.record [--compare] [NAME ...]`.

The rule: a difference that was intended is committed by itself, with its reason; any other is a defect.
"""

from __future__ import annotations

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor

from tests.record.recording import FACTS, differences, facts, path_of
from tests.record.stories import STORIES


def write(name: str) -> str:
    """Writes the facts of a story; what was written."""
    story = STORIES[name]
    told = facts(story)
    path_of(story).write_text("\n".join(told) + "\n")
    return f"{name}: {len(told)} facts"


def compare(name: str) -> str:
    """What differs from the record, or nothing."""
    return "\n".join(differences(STORIES[name]))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("names", nargs="*", help="stories whose names contain one of these words; all if none is given")
    parser.add_argument("--compare", action="store_true")
    given = parser.parse_args()
    chosen = [name for name in STORIES if not given.names or any(word in name for word in given.names)]
    if not given.compare and not given.names:
        for path in FACTS.glob("*.txt"):
            if path.stem not in STORIES:
                path.unlink()
    with ProcessPoolExecutor() as pool:
        told = [one for one in pool.map(compare if given.compare else write, chosen) if one]
    print("\n".join(told) or "no difference")
    return 1 if given.compare and told else 0


if __name__ == "__main__":
    sys.exit(main())
