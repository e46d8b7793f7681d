"""The commands about mods, packs and projects."""
