"""From wants and cards to a line-up. Pure: it reads nothing, writes nothing, and asks nobody."""
