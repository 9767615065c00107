"""From the files of releases to the files of the game: pure computation on paths, sizes and hashes."""
