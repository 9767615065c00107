"""Change the game: see what would change, and lay the line-up."""
