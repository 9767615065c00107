"""Game sheets, cards and trials: their models, and readers that locate every fault.

In: catalog folders. Out: frozen models, and all faults of all files as ``file:line: what``. May import
``versions`` and ``patching``.
"""
