"""Small faults put into the code on purpose, and the tests that must fail with each: `python -m benchmarks.mutants [WORD ...]`.

The rule: a place is found by its text alone, in any file of src, so the table stays valid when code is moved. A text that is
not found exactly once is reported and counts as a failure. Each fault is put into a copy of the tree. Before that the tests are
run without a fault: they must pass. WORDs select mutants by area or description.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[1]
# How long the tests of one mutant may take (seconds): an endless loop is noticed too.
LIMIT = 300


class Mutant(NamedTuple):
    """One fault: `text` of the code is replaced by `instead`; `tests` are the files or tests that must fail then."""

    area: str
    what: str
    text: str
    instead: str
    tests: str


SWEEPS = "tests/work/test_sweeps.py"
RESTORE = "tests/cli/test_restore.py"
IMPORT = "tests/cli/test_trace_import.py"
TAP = "tests/work/test_tap.py"
REPORT = "tests/cli/test_report.py"
SECRETS = "tests/cli/test_secret_sources.py"
CLAIMS = "tests/records/test_claims.py tests/work/test_batch.py"
DRAFTS = "tests/work/test_trace_draft.py"
LAYERS = "tests/core/test_layers.py tests/rigs/test_console_manners.py"
LISTENING = "tests/work/test_listening.py"

# The seventeen that no related test noticed at the review.
REVIEWED = (
    Mutant("sweeps", "an incomplete point is counted", "if not traffic.complete:\n", "if not traffic:\n", SWEEPS),
    Mutant(
        "sweeps",
        "unfinished work is not recorded",
        "store.open(Unfinished(unit, datetime.now(UTC), list(points[0])))",
        "Unfinished(unit, datetime.now(UTC), list(points[0]))",
        SWEEPS,
    ),
    Mutant(
        "sweeps",
        "a point is not read back",
        "if (read := module.read(name)) != value:",
        "if (read := value) != value:",
        SWEEPS,
    ),
    Mutant(
        "secrets",
        "generated ones may repeat under [agree] different",
        "used = {other.value for other in same} if name in sheet.agree.different else set()",
        "used: set[str] = set()",
        SECRETS,
    ),
    Mutant(
        "restore",
        "volatile settings are restored",
        "if not setting.writable or setting.volatile:\n            continue\n        if name not in prior",
        "if not setting.writable:\n            continue\n        if name not in prior",
        RESTORE,
    ),
    Mutant("tap", "bytes held back are dropped at the end", 'self.send_late(float("inf"))', "pass", TAP),
    Mutant(
        "tap",
        "a complete exchange is not followed when the host goes on",
        "        self.ended()\n        self._open = parts",
        "        self._open = parts",
        TAP,
    ),
    Mutant(
        "import",
        "any odd rate is taken for a usual one",
        "<= OFF_BY * nearest else tuning",
        "<= nearest else tuning",
        IMPORT,
    ),
    Mutant(
        "import",
        "the end's date is used for the beginning",
        "_Clock(ended - timedelta(seconds=last))",
        "_Clock(ended)",
        IMPORT,
    ),
    Mutant(
        "report",
        "the longest for the median",
        "each = spoken(round(median(taken), 1))",
        "each = spoken(round(max(taken), 1))",
        REPORT,
    ),
    Mutant("report", "cut at exactly 400 lines", "len(found) > MOST_LINES", "len(found) >= MOST_LINES", REPORT),
    Mutant(
        "report",
        "unproved is not among the failed",
        'RIGHT = ("conforms",)',
        'RIGHT = ("conforms", "unproved")',
        REPORT,
    ),
    Mutant(
        "listening",
        "a requested restart counts as unexpected",
        "if result.starts > ears.restarting:",
        "if result.starts:",
        LISTENING,
    ),
    Mutant(
        "listening",
        "no tolerance for missed timers",
        "if self.wanted is not None and passed > self.wanted + TOLERANCE:\n            self.missed",
        "if self.wanted is not None and passed > self.wanted:\n            self.missed",
        LISTENING,
    ),
    Mutant(
        "layers",
        "a pager answers two marks once",
        "self.goes_on * sum(isinstance(one, Prompt) and one.text == self.mark for one in pieces)",
        "self.goes_on * any(isinstance(one, Prompt) and one.text == self.mark for one in pieces)",
        LAYERS,
    ),
    Mutant(
        "drafts",
        "a tie of success codes: not the shortest",
        "(several[line], -len(line))",
        "(several[line], len(line))",
        DRAFTS,
    ),
    Mutant(
        "drafts",
        "a tie of lines that wrote: the first",
        "for turn in reversed(writes):\n        for one",
        "for turn in writes:\n        for one",
        DRAFTS,
    ),
)

ADDED = (
    Mutant("sweeps", "what was changed is not put back", "_put(end, before[number])", "end.begin_commands()", SWEEPS),
    Mutant(
        "sweeps",
        "a stop prevents putting back",
        "module.session.stopping = lambda: False\n            _put",
        "_put",
        SWEEPS,
    ),
    Mutant(
        "sweeps",
        "the record is closed though nothing was put back",
        "    try:\n        for number, (end, module) in enumerate(",
        "    for one in modules:\n        store.close(one.lexicon.unit_of(one.identity))\n"
        "    try:\n        for number, (end, module) in enumerate(",
        SWEEPS,
    ),
    Mutant(
        "sweeps",
        "the share lost is of one direction",
        "lost = 100 * sum(way.lost for way in traffic.ways) / sent",
        "lost = 100 * traffic.ways[0].lost / sent",
        SWEEPS,
    ),
    Mutant(
        "restore",
        "the last day's state, not the first",
        "if one.at >= since.isoformat()][:1]",
        "if one.at >= since.isoformat()][-1:]",
        RESTORE,
    ),
    Mutant(
        "restore",
        "a run that wrote nothing counts as an earlier state",
        'one.did == "provision" and one.result.prior]',
        'one.did in ("provision", "restore") and one.result.prior]',
        RESTORE,
    ),
    Mutant(
        "restore",
        "settings that were not read are not named",
        'left_out[name] = "secret" if setting.secret else "was not read"',
        "pass",
        RESTORE,
    ),
    Mutant(
        "restore",
        "a value that is no longer allowed is not named",
        'left_out[name] = f"{prior[name].shown} {fault.why}"',
        "pass",
        RESTORE,
    ),
    Mutant(
        "import",
        "midnight turns the clock back",
        "day += 86_400 if hours and at + day < now - 43_200 else 0",
        "day += 0",
        IMPORT,
    ),
    Mutant(
        "import",
        "a framing error is not counted",
        "            if one.wrong:\n                wrong += 1",
        "            if one.wrong:\n                wrong += 0",
        IMPORT,
    ),
    Mutant("import", "one timed line makes a timed log", ">= 0.9 * len(rows)", ">= 1", IMPORT),
    Mutant(
        "import",
        "an even parity is read as odd",
        '!= (sum(bits) + (frame.parity == "O")) % 2',
        '!= (sum(bits) + (frame.parity == "E")) % 2',
        "tests/core/test_edges.py",
    ),
    Mutant(
        "tap",
        "what was held back overtakes",
        "held = part.to is Side.HOST and (part.later or self._late)",
        "held = part.to is Side.HOST and part.later",
        TAP,
    ),
    Mutant(
        "tap",
        "the host's side moves before it has its answer",
        "while moves and not (side is Side.HOST and self._late):",
        "while moves:",
        TAP,
    ),
    Mutant(
        "tap",
        "a secret that the host says is not learned",
        "for secret in said_secrets(text, parts):\n            self.secrets.learn(secret)",
        "for secret in said_secrets(text, parts):\n            str(secret)",
        TAP,
    ),
    Mutant(
        "tap",
        "bytes that come while it ends are left",
        "while not (tap.ended.is_set() and clock.now() - last > DRAINED):",
        "while not tap.ended.is_set():",
        TAP,
    ),
    Mutant(
        "tap",
        "bytes beyond the limit are not counted",
        "            self.undecoded += len(data)",
        "            self.undecoded += 0",
        TAP,
    ),
    Mutant(
        "tap",
        "a fault of the decoder is not raised",
        "        if self._failed:\n            raise self._failed",
        "        if self._failed:\n            pass",
        TAP,
    ),
    Mutant(
        "report",
        "a measurement below its low limit is right",
        "return (one.low is None or one.value >= one.low) and",
        "return (one.low is not None or one.value >= 0) and",
        REPORT,
    ),
    Mutant("report", "a failed step counts as done", "passed[at] -= at in done", "passed[at] -= 0", REPORT),
    Mutant(
        "report",
        "control characters reach the page",
        "return _shortened(visible(str(value)))",
        "return _shortened(str(value))",
        REPORT,
    ),
    Mutant("report", "texts are not escaped", "autoescape=True, trim", "autoescape=False, trim", REPORT),
    Mutant("report", "the first date is the last", "(ends[0], ends[-1])", "(ends[-1], ends[-1])", REPORT),
    Mutant(
        "secrets",
        "a secret is drawn anew when its unit is made again",
        "            if own:\n                found[name] = own.value\n                continue",
        "            if own and not self._write:\n                found[name] = own.value\n                continue",
        SECRETS,
    ),
    Mutant(
        "secrets",
        "the secret of another sheet is taken",
        "mine = [one for one in kept if one.sheet == sheet.called]",
        "mine = kept",
        SECRETS,
    ),
    Mutant(
        "secrets",
        "verify draws one",
        '            if not self._write:\n                what = f"{sheet.hand_over.file} has no',
        '            if self._write is None:\n                what = f"{sheet.hand_over.file} has no',
        SECRETS,
    ),
    Mutant(
        "secrets",
        "the file is written without being locked",
        "        with locked(self.path):\n            secrets = self.secrets()",
        "        if True:\n            secrets = self.secrets()",
        SECRETS,
    ),
    Mutant(
        "claims",
        "a run claims what another has",
        "sql.or_(TASK.c.run.is_(None), TASK.c.run.not_in(living)),",
        'sql.or_(TASK.c.run.is_(None), TASK.c.run != ""),',
        CLAIMS,
    ),
    Mutant(
        "claims",
        "what was done since this run began is free",
        "sql.or_(TASK.c.done.is_(None), TASK.c.done < since),",
        "sql.true(),",
        CLAIMS,
    ),
    Mutant("claims", "a number is drawn twice", '"following": number + 1}', '"following": number}', CLAIMS),
    Mutant(
        "claims",
        "a task begun elsewhere is begun here",
        'if row["unit"] not in (None, unit) and row["done"] is None and not again:',
        'if row["unit"] not in (None, unit) and row["done"] is None and again:',
        CLAIMS,
    ),
    Mutant(
        "drafts",
        "an event counts as an answer",
        "return [line for line in found if answers[line] < 2]",
        "return [line for line in found if answers[line] < 0]",
        DRAFTS,
    ),
    Mutant(
        "drafts",
        "an error is taken for the success code",
        "if len(commands) > 1 and not _ERROR.match(line)}",
        "if len(commands) > 1}",
        DRAFTS,
    ),
    Mutant(
        "drafts",
        "an answer of one question is an identity",
        "        and counts[said] > 1\n",
        "        and counts[said] > 0\n",
        DRAFTS,
    ),
    Mutant("drafts", "a hidden value is an action", "or HIDDEN in turn.said\n", "\n", DRAFTS),
    Mutant(
        "layers",
        "an answer to an earlier line is taken",
        "number in (self.number, self.unasked) else _corrupt(data)",
        "True else _corrupt(data)",
        LAYERS,
    ),
    Mutant(
        "layers",
        "another station's frame is ours",
        "            return Foreign(to_text(data))\n        return data[end + len(self.after) :]",
        "            pass\n        return data[end + len(self.after) :]",
        LAYERS,
    ),
    Mutant(
        "layers",
        "a checksum covers the mark",
        "return given == self.check(body[self.start :])",
        "return given == self.check(body)",
        LAYERS,
    ),
    Mutant(
        "listening",
        "the granted value is not preferred",
        "return (self.asked if self.granted is None else self.granted) or None",
        "return (self.granted if self.asked is None else self.asked) or None",
        LISTENING,
    ),
    Mutant(
        "listening",
        "damaged lines are decoded",
        "            elif seen.role is Role.CORRUPT:\n                self.damaged += 1",
        "            elif seen.role is Role.CORRUPT:\n                self.unknown += 1",
        LISTENING,
    ),
    Mutant(
        "listening",
        "a half message is whole",
        "            if len(have) < int(parts):\n                return False",
        "            if len(have) < 1:\n                return False",
        LISTENING,
    ),
)
MUTANTS = (*REVIEWED, *ADDED)


def places(mutant: Mutant) -> list[Path]:
    """The files of src that have the mutant's text, each as often as it stands there."""
    found = []
    for path in sorted((ROOT / "src").rglob("*.py")):
        found += [path.relative_to(ROOT)] * path.read_text().count(mutant.text)
    return found


