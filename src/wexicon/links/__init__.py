"""Ports that a session drives: serial devices, serial URLs, and an in-memory link under a virtual clock."""
