"""Comparing versions, and ranges as sets of intervals.

In: texts, and the ordering that a mod's card names. Out: versions that compare, ranges that can be joined,
cut and complemented, or a syntax error with its position. Pure; imports no other package.
"""
