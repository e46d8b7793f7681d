"""`python -m kindred_ledger`: the command line."""

from .cli.main import program

if __name__ == "__main__":
    program()
