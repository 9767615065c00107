"""Reading archives of every form: hostile until checked, and then member by member.

In: files from outside. Out: checked members, and their bytes, within stated limits. May import ``versions``
to ``solving``; uses none of them.
"""
