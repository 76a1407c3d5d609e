"""Reaching a module: ports, links, sessions, discovery, attention, and the cause if it does not answer."""
