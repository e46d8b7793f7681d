"""The demo: the made-up game Mossferry, its data, and the story told with it."""
