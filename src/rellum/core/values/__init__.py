"""Small frozen types that everything speaks: names, paths in the game, contents, owners.

In: texts from cards, from folders and from the state, checked once. Out: values that nobody splits again. It
imports nothing of Rellum's but ``core.errors`` and ``core.hashing``.
"""
