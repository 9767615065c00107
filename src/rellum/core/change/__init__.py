"""Changing the game folder: plan, journal, carrying out, recovery. Nothing else writes there."""
