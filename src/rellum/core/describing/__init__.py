"""A first card for an archive that no card knows: guesses, each with what it rests on."""
