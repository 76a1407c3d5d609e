"""Files that are made: whole or not at all, for their owner alone, and nothing written over that was not asked for."""

from __future__ import annotations

import os
import stat
import threading
from pathlib import Path

import pytest

from wexicon import files
from wexicon.core.faults import CallFault
from wexicon.records.sealed import SecretDigests


def test_a_new_file_is_its_owners_alone_and_written_over_only_by_force(tmp_path: Path) -> None:
    place = tmp_path / "deep" / "record.json"
    files.write_new(place, "first")
    assert stat.S_IMODE(place.stat().st_mode) == 0o600
    with pytest.raises(CallFault, match="already exists; nothing was written"):
        files.write_new(place, "second")
    assert place.read_text() == "first"
    place.chmod(0o644)
    files.write_new(place, "third", force=True)
    assert place.read_text() == "third" and stat.S_IMODE(place.stat().st_mode) == 0o600
    with pytest.raises(CallFault, match="it is not a file"):
        files.write_new(tmp_path / "deep", "folder", force=True)


@pytest.mark.parametrize("force", [False, True])
def test_no_link_leads_a_new_file_elsewhere(tmp_path: Path, force: bool) -> None:
    target, link = tmp_path / "target", tmp_path / "record.json"
    target.write_text("mine")
    link.symlink_to(target)
    if force:
        files.write_new(link, "new", force=True)
        assert not link.is_symlink() and link.read_text() == "new"
        link.unlink()
        link.symlink_to(target)
        files.create(link, force=True).close()
    else:
        for make in (files.create, lambda path: files.write_new(path, "new")):
            with pytest.raises(CallFault, match="already exists"):
                make(link)
    assert target.read_text() == "mine"


@pytest.mark.parametrize("older", [None, "older"])
def test_a_disk_that_fills_leaves_what_was_there_and_nothing_beside_it(
    tmp_path: Path, older: str | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    place, opened = tmp_path / "record.json", os.fdopen

    class Full:
        def __init__(self, number: int, *_: object, **__: object) -> None:
            self._file = opened(number, "wb", buffering=0)

        def __enter__(self) -> Full:
            return self

        def __exit__(self, *_: object) -> None:
            self._file.close()

        def write(self, data: bytes) -> int:
            if self._file.tell() >= 4:
                raise OSError(28, "No space left on device")
            return self._file.write(data[:4])

    if older:
        place.write_text(older)
    monkeypatch.setattr(files.os, "fdopen", Full)
    with pytest.raises(CallFault, match="cannot be written whole: No space left on device"):
        files.write_new(place, "a new record", force=True)
    assert [each.name for each in tmp_path.iterdir()] == (["record.json"] if older else [])
    assert not older or place.read_text() == older


def test_of_many_at_once_one_makes_the_file_and_all_find_it_whole(tmp_path: Path) -> None:
    together = threading.Barrier(8)
    seen: list[bytes] = []

    def make() -> None:
        together.wait()
        for number in range(50):
            seen.append(SecretDigests(tmp_path / str(number)).key)

    threads = [threading.Thread(target=make) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert {len(key) for key in seen} == {32} and len(set(seen)) == 50 and len(seen) == 400
