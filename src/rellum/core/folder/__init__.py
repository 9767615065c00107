"""The game folder as it is: reading it, knowing what it is, and seeing what changed.

In: the folder, a game sheet, what is known of its files. Out: identity, listings, drift with its causes.
Reads only.
"""
