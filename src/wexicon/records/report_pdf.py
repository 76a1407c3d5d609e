"""The report as PDF, printed by a browser of this machine that needs no window.

The rule: the browser gets a file that no one else can read, and no network; where there is no browser nothing is written.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from wexicon.core.faults import CallFault

# Any of these prints a page with `--headless --print-to-pdf`.
BROWSERS = (
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
    "chrome",
    "msedge",
    "microsoft-edge",
)
# How long a browser may take (seconds): thousands of units are many pages.
PATIENCE = 300.0


def browser() -> str:
    """The browser that prints. Raises CallFault if there is none."""
    found = next((path for name in BROWSERS if (path := shutil.which(name))), "")
    if not found:
        hint = "Install Chromium (Debian: apt install chromium), or write an .html file and print it from any browser."
        raise CallFault("no browser here can print a PDF; nothing was written", hint=hint)
    return found


def printed(program: str, page: str) -> bytes:
    """The page as PDF, printed by this browser. Raises CallFault if it cannot."""
    with tempfile.TemporaryDirectory(prefix="wexicon-report-") as folder:
        source, target = Path(folder, "report.html"), Path(folder, "report.pdf")
        source.write_text(page)
        options = ["--headless", "--disable-gpu", "--no-first-run", "--no-pdf-header-footer"]
        options += ["--disable-background-networking", "--proxy-server=127.0.0.1:9", f"--user-data-dir={folder}/own"]
        if hasattr(os, "geteuid") and os.geteuid() == 0:
            options.append("--no-sandbox")  # its sandbox refuses to start for root
        try:
            command = [program, *options, f"--print-to-pdf={target}", source.as_uri()]
            ended = subprocess.run(command, capture_output=True, timeout=PATIENCE, check=False)
        except subprocess.TimeoutExpired:
            raise CallFault(f"{Path(program).name} did not finish the PDF in {PATIENCE:g} s") from None
        if not target.exists():
            said = ended.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
            raise CallFault(f"{Path(program).name} printed no PDF: {' '.join(said)[:200] or 'it said nothing'}")
        return target.read_bytes()
