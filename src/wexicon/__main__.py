"""`python -m wexicon` is the command `wexicon`."""

from wexicon.cli.main import main

main()
