"""Settings as files for the host: every reader of them gets the value that was read, or a comment that says why not."""

from __future__ import annotations

import subprocess

import pytest

from wexicon.core.formats.host_export import HostSettings, HostValue, written


@pytest.mark.parametrize(
    ("value", "kept"),
    [
        ('Cobble Stair; rm -r $HOME `id` "#1"', True),
        ("", True),
        ("a\nLD_PRELOAD=evil.so", False),
        ("a\x1b[2Jb", False),
        ("a\u202eb", False),
        ("Stair's", False),
        ("back\\slash", False),
    ],
)
def test_a_text_that_not_all_readers_take_as_one_line_is_left_out_and_named(value: str, kept: bool) -> None:
    text = written(HostSettings((HostValue("NAME", value), HostValue("RATE_BAUD", 9600)), ("a\nb",), ()), "env")
    assert "LD_PRELOAD" not in text and "\x1b" not in text
    assert ("# left out: NAME: readers of such files" in text) is not kept
    command = f'{text}printf "%s|%s" "$NAME" "$RATE_BAUD"'
    shown = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=True, env={})
    assert shown.stdout == (value if kept else "") + "|9600"
