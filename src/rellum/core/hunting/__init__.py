"""The hunt for the mods that break a pack: what to lay next, and what the answers prove.

In: the mods of a pack with what each needs, and answers. Out: the next set to lay, or the culprits. Pure: it
lays nothing, and the same answers always lead to the same questions.
"""
