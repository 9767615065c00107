"""Fathomline, a made-up game about laying cables on the sea bed, with made-up mods."""
