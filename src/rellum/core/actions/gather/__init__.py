"""Gather: archives, and cards about them."""
