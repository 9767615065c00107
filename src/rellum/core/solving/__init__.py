"""From wants and cards to a line-up, with the reasons. Pure: it reads, writes and asks nothing.

In: a Problem (wants, holds, cards, what the game is, the line-up so far). Out: a line-up, or the clauses
that together allow none, with sentences and remedies. May import ``versions`` and ``catalog``.
"""