def _copied(folder: Path) -> Path:
    """A copy of what the tests need."""
    for name in (
        "src",
        "tests",
        "benchmarks",
        "examples",
        "docs",
        "pyproject.toml",
        "README.md",
        "SECURITY.md",
        "CHANGELOG.md",
    ):
        source = ROOT / name
        if source.is_dir():
            shutil.copytree(source, folder / name, ignore=shutil.ignore_patterns("__pycache__"))
        elif source.exists():
            shutil.copy(source, folder / name)
    return folder


def _tested(folder: Path, tests: Sequence[str], limit: float = LIMIT) -> tuple[bool, str]:
    """Whether these tests pass in a copy, and the first that does not."""
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-x",
        "-q",
        "-n",
        "0",
        "-p",
        "no:cacheprovider",
        "--no-header",
        "--tb=no",
        *tests,
    ]
    environment = {**os.environ, "PYTHONPATH": str(folder / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        done = subprocess.run(
            command, cwd=folder, env=environment, capture_output=True, text=True, timeout=limit, check=False
        )
    except subprocess.TimeoutExpired:
        return False, f"no end within {limit:g} s"
    failed = [line.split(" ")[1] for line in done.stdout.splitlines() if line.startswith(("FAILED ", "ERROR "))]
    return done.returncode == 0, failed[0] if failed else (done.stdout + done.stderr).strip()[-200:]


def tried(mutant: Mutant) -> str:
    """What came of a mutant: `killed by TEST`, `SURVIVES`, or `NOT FOUND`."""
    found = places(mutant)
    if len(found) != 1:
        return f"NOT FOUND: its text stands {len(found)} times in src"
    with tempfile.TemporaryDirectory(prefix="wexicon-mutant-") as name:
        folder = _copied(Path(name))
        path = folder / found[0]
        path.write_text(path.read_text().replace(mutant.text, mutant.instead))
        passed, failed = _tested(folder, mutant.tests.split())
    return f"SURVIVES in {found[0]}" if passed else f"killed by {failed}"


def _chosen(words: Sequence[str]) -> Iterator[Mutant]:
    return (one for one in MUTANTS if not words or any(word in f"{one.area} {one.what}" for word in words))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("words", nargs="*")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    given = parser.parse_args()
    chosen = list(_chosen(given.words))
    tests = sorted({name for one in chosen for name in one.tests.split()})
    began = time.perf_counter()
    with tempfile.TemporaryDirectory(prefix="wexicon-mutant-") as name:
        passed, failed = _tested(_copied(Path(name)), tests, 4 * LIMIT)
    if not passed:
        print(f"these tests fail without a fault: {failed}")
        return 1
    alive = 0
    with ThreadPoolExecutor(given.jobs) as pool:
        for mutant, told in zip(chosen, pool.map(tried, chosen), strict=True):
            alive += not told.startswith("killed")
            print(f"{mutant.area:<10} {mutant.what:<60} {told}", flush=True)
    print(f"{len(chosen) - alive} of {len(chosen)} killed in {time.perf_counter() - began:.0f} s")
    return 1 if alive else 0


if __name__ == "__main__":
    sys.exit(main())
