"""From a line-up to a target: archives and ways, layers, edits, containers, settings, grafts, load order.

Comes in: a session, the line-up, the shelf. Goes out: a target (what belongs at each path, and where its
content comes from), with all that had to be made for it in the pack's work folder. Each archive is read once.
Nothing here changes the game. May import everything but ``change`` and ``actions``.
"""
