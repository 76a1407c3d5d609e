"""Wexicon provisions radio and positioning modules over a UART; `wexicon.core` is the part without input or output."""

__version__ = "0.1.0"
