"""Stand-ins for modules, and what puts a rig of them on ports. Nothing here reads a lexicon."""
