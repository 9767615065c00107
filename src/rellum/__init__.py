"""Rellum keeps a modpack: the set of mods, resource packs and patches laid over a game."""

__version__ = "0.1.0"
