"""`python -m isbjorn`: the command line."""

from isbjorn.cli import main

main()
