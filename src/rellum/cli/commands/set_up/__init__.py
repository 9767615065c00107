"""Set up: identify the game, and start a pack."""
