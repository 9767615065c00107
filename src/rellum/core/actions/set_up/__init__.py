"""Set up: know the game, and begin a pack."""
