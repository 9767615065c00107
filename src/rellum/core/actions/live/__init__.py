"""Live with it: what was tried, and how it went."""
