"""Changing the game folder: plan, journal, carrying out, recovery. Nothing else writes there.

In: a target, or another wish (vanilla, a checkpoint, an updated game). Out: a plan; carried out, it is in
the state. ``journal`` has the contract that every crash is held to. May import everything but ``actions``.
"""
