"""The command line: parse, call, draw. No computation."""
