"""What the site needs that the pages do not say.

The rule: a link that leads out of the guide, into the source, has no place on the site; its text stays.
"""

from __future__ import annotations

import re
from typing import Any

_OUTSIDE = re.compile(r"(?<!!)\[([^\]]+)\]\((?:\.\./)+[^)]*\)")


def on_page_markdown(markdown: str, page: Any, **more: Any) -> str:
    """The text of a page as it goes to the site."""
    depth = page.file.src_uri.count("/")
    inside = "../" * depth

    def kept(found: re.Match[str]) -> str:
        # From a folder of the guide one step up is still the guide.
        target = found[0].partition("](")[2]
        return found[0] if depth and target.startswith(inside) and not target.startswith(inside + "../") else found[1]

    return _OUTSIDE.sub(kept, markdown)
