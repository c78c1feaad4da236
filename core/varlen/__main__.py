"""`python -m varlen` is the command `varlen`."""

from varlen.cli.main import main

main()
