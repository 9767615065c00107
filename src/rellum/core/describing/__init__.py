"""A first card for an archive that no card knows: guesses, each with what it rests on.

In: names, members, the game's places and vanilla files. Out: the text of a card, marked where a person must
look.
"""
