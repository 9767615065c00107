"""Game sheets, cards and trials: what they hold, and how they are read with every fault located.

In: catalog folders. Out: frozen models, and all faults of all files as ``file:line: what``. May import
``versions`` and ``patching``.
"""
