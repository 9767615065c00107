"""From the files of releases to the files of the game: pure computation on paths, sizes and hashes.

In: members, place rules, options, load order. Out: a target: for each path what belongs there, and who
wins.
"""
