"""Fetching files with patience: resumed, from mirrors in turn, and checked at the end."""
