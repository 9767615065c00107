"""The choices of a mod's option groups, as a pack or a line-up has them."""

Options = tuple[tuple[str, tuple[str, ...]], ...]
"""Choices by option group."""
