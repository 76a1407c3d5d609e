"""Stand-ins for modules, and what puts a bench of them on ports. Nothing here reads a lexicon."""
