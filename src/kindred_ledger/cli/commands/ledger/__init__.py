"""The commands of `kindred ledger`."""
