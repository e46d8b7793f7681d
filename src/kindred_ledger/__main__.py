"""`python -m kindred_ledger`: the command line."""

from .cli.main import program

program()
