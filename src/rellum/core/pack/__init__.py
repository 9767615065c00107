"""What the curator keeps: rellum.toml, rellum.lock, and the state of the pack in .rellum/.

In: the pack's folder. Out: a Session (the pack opened once, with its rules and places), line-ups,
checkpoints, kept copies, the store of originals. May import everything before it; knows nothing of plans.
"""
