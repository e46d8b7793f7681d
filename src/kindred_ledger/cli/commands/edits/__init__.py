"""The commands about edit sets."""
