"""Live with it: record which line-ups work."""
