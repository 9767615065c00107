"""Reading archives of every form. An archive counts as hostile until it has been checked.

In: files from outside. Out: checked members, and their bytes, within stated limits. May import ``versions``
to ``solving``; uses none of them.
"""
