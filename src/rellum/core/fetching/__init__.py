"""Fetching files with patience: resumed, from mirrors in turn, bounded, and checked at the end.

In: addresses with sizes and hashes. Out: files, or a reason for each address. The only package that uses
the network.
"""
