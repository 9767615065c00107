"""The game folder as it is: reading it, knowing what it is, and seeing what changed."""
