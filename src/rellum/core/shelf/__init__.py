"""The local store of archives: checking, recognising, keeping and reading them.

In: archives. Out: entries by content hash, with what is known of each. Touches the disk below the shelf's
folder only. May import ``archives`` and what stands before it.
"""
